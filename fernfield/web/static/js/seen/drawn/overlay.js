// Lines over the plan: the brush's ring, the section's row, and what the rooms mark on it.
import { active } from "../hands/outline.js";
import { MARKS } from "./marks.js";
import { climbColour, ringPoints, ringWords } from "./ring.js";
import { svg, roundDown, id } from "../../kernel/shapes.js";
import Alpine from "../../kernel/alpine.js";
import { boot, brush, entered, heed, lays, seenTracts, state } from "../state.js";
import { camera, metresPerPixel, paneSize, screenAt } from "./plan.js";

const canvas = /** @type {HTMLCanvasElement} */ (document.getElementById("overlay"));
/** A dark line over a light one, so that it is seen on any ground. @type {[string, number][]} */
const STROKES = [
  ["rgba(255,255,255,.6)", 3],
  ["#1e2925", 1.3],
];
const context = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
let waiting = false;

/** How far the turn handle of a chosen thing stands off, in CSS pixels. */
export const HANDLE = 46;

export function drawOverlay() {
  if (waiting) return;
  waiting = true;
  requestAnimationFrame(() => {
    waiting = false;
    paint();
  });
}

function paint() {
  const ratio = window.devicePixelRatio || 1;
  const [width, height] = paneSize();
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.clearRect(0, 0, width, height);
  if (state.section && state.cursor && !state.section_line && state.view !== "overlook") sectionRow(width);
  if (state.show.above) above();
  if (state.show.edges && seenTracts.length > 1) edges();
  for (const mark of MARKS) mark(context);
  for (const mark of roomMarks) mark(context);
  if (state.cursor && brush() && !active() && state.past === null) ring();
  if (state.cursor && state.byKeys) crosshair(state.cursor);
}

/** Pictures of open land that lies above an underground tract. @type {{tract: import("../../types.js").TractFacts, image: HTMLImageElement}[]} */
const overhead =
  entered.kind === "underground"
    ? boot.world.tracts
        .filter((tract) => tract.kind === "open")
        .map((tract) => {
          const image = new Image();
          image.src = `/api/tracts/${tract.id}/plan.png?width=${Math.min(1024, tract.cols)}&contour_m=0`;
          image.addEventListener("load", () => drawOverlay());
          return { tract, image };
        })
    : [];

/** A ghost of the land above. */
function above() {
  context.globalAlpha = 0.24;
  for (const { tract: t, image } of overhead) {
    if (!image.complete || !image.naturalWidth) continue;
    const [left, bottom] = screenAt(t.x, t.y);
    const [right, top] = screenAt(t.x + (t.cols - 1) * t.spacing_m, t.y + (t.rows - 1) * t.spacing_m);
    context.drawImage(image, left, top, right - left, bottom - top);
  }
  context.globalAlpha = 1;
}

/** Where one tract ends and the next begins: a faint line. */
function edges() {
  context.strokeStyle = "rgba(30, 41, 37, .38)";
  context.lineWidth = 1;
  context.setLineDash([2, 4]);
  for (const t of seenTracts) {
    const [left, bottom] = screenAt(t.x, t.y);
    const [right, top] = screenAt(t.x + (t.cols - 1) * t.spacing_m, t.y + (t.rows - 1) * t.spacing_m);
    context.strokeRect(left, top, right - left, bottom - top);
  }
  context.setLineDash([]);
}

/** Marks of the rooms: each gets the canvas. @type {((context: CanvasRenderingContext2D) => void)[]} */
const roomMarks = [];
/** @param {(context: CanvasRenderingContext2D) => void} mark */
export const addMark = (mark) => {
  roomMarks.push(mark);
  drawOverlay();
};

/**
 * Marks that are many: drawn once, and put on the plan as they are until the map or what `of` says has changed.
 * @param {() => string} of @param {(context: CanvasRenderingContext2D) => void} mark
 */
export function addStill(of, mark) {
  const kept = document.createElement("canvas");
  const own = /** @type {CanvasRenderingContext2D} */ (kept.getContext("2d"));
  let was = "";
  addMark((context) => {
    const now = [camera.zoom, camera.col, camera.row, canvas.width, canvas.height, document.fonts.status, of()].join(
      " ",
    );
    if (now !== was) {
      was = now;
      Object.assign(kept, { width: canvas.width, height: canvas.height });
      own.setTransform(context.getTransform());
      mark(own);
    }
    context.save();
    context.resetTransform();
    if (kept.width && kept.height) context.drawImage(kept, 0, 0);
    context.restore();
  });
}

/** Whether a place is in view, or nearly. @param {{x: number, y: number}} place */
export function inView(place) {
  const [width, height] = paneSize();
  const [x, y] = screenAt(place.x, place.y);
  const reach = 60 + 40 / metresPerPixel();
  return x > -reach && y > -reach && x < width + reach && y < height + reach;
}

/** @param {number} width */
function sectionRow(width) {
  const [, y] = screenAt(
    /** @type {import("../state.js").Spot} */ (state.cursor).x,
    /** @type {import("../state.js").Spot} */ (state.cursor).y,
  );
  context.strokeStyle = "rgba(162, 67, 31, .75)";
  context.lineWidth = 1;
  context.setLineDash([10, 5]);
  context.beginPath();
  context.moveTo(0, y);
  context.lineTo(width, y);
  context.stroke();
  context.setLineDash([]);
}

/** @param {number} x @param {number} y @param {number} radius @param {boolean} dash */
function circle(x, y, radius, dash) {
  for (const [style, line] of STROKES) {
    context.strokeStyle = style;
    context.lineWidth = line;
    context.setLineDash(dash && line < 3 ? [7, 4] : []);
    context.beginPath();
    context.arc(x, y, radius, 0, 7);
    context.stroke();
  }
  context.setLineDash([]);
}

function ring() {
  const own = /** @type {import("../../types.js").Brush} */ (brush());
  const cursor = /** @type {import("../state.js").Spot} */ (state.cursor);
  const [x, y] = screenAt(cursor.x, cursor.y);
  const reach = lays() ? 6 : own.radius / metresPerPixel();
  const climbs = state.drawing ? state.progress?.climbs : undefined;
  if (lays()) {
    circle(x, y, 3, false);
  } else if (own.shape === "round") {
    circle(x, y, reach, true);
    const full = reach * (1 - own.softness / 100);
    if (full > 2) circle(x, y, full, false);
  } else {
    outlined(own, 1, [7, 4]);
    if (own.softness < 98) outlined(own, 1 - own.softness / 100, []);
  }
  context.strokeStyle = "#1e2925";
  context.lineWidth = 1;
  ticks(x, y, reach - 8, reach + 8);
  label(x + reach * 0.72 + 10, y - reach * 0.72 - 6, ringWords(), climbs ? climbColour(climbs) : "#1e2925");
}

/** Four short lines away from a place, to all sides. @param {number} x @param {number} y @param {number} from @param {number} to [px] */
function ticks(x, y, from, to) {
  context.beginPath();
  for (const [dx, dy] of [
    [1, 0],
    [-1, 0],
    [0, 1],
    [0, -1],
  ]) {
    context.moveTo(x + dx * from, y + dy * from);
    context.lineTo(x + dx * to, y + dy * to);
  }
  context.stroke();
}

/** Where the keyboard is: a cross with a gap in its middle, seen on any ground. @param {import("../state.js").Spot} spot */
function crosshair(spot) {
  const [x, y] = screenAt(spot.x, spot.y);
  for (const [style, line] of STROKES) {
    context.strokeStyle = style;
    context.lineWidth = line + 1;
    ticks(x, y, 4, 14);
  }
}

/** @param {import("../../types.js").Brush} own @param {number} part @param {number[]} dash */
function outlined(own, part, dash) {
  for (const [style, line] of STROKES) {
    context.strokeStyle = style;
    context.lineWidth = line;
    context.setLineDash(line < 3 ? dash : []);
    context.beginPath();
    ringPoints(own, part).forEach(([east, north], i) => {
      const at = screenAt(
        /** @type {import("../state.js").Spot} */ (state.cursor).x + east,
        /** @type {import("../state.js").Spot} */ (state.cursor).y + north,
      );
      if (i) context.lineTo(...at);
      else context.moveTo(...at);
    });
    context.closePath();
    context.stroke();
  }
  context.setLineDash([]);
}

/** @param {number} x @param {number} y @param {string} words @param {string} colour */
function label(x, y, words, colour) {
  context.font = '11px "Spline Sans Mono"';
  const [width] = paneSize();
  const wide = context.measureText(words).width + 12;
  const left = Math.min(x, width - wide - 4);
  context.fillStyle = "rgba(250, 248, 241, .93)";
  context.fillRect(left, y - 14, wide, 20);
  context.fillStyle = colour;
  context.fillText(words, left + 6, y);
}

/** Words with a halo. @param {string} words @param {number} x @param {number} y @param {CanvasRenderingContext2D} on */
export function name(words, x, y, on = context) {
  on.font = "600 11px Archivo";
  on.lineJoin = "round";
  on.lineWidth = 3;
  on.strokeStyle = "rgba(250, 248, 241, .9)";
  on.strokeText(words, x, y);
  on.fillStyle = "#1e2925";
  on.fillText(words, x, y);
}

for (const what of ["painted", "labels", "facts"]) heed(what, drawOverlay);
// Whatever of the page's state is drawn here: a change of it draws again.
Alpine.effect(() => {
  void [
    state.cursor,
    state.byKeys,
    state.stage,
    state.chosen,
    state.place,
    state.progress,
    state.figures,
    state.past,
    state.area,
    state.marks,
    state.section_line,
    state.keepTo,
  ];
  for (const name in state.at) void state.at[name];
  void JSON.stringify(brush());
  drawOverlay();
});

/** The scale bar: a round length near 120 pixels. */
export function drawScale() {
  const length = roundDown(120 * metresPerPixel());
  const wide = length / metresPerPixel();
  const parts = [0, 1, 2, 3].map((i) =>
    svg("rect", { class: i % 2 ? "" : "full", x: (wide / 4) * i + 0.5, y: 2.5, width: wide / 4, height: 5 }),
  );
  id("scale").replaceChildren(
    "0 ",
    svg("svg", { width: wide + 1, height: 10, "aria-hidden": "true" }, "", parts),
    ` ${length < 1 ? length.toFixed(2) : length} m`,
  );
}
heed("moved", drawScale);
