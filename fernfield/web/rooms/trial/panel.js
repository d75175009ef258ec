// The trial: at eye level. The server walks; the page sends wishes and shows where it got to.
import Alpine from "/static/js/kernel/alpine.js";
import { say } from "/static/js/kernel/say.js";
import { meantBy } from "/static/js/kernel/shortcuts.js";
import { hears, send } from "/static/js/seen/live.js";
import { request, stand } from "/static/js/seen/overlook.js";
import { each } from "/static/js/seen/rows.js";
import { actions, clamp, entered, seenTracts, state, tractAt } from "/static/js/seen/state.js";

const EYE_M = 1.65;
const pane = /** @type {HTMLElement} */ (document.getElementById("look"));
const hud = /** @type {HTMLElement} */ (document.getElementById("hud"));
const field = (/** @type {string} */ name) => /** @type {HTMLElement} */ (hud.querySelector(`[data-hud="${name}"]`));

/** What each action asks of the walker: ahead, and to the right. @type {Record<string, [number, number]>} */
const WAYS = { "walk-ahead": [1, 0], "walk-back": [-1, 0], "walk-right": [0, 1], "walk-left": [0, -1] };
const pressed = new Set();
let facing = 0;
let pitch = 0;
let run = false;
let back = "plan";
/** A walk was asked for and has not begun: only then may the next state begin one. */
let expected = false;
let locked = false;
/** Where the server last said the walker is, for tests. @type {any} */
let walker = null;
/** What is shown moves towards the newest state, a little behind. */
/** @type {any} */
let shown = null;
let sendTimer = 0;

/** Walk from a spot, or from the default start when it is null. @param {{x: number, y: number} | null} spot */
function walkFrom(spot) {
  if (state.walking) return;
  back = state.view;
  expected = true;
  // From a spot the walker looks over the tract, not out of it.
  const over = seenTracts.find((one) => one.id === tractAt(spot ?? { x: 0, y: 0 })) || entered;
  const middle = {
    x: over.x + ((over.cols - 1) * over.spacing_m) / 2,
    y: over.y + ((over.rows - 1) * over.spacing_m) / 2,
  };
  const inward = (Math.atan2(middle.x - (spot?.x ?? 0), middle.y - (spot?.y ?? 0)) * 180) / Math.PI;
  const from = spot ? { x: spot.x, y: spot.y, facing: (inward + 360) % 360 } : {};
  if (!send({ is: "walk", ...from })) say("The line to the server is down; the walk could not begin.");
}

hears("no-walk", (message) => {
  expected = false;
  say(message.message);
});

hears("walker", (message) => {
  if (expected && !state.walking) {
    expected = false;
    state.walking = true;
    facing = message.facing;
    pitch = -4;
    shown = null;
    hud.hidden = false;
    state.view = "eye";
    pane.focus();
    requestAnimationFrame(step);
  }
  if (!state.walking) return;
  walker = message;
  state.cursor = { x: message.x, y: message.y };
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
    ahead += WAYS[key][0];
    aside += WAYS[key][1];
  }
  send({
    is: "wish",
    ahead: clamp(ahead, -1, 1),
    aside: clamp(aside, -1, 1),
    facing: ((facing % 360) + 360) % 360,
    run,
  });
}

/** Back to the map as it was. */
function leave() {
  if (!state.walking) return;
  state.walking = false;
  pressed.clear();
  send({ is: "stand" });
  hud.hidden = true;
  stand(null);
  state.cursor = null;
  if (document.pointerLockElement) document.exitPointerLock();
  state.view = back;
  request();
}

/** @param {number} dx @param {number} dy */
function look(dx, dy) {
  facing += dx * 0.18;
  pitch = clamp(pitch - dy * 0.15, -85, 85);
  clearTimeout(sendTimer);
  sendTimer = setTimeout(wish, 15);
}

window.addEventListener(
  "keydown",
  (event) => {
    if (!state.walking) return;
    const name = meantBy(event, ["walk"])?.name;
    if (!name) return;
    event.preventDefault();
    event.stopPropagation();
    if (name === "walk-leave") leave();
    else if (name === "walk-run") run = true;
    else pressed.add(name);
    wish();
  },
  true,
);
window.addEventListener("keyup", (event) => {
  if (!state.walking) return;
  const name = meantBy(event, ["walk"])?.name;
  if (name === "walk-run") run = false;
  else if (!name || !pressed.delete(name)) return;
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
hears("connection", (up) => {
  if (up || !state.walking) return;
  leave();
  say("The line to the server broke; the walk is over.");
});

actions.walk = (spot) => walkFrom(spot ?? null);
window.fern.leave = leave;

Alpine.data("trial", () => ({
  get start() {
    void state.at.things;
    return [...each("things")].find((thing) => thing.sort === "start" && thing.default) || null;
  },
  get words() {
    return `Walk from ${this.start ? this.start.name : "the default start"}`;
  },
  walk: () => walkFrom(null),
}));
