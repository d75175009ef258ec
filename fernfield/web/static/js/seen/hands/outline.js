// Drawing on the map by clicks or by hand: the corners of a plot, a line of the section, a rectangle, an outline, a place.
import { closeDrawers, closed, opened } from "../../kernel/layers.js";
import { metresPerPixel } from "../drawn/plan.js";
import { tell } from "../../kernel/tell.js";
import { actions, inShown, state, watch } from "../state.js";

/** @typedef {"plot" | "line" | "place" | "box" | "freehand" | "shape"} Sort */
/** @type {{sort: Sort, points: number[][], done: (points: number[][]) => void, dropped?: () => void} | null} */
let drawing = null;
let free = false;
const asks = /** @type {HTMLElement} */ (document.getElementById("asks"));
/** @type {Record<Sort, string>} */
const WORDS = {
  plot: "Click the corners of the plot; the last one again closes it. By keys: Enter sets a corner, Enter in the same place closes. Esc lets go.",
  line: "Click along the line; the last point again ends it. By keys: Enter sets a point, Enter in the same place ends it. Esc lets go.",
  box: "Click two corners of the rectangle. Esc lets go.",
  place: "Click the place on the map. Esc lets go.",
  shape: "Drag the plot, or one of its corners; Enter, or a click beside it, keeps it. Esc lets go.",
  freehand: "Draw the outline with the button held down; letting go closes it. Esc lets go.",
};
/** What a press sets of each. @type {Record<Sort, string>} */
const NAMES = { plot: "Corner", line: "Point", box: "Corner", place: "Place", shape: "Corner", freehand: "Point" };
const LEAST = { plot: 3, line: 2, box: 2, place: 1, freehand: 3, shape: 3 };
/** How near to a corner a press takes it. [px] */
const NEAR = 10;
/** What is dragged of a shape: its corner, or all of it (-1); and where the hand was. @type {{corner: number, at: number[]} | null} */
let held = null;
/** Points of a drawn outline lie so far apart at least. [m] */
const GAP_M = 2;
const MOST = 1500;

export const active = () => drawing !== null;
/** Whether a shape is held, or an outline is being drawn by hand. */
export const grasped = () => held !== null || free;
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

/**
 * Begin to draw; `done` gets the points in metres, and `dropped` is told when it was let go.
 * @param {Sort} sort @param {(points: number[][]) => void} done @param {number[][]} from what there is of it already @param {() => void} [dropped]
 */
export function drawOutline(sort, done, from = [], dropped = undefined) {
  drawing = { sort, points: from.map((point) => [...point]), done, dropped };
  free = false;
  held = null;
  asks.textContent = WORDS[sort];
  asks.hidden = false;
  document.getElementById("flat")?.focus({ preventScroll: true });
  closeDrawers();
  opened("outline", () => end(false));
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
  closed("outline");
  changed();
  if (keep) was.done(was.points);
  else was.dropped?.();
  if (keep && was.points.length > 1) tell(`Closed with ${was.points.length} points`);
  else if (!keep) tell("Let go");
}
actions["end-outline"] = () => end(true);

/** @param {{x: number, y: number}} spot @returns {[number, number]} */
function inside(spot) {
  const { x, y } = inShown(spot);
  return [Math.round(x * 100) / 100, Math.round(y * 100) / 100];
}

/** Whether a spot lies within corners: a ray to the east crosses an odd number of sides. @param {number[][]} points @param {number[]} spot */
export function within(points, [x, y]) {
  return (
    points.filter(([ax, ay], k) => {
      const [bx, by] = points[(k + 1) % points.length];
      return ay > y !== by > y && x < ax + ((y - ay) / (by - ay)) * (bx - ax);
    }).length %
      2 ===
    1
  );
}

/** Take a corner, or all of a shape; a press beside it keeps it. @param {number[]} spot */
function grasp(spot) {
  const { points } = /** @type {NonNullable<typeof drawing>} */ (drawing);
  const away = points.map(([x, y]) => Math.hypot(x - spot[0], y - spot[1]) / metresPerPixel());
  const nearest = away.indexOf(Math.min(...away));
  if (away[nearest] <= NEAR) held = { corner: nearest, at: spot };
  else if (within(points, spot)) held = { corner: -1, at: spot };
  else end(true);
}

/** @param {number[]} spot */
function drag(spot) {
  const shape = /** @type {NonNullable<typeof drawing>} */ (drawing);
  const { corner, at } = /** @type {NonNullable<typeof held>} */ (held);
  shape.points = shape.points.map(([x, y], k) =>
    corner === -1 || corner === k ? [x + spot[0] - at[0], y + spot[1] - at[1]] : [x, y],
  );
  held = { corner, at: spot };
  changed();
}

/** The left button on the plan; true when a point was set. @param {{x: number, y: number}} spot */
export function down(spot) {
  if (!drawing) return false;
  const [x, y] = inside(spot);
  if (drawing.sort === "shape") {
    grasp([x, y]);
    return true;
  }
  if (drawing.sort === "freehand") {
    free = true;
    drawing.points = [[x, y]];
    changed();
    return true;
  }
  const last = drawing.points.at(-1);
  const twice = last && Math.hypot(last[0] - x, last[1] - y) < 0.5;
  if (!twice) {
    drawing.points.push([x, y]);
    if (drawing.sort !== "place") tell(`${NAMES[drawing.sort]} ${drawing.points.length} set`);
  }
  if (twice || drawing.sort === "place" || (drawing.sort === "box" && drawing.points.length === 2)) end(true);
  changed();
  return true;
}

/** The hand goes on. @param {{x: number, y: number}} spot */
export function move(spot) {
  if (drawing && held) drag(inside(spot));
  if (!drawing || !free) return;
  const [x, y] = inside(spot);
  const last = drawing.points.at(-1);
  if (last && Math.hypot(last[0] - x, last[1] - y) < GAP_M) return;
  if (drawing.points.length < MOST) drawing.points.push([x, y]);
  changed();
}

/** @param {boolean} [keep] false: what was drawn by hand so far goes, and may be drawn anew */
export function up(keep = true) {
  held = null;
  if (!free) return;
  free = false;
  if (keep) end(true);
  else if (drawing) drawing.points = [];
  changed();
}
watch(
  () => state.stage,
  () => end(false),
);
