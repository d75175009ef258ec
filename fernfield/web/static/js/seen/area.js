// The area in the hand, the one way to say *where* on every stage: the whole tract, a plot, a rectangle, an outline, what a cover covers.
import Alpine from "../kernel/alpine.js";
import { drawOutline } from "./hands/outline.js";
import { row } from "./rows.js";
import { announce, grid, keep, state, watch } from "./state.js";

/** @typedef {import("../types.js").Area} Area */

/** Take an area into the hand. @param {Area} area */
export function setArea(area) {
  state.area = area;
  keep();
  announce("area");
}

const SIDES = [
  ["x0", "West", 0],
  ["x1", "East", 2],
  ["y0", "South", 1],
  ["y1", "North", 3],
];

/** @param {Area} area */
export function areaWords(area) {
  if (area.plot) return `the plot ${row("plots", area.plot)?.name ?? ""}`;
  if (area.cover) return `what ${row("covers", area.cover)?.name ?? area.cover} covers`;
  if (area.outline) return `a drawn outline of ${area.outline.length} points`;
  if (!area.box) return "the whole tract";
  const [x0, y0, x1, y1] = area.box;
  return `a rectangle of ${(x1 - x0).toFixed(0)} by ${(y1 - y0).toFixed(0)} m at E ${x0.toFixed(0)} N ${y0.toFixed(0)}`;
}

// A plot that was deleted, here or by somebody else, is in the hand no more.
watch(
  () => state.at.plots,
  () => state.area.plot && !row("plots", state.area.plot) && setArea({}),
);

Alpine.data("area", () => ({
  get words() {
    return areaWords(state.area);
  },
  get sides() {
    return SIDES.map(([name, words, at]) => ({ name, words, at, value: state.area.box?.[Number(at)] }));
  },
  whole: () => setArea({}),
  again: () => setArea(state.lastArea || {}),
  drawBox: () =>
    drawOutline("box", ([[ax, ay], [bx, by]]) =>
      setArea({ box: [Math.min(ax, bx), Math.min(ay, by), Math.max(ax, bx), Math.max(ay, by)] }),
    ),
  drawFreehand: () => drawOutline("freehand", (points) => setArea({ outline: points })),
  /** @param {Event} event */
  takePlot(event) {
    const { value } = /** @type {HTMLSelectElement} */ (event.target);
    setArea(value ? { plot: value } : {});
  },
  /** @param {Event} event */
  takeCover(event) {
    const { value } = /** @type {HTMLSelectElement} */ (event.target);
    setArea(value ? { cover: value } : {});
  },
  /** @param {Event} event */
  typeSide(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    const sides = [...(state.area.box || [grid.west, grid.south, grid.east, grid.north])];
    sides[Number(field.dataset.side)] = Number(field.value);
    setArea({ box: sides });
  },
}));

document.body.addEventListener("fern:area-worked", () => {
  state.lastArea = { ...state.area };
  keep();
});
