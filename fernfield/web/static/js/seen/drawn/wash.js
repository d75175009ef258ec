// A wash of water over the plan that is not kept: a shore while the sea is dragged, a level or a flood that is tried.
import { reach } from "../../kernel/say.js";
import { addMark, drawOverlay } from "./overlay.js";
import { postsInView, screenOf } from "./plan.js";
import { grid, heed, landApi, state } from "../state.js";

/** Posts along the longer side of what is asked for. */
const MOST = 700;
/** Water that is less deep than this is not shown. [m] */
const LEAST_M = 0.02;

/** What is shown; `view`: the posts in view when it was asked for, null where it is of more than that.
 * @type {{picture: HTMLCanvasElement, row0: number, col0: number, rows: number, cols: number, step: number, what: string, view: number[] | null} | null} */
let wash = null;
/** What is asked for, and what is to be asked for after that: the last one counts. */
let asking = 0;
/** @type {{what: string, told?: (answer: Response) => void} | null} */
let next = null;

export const clearWash = () => {
  asking += 1;
  next = null;
  wash = null;
  drawOverlay();
};
export const washed = () => wash !== null;

/**
 * Show water as the server tells it, by depth or by its surface; gives the answer's headers.
 * @param {string} what of the land, with its own query: "flood?rain_mm=50" @param {number[] | null} [posts] row0, col0, row1, col1; null: what is in view
 */
export async function showWash(what, posts = null) {
  const view = posts ? null : postsInView();
  const mine = (asking += 1);
  let step = 1;
  const of = posts ?? postsInView();
  let [row0, col0] = of;
  const [, , row1, col1] = of;
  while (Math.max(row1 - row0, col1 - col0) / step > MOST) step *= 2;
  [row0, col0] = [Math.floor(row0 / step) * step, Math.floor(col0 / step) * step];
  const window_ = `row0=${row0}&col0=${col0}&row1=${Math.min(row1, grid.rows)}&col1=${Math.min(col1, grid.cols)}`;
  const flood = /^flood\?(rain|x=.*volume)/.test(what);
  const how = { waits: flood ? "Letting the water run" : "Looking how far the water reaches", calm: !flood };
  const answer = await reach(`${landApi}/${what}&${window_}&step=${step}`, {}, how);
  if (!answer || mine !== asking) return null;
  if (!answer.ok) return answer;
  const [rows, cols] = (answer.headers.get("X-Shape") || "0,0").split(",").map(Number);
  const values = new Float32Array(await answer.arrayBuffer());
  if (mine !== asking) return null;
  const picture = document.createElement("canvas");
  [picture.width, picture.height] = [cols, rows];
  const context = /** @type {CanvasRenderingContext2D} */ (picture.getContext("2d"));
  const image = context.createImageData(cols, rows);
  const deep = what.startsWith("flood");
  values.forEach((value, at) => {
    const wet = deep ? value > LEAST_M : !Number.isNaN(value);
    if (wet) image.data.set([31, 96, 138, deep ? Math.min(215, 110 + value * 45) : 150], at * 4);
  });
  context.putImageData(image, 0, 0);
  wash = { picture, row0, col0, rows, cols, step, what, view };
  drawOverlay();
  return answer;
}

addMark((context) => {
  if (!wash || state.view === "overlook") return;
  const { picture, row0, col0, rows, cols, step, what, view } = wash;
  // The view has moved: what is beyond it is asked for.
  if (view && !next && String(view) !== String(postsInView())) washAlong(what);
  // A value stands for what lies around its post.
  const [x0, y0] = screenOf(col0 - step / 2, row0 - step / 2);
  const [x1, y1] = screenOf(col0 + (cols - 0.5) * step, row0 + (rows - 0.5) * step);
  context.imageSmoothingEnabled = false;
  context.drawImage(picture, x0, y0, x1 - x0, y1 - y0);
});

let busy = false;
async function follow() {
  if (busy || !next) return;
  busy = true;
  const { what, told } = next;
  next = null;
  const answer = await showWash(what);
  busy = false;
  if (answer) told?.(answer);
  follow();
}
/**
 * The same while something is dragged: one question at a time, and of those that wait only the last.
 * @param {string} what @param {(answer: Response) => void} [told] hears its answer
 */
export function washAlong(what, told) {
  next = { what, told };
  follow();
}

// The sea is held on the altitude bar: where its shore would be.
heed("sea-held", (level) => {
  if (level === null) {
    clearWash();
    return;
  }
  washAlong(`water?only=sea&sea_level_m=${level}`);
});
