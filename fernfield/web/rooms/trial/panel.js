// The trial: at eye level. The server walks; the page sends wishes and shows where it got to.
import Alpine from "/static/js/kernel/alpine.js";
import { closed, opened } from "/static/js/kernel/layers.js";
import { say } from "/static/js/kernel/say.js";
import { meantBy } from "/static/js/kernel/shortcuts.js";
import { tell } from "/static/js/kernel/tell.js";
import { waitFor } from "/static/js/kernel/waits.js";
import "./bots.js";
import "./fair.js";
import "./gets.js";
import { ACTS, begun, heard, measured, over } from "./hud.js";
import "./kept.js";
import "./sight.js";
import { hears, send } from "/static/js/seen/live.js";
import { request, stand } from "/static/js/seen/drawn/overlook.js";
import { each } from "/static/js/seen/rows.js";
import { actions, clamp, entered, seenTracts, state, tractAt, watch } from "/static/js/seen/state.js";

/** From behind, the eye is so far back and so far up, by the body that is seen. [m] @type {Record<string, [number, number]>} */
const BEHIND_M = { person: [4.5, 0.8], boat: [8, 2], vehicle: [8, 2] };
const BODIES = { boat: "boat", cart: "vehicle" };
const walkerOf = () => state.show.walker ?? "person";
const pane = /** @type {HTMLElement} */ (document.getElementById("look"));
const hud = /** @type {HTMLElement} */ (document.getElementById("hud"));

/** What each action asks of the walker: ahead, and to the right. @type {Record<string, [number, number]>} */
const WAYS = { "walk-ahead": [1, 0], "walk-back": [-1, 0], "walk-right": [0, 1], "walk-left": [0, -1] };
/** How each turns the eye: to the right, and up. @type {Record<string, [number, number]>} */
const LOOKS = {
  "walk-turn-right": [1, 0],
  "walk-turn-left": [-1, 0],
  "walk-look-up": [0, 1],
  "walk-look-down": [0, -1],
};
/** How fast keys and buttons turn it. [°/s] */
const TURN_DEG_S = 90;
/** @type {Set<string>} */
const pressed = new Set();
let facing = 0;
let pitch = 0;
let run = false;
let back = "plan";
/** A walk was asked for and has not begun: only then may the next state begin one. */
let expected = false;
let locked = false;
let behind = false;
const own = Alpine.reactive({ plays: true });
/** Where a walk was when the line broke: it goes on from there. @type {any} */
let broken = null;
/** Where the walk under way began, as it was asked for. @type {any} */
let began0 = null;
/** Where the server last said the walker is, for tests. @type {any} */
let walker = null;
/** What is shown moves towards the newest state, a little behind. */
/** @type {any} */
let shown = null;
let sendTimer = 0;

/** Walk from a spot, or from the default start when it is null. @param {{x: number, y: number, facing?: number} | null} spot */
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
  const from = {
    ...(spot ? { x: spot.x, y: spot.y, facing: spot.facing ?? (inward + 360) % 360 } : {}),
    ...(state.show.tide ? { tide: state.show.tide } : {}),
    walker: walkerOf(),
    plays: own.plays,
  };
  begin(from);
}

/** @param {Record<string, any>} from as the server is asked */
function begin(from) {
  began0 = from;
  if (!send({ is: "walk", ...from })) {
    say("The line to the server is down; the walk could not begin.");
    return;
  }
  began?.();
  began = waitFor("Looking around the walker", () => {
    expected = false;
    began?.();
    send({ is: "stand" });
  });
}
/** Called when the walk that was asked for has begun, or will not. @type {(() => void) | null} */
let began = null;

hears("no-walk", (message) => {
  began?.();
  expected = false;
  say(message.message);
});

hears("walker", (message) => {
  if (expected && !state.walking) {
    began?.();
    expected = false;
    state.walking = true;
    facing = message.facing;
    pitch = -4;
    shown = null;
    begun();
    state.view = "eye";
    pane.focus();
    opened("walk", leave);
    tell("You are walking. W A S D or the up and down arrows walk, left and right turn, Escape leaves.");
    requestAnimationFrame(step);
  }
  if (!state.walking) return;
  walker = message;
  if (state.cursor?.x !== message.x || state.cursor?.y !== message.y) state.cursor = { x: message.x, y: message.y };
  window.fern.walker = message;
  heard(message);
});

const bodyOf = () => BODIES[/** @type {keyof typeof BODIES} */ (walkerOf())] ?? "person";
/** Others who walk near, what is measured, and the walker itself when it is seen from behind. */
function bodies() {
  const others = walker.others.map((/** @type {any} */ one) => ({ ...one, sort: "person" }));
  const sort = bodyOf();
  const own = { sort, x: shown.x, y: shown.y, z: shown.z, facing, size: sort === "person" ? shown.eye / 1.65 : 1 };
  const now = [...others, ...measured(), ...(behind ? [own] : [])];
  if (now.length || state.walkers.length) state.walkers = now;
}

let before = 0;
/** @param {number} now */
function step(now) {
  if (!state.walking) return;
  turnByKeys(Math.min((now - before) / 1000, 0.1));
  before = now;
  if (walker) {
    if (!shown) shown = { ...walker };
    // Who was brought elsewhere is there at once.
    if (Math.hypot(walker.x - shown.x, walker.y - shown.y) > 8) shown = { ...walker };
    for (const name of ["x", "y", "z", "eye"]) shown[name] += (walker[name] - shown[name]) * 0.35;
    bodies();
    const turn = (facing * Math.PI) / 180;
    const [back, up] = behind ? BEHIND_M[bodyOf()] : [0, 0];
    const [x, y] = [shown.x - Math.sin(turn) * back, shown.y - Math.cos(turn) * back];
    const ground = behind ? (window.fern.overlook.parts.land.heightAt(x, y) ?? -1e9) : -1e9;
    stand({ x, y, z: Math.max(shown.z + shown.eye + up, ground + 0.5), facing, pitch });
  }
  requestAnimationFrame(step);
}

/** Keys that are held turn the eye on. @param {number} seconds */
function turnByKeys(seconds) {
  let [right, up] = [0, 0];
  for (const name of pressed) {
    right += LOOKS[name]?.[0] ?? 0;
    up += LOOKS[name]?.[1] ?? 0;
  }
  if (!right && !up) return;
  facing += right * TURN_DEG_S * seconds;
  pitch = clamp(pitch + (up * TURN_DEG_S * seconds) / 2, -85, 85);
  window.fern.facing = facing;
  clearTimeout(sendTimer);
  sendTimer = setTimeout(wish, 15);
}

function wish() {
  let ahead = 0;
  let aside = 0;
  for (const key of pressed) {
    ahead += WAYS[key]?.[0] ?? 0;
    aside += WAYS[key]?.[1] ?? 0;
  }
  send({
    is: "wish",
    ahead: clamp(ahead, -1, 1),
    aside: clamp(aside, -1, 1),
    facing: ((facing % 360) + 360) % 360,
    run,
    jump: pressed.has("walk-jump"),
    crouch: pressed.has("walk-crouch"),
  });
}

/** Back to the map as it was. */
function leave() {
  if (!state.walking) return;
  state.walking = false;
  closed("walk");
  pressed.clear();
  send({ is: "stand" });
  tell("The walk is over.");
  over();
  stand(null);
  state.cursor = null;
  if (document.pointerLockElement) document.exitPointerLock();
  state.view = back;
  request();
  // Back to the map on which it began, once it is shown.
  const map = document.getElementById(back === "overlook" ? "look" : "flat");
  Alpine.nextTick(() => map?.focus({ preventScroll: true }));
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
    else if (ACTS[name]) {
      if (!event.repeat) ACTS[name]();
      return;
    } else if (name === "walk-behind") {
      if (!event.repeat) behind = !behind;
      return;
    } else if (name === "walk-anew") {
      if (!event.repeat) anew();
      return;
    }
    if (name === "walk-run") run = true;
    else if (pressed.has(name)) return;
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
  if (!state.walking || event.button !== 0 || /** @type {Element} */ (event.target).closest("button")) return;
  pane.setPointerCapture(event.pointerId);
  last = [event.clientX, event.clientY];
  // A finger drags; only a mouse can be held fast.
  if (event.pointerType === "mouse") pane.requestPointerLock?.()?.catch?.(() => {});
});
let last = [0, 0];
pane.addEventListener("pointermove", (event) => {
  if (!state.walking || !(locked || event.buttons & 1)) return;
  if (/** @type {Element} */ (event.target).closest("button")) return;
  const [dx, dy] = locked ? [event.movementX, event.movementY] : [event.clientX - last[0], event.clientY - last[1]];
  last = [event.clientX, event.clientY];
  look(dx, dy);
});
document.addEventListener("pointerlockchange", () => {
  const now = document.pointerLockElement === pane;
  // The browser's own Escape ends the lock: that is the way back too.
  if (locked && !now) leave();
  locked = now;
});
// The same on the screen, for fingers: a button works as long as it is held.
for (const button of /** @type {NodeListOf<HTMLElement>} */ (hud.querySelectorAll("[data-walks]"))) {
  const name = button.dataset.walks || "";
  const lift = () => pressed.delete(name) && wish();
  button.addEventListener("pointerdown", (event) => {
    event.preventDefault();
    button.setPointerCapture(event.pointerId);
    pressed.add(name);
    wish();
  });
  for (const what of ["pointerup", "pointercancel", "lostpointercapture"]) button.addEventListener(what, lift);
}
hud.querySelector("[data-leave]")?.addEventListener("click", () => leave());
// Whoever goes to another stage has left.
watch(
  () => state.stage,
  () => leave(),
);
hears("connection", (up) => {
  if (up && broken) {
    const from = broken;
    broken = null;
    begin(from);
  }
  if (up || !state.walking) return;
  const { x, y, over: over_m } = walker;
  leave();
  broken = { ...began0, x, y, over_m, facing: ((facing % 360) + 360) % 360 };
  say("The line to the server broke; the walk goes on when it is back.");
});

/** The same walk from its beginning. */
function anew() {
  if (!began0) return;
  pressed.clear();
  shown = null;
  walker = null;
  begun();
  send({ is: "walk", ...began0 });
}

actions.walk = (spot) => {
  broken = null;
  walkFrom(spot ?? null);
};
window.fern.leave = leave;

Alpine.data("trial", () => ({
  get start() {
    void state.at.things;
    return [...each("things")].find((thing) => thing.sort === "start" && thing.default) || null;
  },
  get walker() {
    return walkerOf();
  },
  get plays() {
    return own.plays;
  },
  /** @param {Event} event */
  setPlays(event) {
    own.plays = /** @type {HTMLInputElement} */ (event.target).checked;
  },
  get words() {
    return `Walk from ${this.start ? this.start.name : "the default start"}`;
  },
  walk: () => walkFrom(null),
}));
