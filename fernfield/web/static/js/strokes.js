// A stroke from the pointer to the server: samples go out once a frame, also while the hand is still.
import { send } from "./live.js";
import { say } from "./say.js";
import { brush, on, state, tell, tool } from "./state.js";

const OPPOSITE = { raise: "lower", lower: "raise", smooth: "smooth", flatten: "flatten", paint: "take_away", take_away: "paint", sow: "thin", thin: "sow" };

let began = 0;
/** @type {number[][]} */
let samples = [];
let last = null;

/** Begin a stroke at a spot. @param {{x: number, y: number}} spot @param {boolean} turned use the opposite tool */
export function beginStroke(spot, turned) {
  const name = turned ? OPPOSITE[tool()] : tool();
  const own = brush();
  if (!name || !own) return false;
  const stroke = { tool: name, radius_m: own.radius, softness: own.softness / 100, strength: own.strength };
  if (name === "paint" || name === "take_away") stroke.cover = state.cover;
  if (name === "sow" || name === "thin") stroke.mix = state.mix;
  if (!send({ is: "begin", tract: state.world.tract, stroke })) {
    say("The line to the server is down. Nothing was changed; it is tried again by itself.");
    return false;
  }
  began = performance.now();
  state.began = began;
  samples = [[spot.x, spot.y, 0]];
  last = spot;
  state.drawing = true;
  tell("drawing", name);
  requestAnimationFrame(flow);
  return true;
}

/** The pointer moved, at a time of the event's own clock. */
export function addToStroke(spot, time) {
  if (!state.drawing) return;
  last = spot;
  const seconds = Math.max(0, (time - began) / 1000);
  if (seconds > (samples.at(-1)?.[2] ?? sent)) samples.push([spot.x, spot.y, seconds]);
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
  if (samples.length === 0 && now > sent) samples.push([last.x, last.y, now]);
  flush();
  requestAnimationFrame(flow);
}

function flush() {
  if (samples.length === 0) return;
  sent = samples.at(-1)[2];
  send({ is: "move", samples });
  samples = [];
}

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
on("live:ended", () => acknowledged());
on("live:error", () => acknowledged());

/** The button was let go. @param {boolean} [keepIt] false takes the stroke back */
export function endStroke(keepIt = true) {
  if (!state.drawing) return;
  const now = (performance.now() - began) / 1000;
  if (now > sent && samples.length === 0) samples.push([last.x, last.y, now]);
  flush();
  if (send({ is: keepIt ? "end" : "abandon" }) && keepIt) unkept += 1;
  state.drawing = false;
  sent = 0;
  tell("drawing", null);
  if (!keepIt) tell("taken-back");
}

on("connection", (up) => {
  if (!up) acknowledged(true);
  if (up || !state.drawing) return;
  state.drawing = false;
  sent = 0;
  tell("drawing", null);
  say("The line to the server broke. The stroke up to there is kept.");
});
