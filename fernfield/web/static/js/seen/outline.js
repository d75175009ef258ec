// Drawing on the map by clicks or by hand: the corners of a plot, a line of the section, a rectangle, an outline, a place.
import { actions, state, watch } from "./state.js";

/** @typedef {"plot" | "line" | "place" | "box" | "freehand"} Sort */
/** @type {{sort: Sort, points: number[][], done: (points: number[][]) => void} | null} */
let drawing = null;
let free = false;
const asks = /** @type {HTMLElement} */ (document.getElementById("asks"));
/** @type {Record<Sort, string>} */
const WORDS = {
  plot: "Click the corners of the plot; the last one twice, or Enter, closes it. Esc lets go.",
  line: "Click along the line; the last point twice, or Enter, ends it. Esc lets go.",
  box: "Click two corners of the rectangle. Esc lets go.",
  place: "Click the place on the map. Esc lets go.",
  freehand: "Draw the outline with the button held down; letting go closes it. Esc lets go.",
};
const LEAST = { plot: 3, line: 2, box: 2, place: 1, freehand: 3 };
/** Points of a drawn outline lie so far apart at least. [m] */
const GAP_M = 2;
const MOST = 1500;

export const active = () => drawing !== null;
export const points = () => drawing;
/** Counts up as it is drawn, for what draws it. */
const drawn = { count: 0 };
export const outlineAt = () => drawn.count;

/** @type {() => void} */
let changed = () => {};
/** @param {() => void} act */
export const onOutline = (act) => {
  changed = act;
};

/** Begin to draw; `done` gets the points in metres. @param {Sort} sort @param {(points: number[][]) => void} done */
export function drawOutline(sort, done) {
  drawing = { sort, points: [], done };
  free = false;
  asks.textContent = WORDS[sort];
  asks.hidden = false;
  document.getElementById("flat")?.focus({ preventScroll: true });
  changed();
}

/** @param {boolean} keep */
function end(keep) {
  const was = drawing;
  if (!was) return;
  const least = LEAST[was.sort];
  if (keep && was.points.length < least) {
    asks.textContent = `${least} points at least are needed; there ${was.points.length === 1 ? "is 1" : `are ${was.points.length}`}. ${WORDS[was.sort]}`;
    return;
  }
  drawing = null;
  asks.hidden = true;
  changed();
  if (keep) was.done(was.points);
}
actions["end-outline"] = () => end(true);
actions["drop-outline"] = () => end(false);

/** @param {{x: number, y: number}} spot @returns {[number, number]} */
const inside = (spot) => [
  Math.round(Math.min(Math.max(spot.x, 0), state.world.width_m) * 100) / 100,
  Math.round(Math.min(Math.max(spot.y, 0), state.world.depth_m) * 100) / 100,
];

/** The left button on the plan; true when a point was set. @param {{x: number, y: number}} spot */
export function down(spot) {
  if (!drawing) return false;
  const [x, y] = inside(spot);
  if (drawing.sort === "freehand") {
    free = true;
    drawing.points = [[x, y]];
    changed();
    return true;
  }
  const last = drawing.points.at(-1);
  const twice = last && Math.hypot(last[0] - x, last[1] - y) < 0.5;
  if (!twice) drawing.points.push([x, y]);
  if (twice || drawing.sort === "place" || (drawing.sort === "box" && drawing.points.length === 2)) end(true);
  changed();
  return true;
}

/** The hand goes on. @param {{x: number, y: number}} spot */
export function move(spot) {
  if (!drawing || !free) return;
  const [x, y] = inside(spot);
  const last = drawing.points.at(-1);
  if (last && Math.hypot(last[0] - x, last[1] - y) < GAP_M) return;
  if (drawing.points.length < MOST) drawing.points.push([x, y]);
  changed();
}

export function up() {
  if (!free) return;
  free = false;
  end(true);
}
watch(
  () => state.stage,
  () => end(false),
);
