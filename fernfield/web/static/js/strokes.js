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

/** The button was let go. @param {boolean} [keepIt] false takes the stroke back */
export function endStroke(keepIt = true) {
  if (!state.drawing) return;
  const now = (performance.now() - began) / 1000;
  if (now > sent && samples.length === 0) samples.push([last.x, last.y, now]);
  flush();
  send({ is: keepIt ? "end" : "abandon" });
  state.drawing = false;
  sent = 0;
  tell("drawing", null);
}

on("connection", (up) => {
  if (up || !state.drawing) return;
  state.drawing = false;
  sent = 0;
  tell("drawing", null);
  say("The line to the server broke. The stroke up to there is kept.");
});
