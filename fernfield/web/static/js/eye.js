// The trial: at eye level. The server walks; the page sends wishes and shows where it got to.
import { send } from "./live.js";
import { request, stand } from "./overlook.js";
import { say } from "./say.js";
import { clamp, on, state, tell } from "./state.js";

const EYE_M = 1.65;
const pane = document.getElementById("look");
const hud = document.getElementById("hud");
const field = (name) => hud.querySelector(`[data-hud="${name}"]`);

const KEYS = { w: [1, 0], s: [-1, 0], d: [0, 1], a: [0, -1], ArrowUp: [1, 0], ArrowDown: [-1, 0], ArrowRight: [0, 1], ArrowLeft: [0, -1] };
const pressed = new Set();
let facing = 0;
let pitch = 0;
let run = false;
let back = "plan";
let setView = null;
/** A walk was asked for and has not begun: only then may the next state begin one. */
let expected = false;
let locked = false;
/** Where the server last said the walker is, for tests. @type {any} */
let walker = null;
/** What is shown moves towards the newest state, a little behind. */
let shown = null;
let sendTimer = 0;

/** Walk from a spot, or from the default start when it is null. */
export function walkFrom(spot, viewSetter) {
  if (state.walking) return;
  setView = viewSetter;
  back = state.view;
  expected = true;
  // From a spot the walker looks over the tract, not out of it.
  const { width_m, depth_m } = state.world;
  const inward = (Math.atan2(width_m / 2 - (spot?.x ?? 0), depth_m / 2 - (spot?.y ?? 0)) * 180) / Math.PI;
  const from = spot ? { x: spot.x, y: spot.y, facing: (inward + 360) % 360 } : {};
  if (!send({ is: "walk", ...from })) say("The line to the server is down; the walk could not begin.");
}

on("live:no-walk", (message) => {
  expected = false;
  say(message.message);
});

on("live:walker", (message) => {
  if (expected && !state.walking) {
    expected = false;
    state.walking = true;
    facing = message.facing;
    pitch = -4;
    shown = null;
    hud.hidden = false;
    setView("eye");
    pane.focus();
    requestAnimationFrame(step);
  }
  if (!state.walking) return;
  walker = message;
  state.cursor = { x: message.x, y: message.y };
  tell("cursor");
  window.fern.walker = message;
  field("z").textContent = `${message.z.toFixed(2).replace("-", "−")} m`;
  field("speed").textContent = `${message.speed.toFixed(1)} m/s`;
  field("slope").textContent = `${message.slope.toFixed(0).replace("-", "−")}°`;
  const slowed = message.water > 0.05 && !message.blocked ? `wading, ${message.water.toFixed(1)} m deep` : "";
  field("blocked").textContent = message.blocked ? `stopped by ${message.blocked}` : slowed;
});

function step() {
  if (!state.walking) return;
  if (walker) {
    if (!shown) shown = { ...walker };
    for (const name of ["x", "y", "z"]) shown[name] += (walker[name] - shown[name]) * 0.35;
    stand({ x: shown.x, y: shown.y, z: shown.z + EYE_M, facing, pitch });
  }
  requestAnimationFrame(step);
}

function wish() {
  let ahead = 0;
  let aside = 0;
  for (const key of pressed) {
    ahead += KEYS[key][0];
    aside += KEYS[key][1];
  }
  send({ is: "wish", ahead: clamp(ahead, -1, 1), aside: clamp(aside, -1, 1), facing: ((facing % 360) + 360) % 360, run });
}

/** Back to the map as it was. */
export function leave() {
  if (!state.walking) return;
  state.walking = false;
  pressed.clear();
  send({ is: "stand" });
  hud.hidden = true;
  stand(null);
  state.cursor = null;
  tell("cursor");
  if (document.pointerLockElement) document.exitPointerLock();
  setView(back);
  request();
}

function look(dx, dy) {
  facing += dx * 0.18;
  pitch = clamp(pitch - dy * 0.15, -85, 85);
  clearTimeout(sendTimer);
  sendTimer = setTimeout(wish, 15);
}

window.addEventListener("keydown", (event) => {
  if (!state.walking) return;
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  if (event.key === "Escape") {
    leave();
  } else if (event.key === "Shift") {
    run = true;
    wish();
  } else if (KEYS[key]) {
    if (!pressed.has(key)) {
      pressed.add(key);
      wish();
    }
  } else return;
  event.preventDefault();
  event.stopPropagation();
}, true);
window.addEventListener("keyup", (event) => {
  if (!state.walking) return;
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  if (event.key === "Shift") run = false;
  else if (!pressed.delete(key)) return;
  wish();
});
window.addEventListener("blur", () => {
  pressed.clear();
  if (state.walking) wish();
});

pane.addEventListener("pointerdown", (event) => {
  if (!state.walking || event.button !== 0) return;
  pane.setPointerCapture(event.pointerId);
  pane.requestPointerLock?.()?.catch?.(() => {});
});
pane.addEventListener("pointermove", (event) => {
  if (state.walking && (locked || event.buttons & 1)) look(event.movementX, event.movementY);
});
document.addEventListener("pointerlockchange", () => {
  const now = document.pointerLockElement === pane;
  // The browser's own Escape ends the lock: that is the way back too.
  if (locked && !now) leave();
  locked = now;
});
on("connection", (up) => {
  if (up || !state.walking) return;
  leave();
  say("The line to the server broke; the walk is over.");
});
