// A byte for every so-manieth post of the land, as a picture over the plan.
import { screenOf } from "/static/js/seen/drawn/plan.js";
import { grid } from "/static/js/seen/state.js";

/** At most so many pixels a side. */
const MOST_SIDE = 512;

/** @typedef {{image: HTMLCanvasElement, step: number, posts: Uint8Array, wide: number}} Posted */

/** Every so-manieth post is asked for, by the words of a query. */
export const stepOf = () => Math.max(1, Math.ceil(Math.max(grid.rows, grid.cols) / MOST_SIDE));
export const windowOf = () => `row0=0&col0=0&row1=${grid.rows}&col1=${grid.cols}&step=${stepOf()}`;

/** @param {Response} answer @param {(value: number, edge: boolean) => number[] | null} inkOf red, green, blue and how much of it, of a byte @returns {Promise<Posted>} */
export async function posted(answer, inkOf) {
  const [tall, wide] = (answer.headers.get("X-Shape") ?? "0,0").split(",").map(Number);
  const posts = new Uint8Array(await answer.arrayBuffer());
  const image = document.createElement("canvas");
  Object.assign(image, { width: wide, height: tall });
  const context = /** @type {CanvasRenderingContext2D} */ (image.getContext("2d"));
  const data = context.createImageData(wide, tall);
  posts.forEach((value, at) => {
    const edge = (at % wide && posts[at - 1] !== value) || (at >= wide && posts[at - wide] !== value);
    const ink = inkOf(value, Boolean(edge));
    if (ink) data.data.set(ink, at * 4);
  });
  context.putImageData(data, 0, 0);
  return { image, step: stepOf(), posts, wide };
}

/** @param {CanvasRenderingContext2D} context @param {Posted} picture */
export function drawPosted(context, { image, step }) {
  const [x0, y0] = screenOf(-0.5 * step, -0.5 * step);
  const [x1, y1] = screenOf((image.width - 0.5) * step, (image.height - 0.5) * step);
  context.imageSmoothingEnabled = false;
  context.drawImage(image, x0, y0, x1 - x0, y1 - y0);
}
