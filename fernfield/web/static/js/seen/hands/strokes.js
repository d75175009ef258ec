// A stroke from the pointer to the server: samples go out once a frame, also while the hand is still.
import { hears, send } from "../live.js";
import { ask, say } from "../../kernel/say.js";
import { row, subject } from "../rows.js";
import { brush, lays, state, TOOLS, tool, tractAt } from "../state.js";

/** A stroke without its path, as the API has it. @param {string} name the tool; the brush is the present one */
function strokeOf(name) {
  const own = /** @type {import("../../types.js").Brush} */ (brush());
  const what = TOOLS[name];
  // Roughen's opposite is Smooth: that has settings of its own.
  const settings = (state.brushes[name] || own).own || {};
  /** @type {Record<string, any>} */
  const stroke = { tool: name };
  if (!what.whole_path)
    Object.assign(stroke, {
      radius_m: own.radius,
      softness: own.softness / 100,
      strength: what.unit === TOOLS[tool()].unit ? own.strength : state.brushes[name].strength,
    });
  for (const { name: field } of what.settings)
    if (settings[field] !== null && settings[field] !== "") stroke[field] = settings[field];
  if (what.whole_path) stroke.turn_deg = own.turn_deg;
  else {
    Object.assign(stroke, { shape: own.shape, turn_by: own.turn_by, turn_deg: own.turn_deg });
    if (own.tip) stroke.tip = own.tip;
  }
  if (state.keepTo) stroke.keep_to = state.keepTo;
  if (what.subject) stroke[what.subject] = subject(what.subject);
  if (what.subject === "mix") {
    const kinds = row("mixes", stroke.mix)?.kinds ?? [];
    const on = kinds.filter(
      (/** @type {import("../../types.js").Answers["Part"]} */ one) => !state.kindsOff.includes(one.kind),
    );
    if (on.length < kinds.length)
      stroke.kinds = on.map((/** @type {import("../../types.js").Answers["Part"]} */ one) => one.kind);
  }
  if (state.sheet && what.sheeted) stroke.sheet = state.sheet;
  return stroke;
}

/** Where the hand of the stroke under way has been. @type {number[][]} */
export const trail = [];
let began = 0;
/** @type {number[][]} */
let samples = [];
/** @type {any} */
let last = null;
let pressed = 1;

/** Begin a stroke at a spot. @param {{x: number, y: number}} spot @param {boolean} turned use the opposite tool @param {number} [press] of a pen @param {number} [since] when it began, on the clock of events */
export function beginStroke(spot, turned, press = 1, since = performance.now()) {
  const name = turned ? TOOLS[tool()]?.opposite : tool();
  if (!name || !brush()) return false;
  if (state.past !== null) {
    say("This is the past: go back to the present to work on the land.", "calm");
    return false;
  }
  const stroke = strokeOf(name);
  if (!send({ is: "begin", tract: tractAt(spot), stroke })) {
    say("The line to the server is down. Nothing was changed; it is tried again by itself.");
    return false;
  }
  began = since;
  state.began = began;
  samples = [[spot.x, spot.y, 0, press]];
  trail.splice(0, trail.length, [spot.x, spot.y]);
  pressed = press;
  state.progress = null;
  last = spot;
  state.drawing = lastTool = name;
  state.line = "drawing";
  requestAnimationFrame(flow);
  return true;
}

/** How hard a pen is pressed; anything else is pressed as hard as can be. */
export const pressOf = (/** @type {any} */ event) =>
  event.pointerType === "pen" && event.pressure > 0 ? event.pressure : 1;

/** The pointer moved, at a time of the event's own clock. @param {{x: number, y: number}} spot @param {number} time */
export function addToStroke(spot, time, press = 1) {
  if (!state.drawing) return;
  last = spot;
  pressed = press;
  trail.push([spot.x, spot.y]);
  const seconds = Math.max(0, (time - began) / 1000);
  if (seconds > (samples.at(-1)?.[2] ?? sent)) samples.push([spot.x, spot.y, seconds, press]);
  // At once, and all samples of one event together.
  if (!flushing) {
    flushing = true;
    queueMicrotask(() => {
      flushing = false;
      flush();
    });
  }
}
let flushing = false;

let sent = 0;
function flow() {
  if (!state.drawing) return;
  const now = (performance.now() - began) / 1000;
  // What is laid along a path changes only when the hand moves; a brush works on while it is held. Twice a second it is laid anew all the same, with the last of the path.
  if (samples.length === 0 && now > sent + (lays() ? 0.5 : 0)) samples.push([last.x, last.y, now, pressed]);
  flush();
  requestAnimationFrame(flow);
}

function flush() {
  if (samples.length === 0) return;
  sent = samples[samples.length - 1][2];
  send({ is: "move", samples });
  samples = [];
}

/** The tool of the last stroke. */
let lastTool = "";
/** Ended strokes that the server has not acknowledged, and who waits for that. */
let unkept = 0;
/** @type {(() => void)[]} */
let waiting = [];

/** Wait until what was drawn here is kept: an undo asked for before that must not overtake it. */
export function strokesKept() {
  return unkept === 0 ? Promise.resolve() : new Promise((done) => waiting.push(() => done(undefined)));
}

function acknowledged(all = false) {
  unkept = all ? 0 : Math.max(0, unkept - 1);
  if (unkept > 0) return;
  for (const go of waiting) go();
  waiting = [];
}
hears("progress", (message) => {
  if (!state.drawing) return;
  state.progress = message;
});
hears("ended", () => acknowledged());
hears("error", () => acknowledged());

/** The button was let go. @param {boolean} [keepIt] false takes the stroke back */
export function endStroke(keepIt = true) {
  if (!state.drawing) return;
  const now = (performance.now() - began) / 1000;
  if (now > sent && samples.length === 0) samples.push([last.x, last.y, now, pressed]);
  flush();
  if (send({ is: keepIt ? "end" : "abandon" }) && keepIt) unkept += 1;
  state.drawing = "";
  sent = 0;
  if (!keepIt) state.line = "kept";
}

/** A stroke of which nobody knows whether it is kept: what it was, and the last revision before it. @type {{label: string, after: number} | null} */
let doubtful = null;

hears("connection", async (up) => {
  if (!up) {
    const waits = unkept > 0;
    acknowledged(true);
    if (!state.drawing && !waits) return;
    const label = TOOLS[state.drawing || lastTool]?.label || "The stroke";
    doubtful ??= { label, after: state.world.revision };
    state.drawing = "";
    sent = 0;
    say(`The line to the server broke. Whether ${label} up to there is kept is known when the line is back.`);
    return;
  }
  if (!doubtful) return;
  const { label, after } = doubtful;
  const found = await ask(`/api/worlds/${state.world.id}/revisions`);
  if (!found) return;
  doubtful = null;
  const since = found.filter(
    (/** @type {import("../../types.js").Answers["Step"]} */ one) => one.number > after && one.words.startsWith(label),
  );
  if (since.length) say(`The line is back: ${label} is kept up to where it broke, as r${since.at(-1).number}.`, "calm");
  else say(`The line is back: ${label} is not kept. The land is as it was before it.`);
});
