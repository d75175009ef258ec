// The plan: 256-pixel tiles of the server's picture on a canvas, panned and zoomed by hand.
import { waitFor } from "../../kernel/waits.js";
import { hears, send } from "../live.js";
import {
  actions,
  announce,
  clamp,
  colOf,
  entered,
  grid,
  heed,
  keep,
  landApi,
  rowOf,
  onlyLight,
  showAnew,
  shown,
  shownAs,
  state,
  watch,
  xOf,
  yOf,
} from "../state.js";

const TILE = 256;
const FINEST = -2;
const COARSEST = 7;
const MOST_TILES = 400;
const MOST_LOADING = 6;
/** A tile that keeps changing is fetched again when it has been quiet this long. [ms] */
const QUIET_MS = 350;
/** To be called when the first picture is there, or cannot be had. */
const arrived = waitFor("Drawing the land");

const pane = /** @type {HTMLElement} */ (document.getElementById("flat"));
const canvas = /** @type {HTMLCanvasElement} */ (document.getElementById("plan"));
const context = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d", { alpha: false }));

/** Screen pixels to a post, and the post in the middle of the pane. */
export const camera = state.plan || { zoom: 0, col: 0, row: 0 };
/** Until somebody moves it the map shows all of the tract, however the page comes to be laid out. */
let untouched = !state.plan;
if (untouched) middle();

/** The tract that was entered comes into the middle. */
function middle() {
  camera.col = colOf(entered.x) + (entered.cols - 1) / 2;
  camera.row = rowOf(entered.y) - (entered.rows - 1) / 2;
}

/** @typedef {import("../state.js").How} How */
const keyOf = (
  /** @type {number} */ at,
  /** @type {number} */ row,
  /** @type {number} */ col,
  /** @type {How} */ how = "lit",
) => `${at}/${row}/${col}/${how}`;
/**
 * A picture of a part of the plan, as it was fetched and patched since.
 * @typedef {object} Tile
 * @property {string} key
 * @property {HTMLCanvasElement} canvas
 * @property {number} level
 * @property {number} row
 * @property {number} col
 * @property {How} how
 * @property {boolean} ready
 * @property {boolean} stale
 * @property {number} staleAt
 * @property {boolean} loading
 * @property {number} touched when it was shown last
 * @property {number} patches how often something of it changed
 * @property {boolean} broken the server could not draw it
 * @property {boolean} tried it was asked for
 */
/** @type {Map<string, Tile>} */
const tiles = new Map();
let waiting = false;
let width = 1;
let height = 1;
let ratio = 1;
/** How often patches and tiles were drawn, and tiles that are on their way; read by tests and the bench. */
export const counts = {
  patches: 0,
  tiles: 0,
  loading: 0,
  /** From pointer to drawn pixels. [ms] */ lags: /** @type {number[]} */ ([]),
};

export const level = () => clamp(Math.floor(-Math.log2(camera.zoom * ratio) + 0.25), FINEST, COARSEST);

/** Where a post is on the pane, in CSS pixels. */
/** @returns {[number, number]} */
export const screenOf = (/** @type {number} */ col, /** @type {number} */ row) => [
  (col - camera.col) * camera.zoom + width / 2,
  (row - camera.row) * camera.zoom + height / 2,
];
export const screenAt = (/** @type {number} */ x, /** @type {number} */ y) => screenOf(colOf(x), rowOf(y));
/** Which spot a pixel of the pane shows, in metres. */
export const spotAt = (/** @type {number} */ px, /** @type {number} */ py) => ({
  x: xOf((px - width / 2) / camera.zoom + camera.col),
  y: yOf((py - height / 2) / camera.zoom + camera.row),
});
export const metresPerPixel = () => grid.spacing / camera.zoom;
/** @returns {[number, number]} */
export const paneSize = () => [width, height];

/** All of the tract that was entered. */
const whole = () => Math.min((width - 24) / (entered.cols - 1), (height - 24) / (entered.rows - 1));
const fitted = () => Math.min((width - 24) / (grid.cols - 1), (height - 24) / (grid.rows - 1));

/** Show the whole tract. */
export function fit() {
  camera.zoom = fitted();
  camera.col = (grid.cols - 1) / 2;
  camera.row = (grid.rows - 1) / 2;
  moved();
}

/** Move by CSS pixels. @param {number} dx @param {number} dy */
export function pan(dx, dy) {
  camera.col = clamp(camera.col - dx / camera.zoom, 0, grid.cols - 1);
  camera.row = clamp(camera.row - dy / camera.zoom, 0, grid.rows - 1);
  moved();
}

/** Zoom by a factor about a pixel of the pane, which keeps showing its spot. @param {number} factor @param {number} px @param {number} py */
export function zoomAt(factor, px, py) {
  const col = (px - width / 2) / camera.zoom + camera.col;
  const row = (py - height / 2) / camera.zoom + camera.row;
  camera.zoom = clamp(camera.zoom * factor, fitted() / 2, 48);
  camera.col = clamp(col - (px - width / 2) / camera.zoom, 0, grid.cols - 1);
  camera.row = clamp(row - (py - height / 2) / camera.zoom, 0, grid.rows - 1);
  moved();
}

let viewTimer = 0;
function moved(byHand = true) {
  if (byHand) untouched = false;
  state.plan = { ...camera };
  keep();
  draw();
  announce("moved");
  clearTimeout(viewTimer);
  viewTimer = setTimeout(tellView, 60);
}

/** The posts in view, clipped to the tract: row0, col0, row1, col1. */
export function postsInView() {
  // While the plan is hidden, all of the tract is looked at.
  if (pane.clientWidth === 0) return [0, 0, grid.rows, grid.cols];
  const row0 = clamp(Math.floor(camera.row - height / 2 / camera.zoom), 0, grid.rows - 1);
  const col0 = clamp(Math.floor(camera.col - width / 2 / camera.zoom), 0, grid.cols - 1);
  return [
    row0,
    col0,
    clamp(Math.ceil(camera.row + height / 2 / camera.zoom) + 1, row0 + 1, grid.rows),
    clamp(Math.ceil(camera.col + width / 2 / camera.zoom) + 1, col0 + 1, grid.cols),
  ];
}

/** Counts up whenever something else is to be shown: a patch that was drawn before that is out of date. */
let shownNow = 0;

/** Tell the server what is in view, so that it sends patches for that. */
export function tellView() {
  const at = level();
  const scale = 2 ** at;
  const [row0, col0, row1, col1] = postsInView();
  send(
    {
      is: "view",
      level: at,
      row0: Math.floor(row0 / scale) - 1,
      col0: Math.floor(col0 / scale) - 1,
      row1: Math.ceil(row1 / scale) + 1,
      col1: Math.ceil(col1 / scale) + 1,
      ...shown(state.view === "plan" || state.view === "both" ? "lit" : state.walking ? "bare" : "plain"),
      heights: state.view !== "plan",
      shown: shownNow,
    },
    true,
  );
}

/** What the next frame has to draw again, in CSS pixels: null for nothing, "all", or [left, top, right, bottom]. */
/** @type {any} */
let soiled = null;

/** Draw at the next frame: everything, or only what lies over a window of posts. */
export function draw(posts = null) {
  if (posts === null || soiled === "all") soiled = "all";
  else {
    const [row0, col0, row1, col1] = /** @type {number[]} */ (/** @type {unknown} */ (posts));
    // Pixels beside the window are mixed with it where the picture is scaled.
    const [left, top] = screenOf(col0 - 2, row0 - 2);
    const [right, bottom] = screenOf(col1 + 2, row1 + 2);
    const old = soiled || [left, top, right, bottom];
    soiled = [Math.min(left, old[0]), Math.min(top, old[1]), Math.max(right, old[2]), Math.max(bottom, old[3])];
  }
  if (waiting) return;
  waiting = true;
  requestAnimationFrame(() => {
    waiting = false;
    paint();
  });
}

const levelSize = (/** @type {number} */ at) => [
  Math.floor((grid.rows - 1) / 2 ** at) + 1,
  Math.floor((grid.cols - 1) / 2 ** at) + 1,
];

function paint() {
  if (state.view === "overlook" || state.view === "eye") return;
  const whole = [0, 0, width, height];
  const snapped = (/** @type {number} */ v, /** @type {(x: number) => number} */ round) => round(v * ratio) / ratio;
  const [left, top, right, bottom] =
    soiled === null || soiled === "all"
      ? whole
      : soiled.map((/** @type {number} */ v, /** @type {number} */ i) =>
          snapped(clamp(v, 0, whole[i | 2]), i < 2 ? Math.floor : Math.ceil),
        );
  soiled = null;
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.save();
  context.beginPath();
  context.rect(left, top, right - left, bottom - top);
  context.clip();
  context.fillStyle = paper;
  context.fillRect(left, top, right - left, bottom - top);
  const at = level();
  // Coarser tiles that are there stand in until the right ones have come.
  for (let under = Math.min(at + 3, COARSEST); under > at; under -= 1) paintLevel(under, false);
  paintLevel(at, true);
  context.restore();
  announce("painted");
}
let paper = "";
let rust = "";
function readPaper() {
  const inks = getComputedStyle(document.documentElement);
  paper = inks.getPropertyValue("--paper");
  rust = inks.getPropertyValue("--rust");
  draw();
}
readPaper();
document.addEventListener("fern:theme", readPaper);

/** @param {number} at @param {boolean} wanted */
function paintLevel(at, wanted) {
  const scale = 2 ** at;
  const [rows, cols] = levelSize(at);
  const [row0, col0, row1, col1] = postsInView();
  context.imageSmoothingEnabled = camera.zoom * scale * ratio < 1.999;
  const first = [Math.floor(row0 / scale / TILE), Math.floor(col0 / scale / TILE)];
  const last = [
    Math.floor(Math.min(row1 / scale, rows - 1) / TILE),
    Math.floor(Math.min(col1 / scale, cols - 1) / TILE),
  ];
  for (let row = first[0]; row <= last[0]; row += 1) {
    for (let col = first[1]; col <= last[1]; col += 1) {
      const tile = tiles.get(keyOf(at, row, col));
      if (wanted && (!tile || (tile.stale && !tile.loading && !tile.broken && quiet(tile)))) load(at, row, col);
      if (tile?.broken) paintBroken(row, col, scale);
      if (!tile?.ready) continue;
      tile.touched = performance.now();
      const [x, y] = screenOf((col * TILE - 0.5) * scale, (row * TILE - 0.5) * scale);
      const size = [tile.canvas.width * scale * camera.zoom, tile.canvas.height * scale * camera.zoom];
      context.drawImage(tile.canvas, x, y, size[0], size[1]);
    }
  }
}

/** In the place of a picture that could not be drawn: that it could not. @param {number} row @param {number} col @param {number} scale */
function paintBroken(row, col, scale) {
  const [x, y] = screenOf((col * TILE - 0.5) * scale, (row * TILE - 0.5) * scale);
  const side = TILE * scale * camera.zoom;
  context.save();
  context.strokeStyle = context.fillStyle = rust;
  context.setLineDash([5, 4]);
  context.strokeRect(x + 3, y + 3, side - 6, side - 6);
  context.font = "12px Archivo, sans-serif";
  if (side > 110) context.fillText("could not be drawn", x + 12, y + 22);
  context.restore();
}

/** Whether a tile may be fetched again; else a frame is asked for when it may. @param {any} tile */
function quiet(tile) {
  const left = tile.staleAt + QUIET_MS - performance.now();
  if (left <= 0 || !tile.ready) return true;
  clearTimeout(quietTimer);
  quietTimer = setTimeout(draw, left + 20);
  return false;
}
let quietTimer = 0;

/** @param {number} at @param {number} row @param {number} col @param {How} how */
async function load(at, row, col, how = "lit") {
  if (counts.loading >= MOST_LOADING) return;
  const key = keyOf(at, row, col, how);
  const [rows, cols] = levelSize(at);
  let tile = tiles.get(key);
  if (!tile) {
    const picture = document.createElement("canvas");
    picture.width = Math.min(TILE, cols - col * TILE);
    picture.height = Math.min(TILE, rows - row * TILE);
    tile = {
      key,
      canvas: picture,
      level: at,
      row,
      col,
      how,
      ready: false,
      stale: false,
      staleAt: -1e9,
      loading: false,
      touched: 0,
      patches: 0,
      broken: false,
      tried: false,
    };
    tiles.set(key, tile);
  }
  if (tile.loading) return;
  counts.loading += 1;
  tile.loading = true;
  tile.stale = false;
  tile.tried = true;
  const patches = tile.patches;
  try {
    const answer = await fetch(`${landApi}/plan/${at}/${row}/${col}.webp?${shownAs(shown(how))}`);
    if (!answer.ok) throw new Error(answer.status >= 500 && answer.status !== 503 ? "broken" : "later");
    const picture = await createImageBitmap(await answer.blob());
    // A patch that came meanwhile may be newer than this picture: then ask once more.
    if (tile.patches !== patches) tile.stale = true;
    else /** @type {CanvasRenderingContext2D} */ (tile.canvas.getContext("2d")).drawImage(picture, 0, 0);
    tile.ready = true;
    tile.broken = false;
    counts.tiles += 1;
    picture.close();
  } catch (error) {
    // What the server cannot draw is not asked for again by itself: somebody says when.
    tile.broken = error instanceof Error && error.message === "broken";
    tile.stale = true;
    if (!tile.broken) setTimeout(draw, 1500);
  } finally {
    arrived();
    counts.loading -= 1;
    tile.loading = false;
    forget();
    tellMissing();
    draw();
    announce("tile", tile);
  }
}

/** What could not be fetched is told once, by what is to be done about it. */
function tellMissing() {
  const every = [...tiles.values()];
  const broken = every.filter((tile) => tile.broken).length;
  const later = every.some((tile) => tile.stale && !tile.ready && !tile.loading && !tile.broken && tile.tried);
  state.missing = broken
    ? `${broken === 1 ? "A picture" : `${broken} pictures`} of the land could not be drawn.`
    : later
      ? LATER
      : "";
}
const LATER = "Some pictures of the land could not be fetched. They come by themselves when the server answers.";
/** Ask again for what could not be drawn. */
actions["pictures-again"] = () => {
  for (const tile of tiles.values()) tile.broken = false;
  tellMissing();
  draw();
};

function forget() {
  if (tiles.size <= MOST_TILES) return;
  const old = [...tiles.entries()].filter(([, t]) => !t.loading).sort((a, b) => a[1].touched - b[1].touched);
  for (const [key] of old.slice(0, tiles.size - MOST_TILES * 0.75)) tiles.delete(key);
}

/** Every picture is out of date (the light, the sea, what is shown). */
export function allStale() {
  for (const tile of tiles.values()) {
    tile.stale = true;
    // Something else is asked for: it may be drawn.
    tile.broken = false;
    tile.patches += 1;
  }
  tellMissing();
  draw();
}

/** Mark the tiles over the window of posts that a message names; those that it has `patched` wholly are as they should be. */
function stale(/** @type {any} */ message, patched = false) {
  const [row0, col0, row1, col1] = message.window;
  const [exceptLevel, rect] = patched ? [message.level, message.pixels] : [null, null];
  for (const tile of tiles.values()) {
    // A picture without light does not change with it.
    if (tile.how !== "lit" && onlyLight(message)) continue;
    const scale = 2 ** tile.level;
    const top = (tile.row * TILE - 1) * scale;
    const left = (tile.col * TILE - 1) * scale;
    const bottom = top + (TILE + 2) * scale;
    const right = left + (TILE + 2) * scale;
    if (bottom < row0 || top > row1 || right < col0 || left > col1) continue;
    if (tile.level === exceptLevel && rect && tile.how === howOf(message)) {
      const covered =
        Math.max(tile.row * TILE, Math.floor(row0 / scale)) >= rect[0] &&
        Math.max(tile.col * TILE, Math.floor(col0 / scale)) >= rect[1] &&
        Math.min((tile.row + 1) * TILE, Math.ceil(row1 / scale)) <= rect[2] &&
        Math.min((tile.col + 1) * TILE, Math.ceil(col1 / scale)) <= rect[3];
      if (covered && !tile.stale) continue;
    }
    tile.stale = true;
    tile.broken = false;
    tile.staleAt = performance.now();
    tile.patches += 1;
  }
}

/** @param {any} message a patch @returns {How} */
const howOf = (message) => (!message.plain ? "lit" : state.walking ? "bare" : "plain");

hears("patch", (message) => {
  if (message.shown !== shownNow) {
    stale(message);
    draw();
    requestAnimationFrame(() => send({ is: "drawn" }));
    return;
  }
  if (state.past !== null) {
    // The present moves on; what is looked at does not.
    requestAnimationFrame(() => send({ is: "drawn" }));
    return;
  }
  const [row0, col0, row1, col1] = message.pixels;
  const picture = new ImageData(new Uint8ClampedArray(message.body, message.offset), col1 - col0, row1 - row0);
  for (let row = Math.floor(row0 / TILE); row * TILE < row1; row += 1) {
    for (let col = Math.floor(col0 / TILE); col * TILE < col1; col += 1) {
      const tile = tiles.get(keyOf(message.level, row, col, howOf(message)));
      if (!tile) continue;
      tile.patches += 1;
      if (!tile.ready) continue;
      const [top, left] = [Math.max(row0, row * TILE) - row0, Math.max(col0, col * TILE) - col0];
      const [high, wide] = [
        Math.min(row1, (row + 1) * TILE) - row0 - top,
        Math.min(col1, (col + 1) * TILE) - col0 - left,
      ];
      const [x, y] = [col0 - col * TILE, row0 - row * TILE];
      /** @type {CanvasRenderingContext2D} */ (tile.canvas.getContext("2d")).putImageData(
        picture,
        x,
        y,
        left,
        top,
        wide,
        high,
      );
      announce("tile", tile);
    }
  }
  stale(message, true);
  counts.patches += 1;
  draw(message.window);
  requestAnimationFrame(() => send({ is: "drawn" }));
  if (state.drawing && message.drawn_to !== null) {
    const sampled = state.began + message.drawn_to * 1000;
    // After the frame in which `draw` has put it on the canvas.
    requestAnimationFrame(() => counts.lags.push(performance.now() - sampled));
    if (counts.lags.length > 5000) counts.lags.shift();
  }
  announce("stale", message);
});
hears("stale", (message) => {
  stale(message);
  draw();
  requestAnimationFrame(() => send({ is: "drawn" }));
  announce("stale", message);
});
heed("all-stale", allStale);
watch(
  () => state.shown,
  () => {
    shownNow += 1;
    allStale();
    tellView();
  },
);

/** A tile's picture for the overlook, fetched like any other, without light; at eye level one without contours. @param {number} at @param {number} row @param {number} col */
export function pictureOf(at, row, col) {
  const how = state.walking ? "bare" : "plain";
  const tile = tiles.get(keyOf(at, row, col, how));
  if (!tile || (tile.stale && !tile.loading && !tile.broken && quiet(tile))) load(at, row, col, how);
  return tiles.get(keyOf(at, row, col, how)) || null;
}

new ResizeObserver(() => {
  ratio = window.devicePixelRatio || 1;
  width = Math.max(1, pane.clientWidth);
  height = Math.max(1, pane.clientHeight);
  canvas.width = Math.round(width * ratio);
  canvas.height = Math.round(height * ratio);
  if (untouched && pane.clientWidth > 0) camera.zoom = whole();
  if (pane.clientWidth > 0) {
    moved(false);
    paint();
  }
}).observe(pane);
watch(() => state.grows, showAnew);
// The light is turned: what is in view is drawn in it at once.
watch(() => [state.sun, state.mood, state.beside, state.divide], tellView);
watch(() => state.walking, tellView);
