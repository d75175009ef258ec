// Drawing on the plan by clicks: the corners of a plot, a line of the section, or one place.
import { on, state, tell } from "./state.js";

/** @type {{sort: "plot" | "line" | "place" | "box", points: number[][], done: (points: number[][]) => void} | null} */
let drawing = null;
const asks = document.getElementById("asks");
const WORDS = {
  plot: "Click the corners of the plot; the last one twice, or Enter, closes it. Esc lets go.",
  line: "Click along the line; the last point twice, or Enter, ends it. Esc lets go.",
  box: "Click two corners of the rectangle. Esc lets go.",
  place: "Click the place on the map. Esc lets go.",
};

export const active = () => drawing !== null;
export const points = () => drawing;

/** Begin to draw; `done` gets the points in metres. @param {"plot" | "line" | "place" | "box"} sort @param {(points: number[][]) => void} done */
export function drawOutline(sort, done) {
  drawing = { sort, points: [], done };
  asks.textContent = WORDS[sort];
  asks.hidden = false;
  document.getElementById("flat").focus({ preventScroll: true });
  tell("outline");
}

function end(keep) {
  const was = drawing;
  if (!was) return;
  const least = { plot: 3, line: 2, box: 2, place: 1 }[was.sort];
  if (keep && was.points.length < least) {
    asks.textContent = `${least} points at least are needed; there ${was.points.length === 1 ? "is 1" : `are ${was.points.length}`}. ${WORDS[was.sort]}`;
    return;
  }
  drawing = null;
  asks.hidden = true;
  tell("outline");
  if (keep) was.done(was.points);
}

/** The left button on the plan; true when a point was set. */
export function down(spot) {
  if (!drawing) return false;
  const x = Math.round(Math.min(Math.max(spot.x, 0), state.world.width_m) * 100) / 100;
  const y = Math.round(Math.min(Math.max(spot.y, 0), state.world.depth_m) * 100) / 100;
  const last = drawing.points.at(-1);
  const twice = last && Math.hypot(last[0] - x, last[1] - y) < 0.5;
  if (!twice) drawing.points.push([x, y]);
  if (twice || drawing.sort === "place" || (drawing.sort === "box" && drawing.points.length === 2)) end(true);
  tell("outline");
  return true;
}

// Before the page's own keys: Enter and Esc mean the outline while one is drawn.
document.addEventListener("keydown", (event) => {
  if (!drawing || (event.key !== "Enter" && event.key !== "Escape")) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  end(event.key === "Enter");
}, { capture: true });
on("stage", () => end(false));
