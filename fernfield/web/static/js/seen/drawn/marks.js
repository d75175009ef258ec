// What lies over the plan as lines and words: plots, the section's line, symmetry, posts, figures, contour labels, legends.
import { svg } from "../../kernel/shapes.js";
import { hears } from "../live.js";
import { active, onOutline, points as outlinePoints } from "../hands/outline.js";
import { level, metresPerPixel, postsInView, screenAt, screenOf } from "./plan.js";
import { ask } from "../../kernel/say.js";
import { only, rows } from "../rows.js";
import { announce, brush, grid, heed, landApi, state, tool, watch, onlyLight } from "../state.js";
import { trail } from "../hands/strokes.js";

const INK = "#1e2925";
const RUST = "#a2431f";
const FERN = "#2c6647";

/** @param {CanvasRenderingContext2D} context @param {number[][]} points @param {boolean} close */
function polyline(context, points, close) {
  context.beginPath();
  points.forEach((/** @type {number[]} */ [x, y], /** @type {number} */ i) =>
    i ? context.lineTo(...screenAt(x, y)) : context.moveTo(...screenAt(x, y)),
  );
  if (close) context.closePath();
}

/** @param {CanvasRenderingContext2D} context @param {string} colour @param {number} width @param {number[]} dash */
function haloed(context, colour, width, dash = []) {
  context.setLineDash([]);
  context.strokeStyle = "rgba(250, 248, 241, .75)";
  context.lineWidth = width + 2.4;
  context.stroke();
  context.setLineDash(dash);
  context.strokeStyle = colour;
  context.lineWidth = width;
  context.stroke();
  context.setLineDash([]);
}

/** @param {CanvasRenderingContext2D} context @param {string} text @param {number} x @param {number} y */
function words(context, text, x, y, colour = INK, font = "600 11px Archivo") {
  context.font = font;
  // Round joins: mitred ones grow spikes at sharp corners of letters.
  context.lineJoin = "round";
  context.lineWidth = 3;
  context.strokeStyle = "rgba(250, 248, 241, .9)";
  context.strokeText(text, x, y);
  context.fillStyle = colour;
  context.fillText(text, x, y);
}

/** @param {CanvasRenderingContext2D} context */
function plots(context) {
  if (state.stage !== "ground") return;
  const chosen = new Set(state.keepTo?.plots || []);
  for (const plot of rows("plots")) {
    polyline(context, plot.points, true);
    haloed(context, chosen.has(plot.key) ? FERN : INK, chosen.has(plot.key) ? 1.8 : 1.1, [2, 3]);
    const x =
      plot.points.reduce((/** @type {number} */ sum, /** @type {number[]} */ p) => sum + p[0], 0) / plot.points.length;
    const y =
      plot.points.reduce((/** @type {number} */ sum, /** @type {number[]} */ p) => sum + p[1], 0) / plot.points.length;
    const [px, py] = screenAt(x, y);
    words(context, plot.name, px - context.measureText(plot.name).width / 2, py);
  }
}

/** @param {CanvasRenderingContext2D} context */
function sectionLine(context) {
  if (!state.section_line || !state.section) return;
  polyline(context, state.section_line, false);
  haloed(context, RUST, 1.4, [10, 5]);
  for (const mark of state.marks || []) {
    const [x, y] = alongLine(state.section_line, mark);
    const [px, py] = screenAt(x, y);
    context.beginPath();
    context.arc(px, py, 4, 0, 7);
    context.fillStyle = FERN;
    context.fill();
  }
}

/** The place so many metres along a line. @param {number[][]} line @param {number} metres */
export function alongLine(line, metres) {
  let left = metres;
  for (let i = 0; i + 1 < line.length; i += 1) {
    const long = Math.hypot(line[i + 1][0] - line[i][0], line[i + 1][1] - line[i][1]);
    if (left <= long || i + 2 === line.length) {
      const t = long ? Math.min(left / long, 1) : 0;
      return [line[i][0] + (line[i + 1][0] - line[i][0]) * t, line[i][1] + (line[i + 1][1] - line[i][1]) * t];
    }
    left -= long;
  }
  return line[0];
}

/** @param {CanvasRenderingContext2D} context */
function symmetry(context) {
  const s = only("symmetry");
  if (s.kind === "off" || state.stage !== "ground") return;
  const [x, y] = screenAt(s.x, s.y);
  context.beginPath();
  if (s.kind === "mirror") {
    const bearing = (s.bearing_deg * Math.PI) / 180;
    context.moveTo(x - Math.sin(bearing) * 4000, y + Math.cos(bearing) * 4000);
    context.lineTo(x + Math.sin(bearing) * 4000, y - Math.cos(bearing) * 4000);
  } else {
    for (let k = 0; k < s.times; k += 1) {
      const turn = (2 * Math.PI * k) / s.times;
      context.moveTo(x, y);
      context.lineTo(x + Math.sin(turn) * 4000, y - Math.cos(turn) * 4000);
    }
  }
  haloed(context, FERN, 1.2, [14, 4, 2, 4]);
}

/** @param {CanvasRenderingContext2D} context */
function posts(context) {
  const zoom = grid.spacing / metresPerPixel();
  if (!state.show.posts || zoom < 5) return;
  const [row0, col0, row1, col1] = postsInView();
  context.fillStyle = "rgba(30, 41, 37, .55)";
  for (let row = row0; row < row1; row += 1) {
    for (let col = col0; col < col1; col += 1) {
      const [x, y] = screenOf(col, row);
      context.fillRect(x - 0.75, y - 0.75, 1.5, 1.5);
    }
  }
}

/** @param {CanvasRenderingContext2D} context */
function figures(context) {
  for (const figure of state.figures) {
    const [x, y] = screenAt(figure.x, figure.y);
    const [wide, deep] = figure.sort === "person" ? [0.5, 0.35] : [1.8, 4.2];
    const scale = 1 / metresPerPixel();
    context.fillStyle = figure.sort === "person" ? RUST : "#27637f";
    context.fillRect(
      x - (wide * scale) / 2,
      y - (deep * scale) / 2,
      Math.max(wide * scale, 2),
      Math.max(deep * scale, 2),
    );
    context.beginPath();
    context.arc(x, y, 9, 0, 7);
    haloed(context, context.fillStyle, 1.2);
    words(context, figure.sort === "person" ? "1.8 m" : "4.2 m", x + 12, y + 4, INK, '10px "Spline Sans Mono"');
  }
}

/** The image that Imprint will press, where it would come to lie. */
const images = new Map();
/** @param {CanvasRenderingContext2D} context */
function imprint(context) {
  if (tool() !== "imprint" || !state.cursor || state.drawing || state.stage !== "ground" || active()) return;
  const own = /** @type {import("../../types.js").Brush} */ (brush());
  const key = own.own.image;
  if (!images.has(key)) {
    const image = new Image();
    image.src = `/api/worlds/${state.world.id}/pictures/${key}.png`;
    image.addEventListener("load", () => announce("painted"));
    images.set(key, image);
  }
  const image = images.get(key);
  if (!image.complete || !image.naturalWidth) return;
  const wide = own.own.size_m / metresPerPixel();
  const tall = (wide * image.naturalHeight) / image.naturalWidth;
  const [x, y] = screenAt(state.cursor.x, state.cursor.y);
  context.save();
  context.translate(x, y);
  context.rotate((own.turn_deg * Math.PI) / 180);
  context.globalAlpha = 0.55;
  context.drawImage(image, -wide / 2, -tall / 2, wide, tall);
  context.globalAlpha = 1;
  context.beginPath();
  context.rect(-wide / 2, -tall / 2, wide, tall);
  haloed(context, INK, 1.1, [6, 4]);
  context.restore();
}

/** What a way that is being drawn takes up: itself, and as far as its shoulders reach. @param {CanvasRenderingContext2D} context */
function footprint(context) {
  const reach = state.drawing ? state.progress?.reach_m : undefined;
  if (reach === undefined || trail.length < 2) return;
  const own = /** @type {import("../../types.js").Brush} */ (brush()).own;
  const points = own.way === "ends" ? [trail[0], trail[trail.length - 1]] : trail;
  context.save();
  context.lineJoin = context.lineCap = "round";
  for (const [wide, style] of /** @type {[number, string][]} */ ([
    [own.width_m + 2 * reach, "rgba(44, 102, 71, .16)"],
    [own.width_m, "rgba(30, 41, 37, .28)"],
  ])) {
    polyline(context, points, false);
    context.lineWidth = wide / metresPerPixel();
    context.strokeStyle = style;
    context.stroke();
  }
  context.restore();
}

/** The area in the hand, and where the land of the form "move" would come to lie. @param {CanvasRenderingContext2D} context */
function area(context) {
  if (state.stage !== "ground" && state.stage !== "cover") return;
  const corners = cornersOf(state.area);
  if (!corners) return;
  polyline(context, corners, true);
  haloed(context, FERN, 1.6, [8, 4]);
  const there = MOVED.corners;
  if (!there || state.stage !== "ground") return;
  polyline(context, there, true);
  haloed(context, RUST, 1.6);
}

/** Where moved land would come to lie, as the server said. @type {{corners: number[][] | null}} */
export const MOVED = { corners: null };

/** The polygon of an area, or null. @param {import("../../types.js").Area} area */
export function cornersOf(area) {
  if (area.plot) return rows("plots").find((plot) => plot.key === area.plot)?.points ?? null;
  if (area.outline) return area.outline;
  if (!area.box) return null;
  const [x0, y0, x1, y1] = area.box;
  return [
    [x0, y0],
    [x1, y0],
    [x1, y1],
    [x0, y1],
  ];
}

/** @param {CanvasRenderingContext2D} context */
function outline(context) {
  const drawing = outlinePoints();
  if (!drawing || drawing.points.length === 0) return;
  const points =
    state.cursor && drawing.sort !== "shape" ? [...drawing.points, [state.cursor.x, state.cursor.y]] : drawing.points;
  const [[x0, y0], [x1, y1] = [x0, y0]] = points;
  polyline(
    context,
    drawing.sort === "box"
      ? [
          [x0, y0],
          [x1, y0],
          [x1, y1],
          [x0, y1],
        ]
      : points,
    drawing.sort !== "line",
  );
  haloed(context, FERN, 1.6);
  for (const [x, y] of drawing.points) {
    const [px, py] = screenAt(x, y);
    context.fillStyle = FERN;
    context.fillRect(px - 3, py - 3, 6, 6);
  }
}

// Figures on contours

/** @type {{x: number, y: number, turn_deg: number, words: string}[]} */
let labels = [];
let labelsTimer = 0;
function askLabels() {
  clearTimeout(labelsTimer);
  const { labels: wanted, contour_m } = state.show;
  if (!wanted || !contour_m || state.view === "overlook") {
    labels = [];
    return;
  }
  labelsTimer = setTimeout(async () => {
    // The view may be another by now, and the plan out of sight.
    if (state.view === "overlook" || state.view === "eye") return;
    const at = level();
    const scale = 2 ** at;
    const [row0, col0, row1, col1] = postsInView().map((post) => Math.round(post / scale));
    const query = new URLSearchParams({
      level: String(at),
      row0: String(row0),
      col0: String(col0),
      row1: String(row1),
      col1: String(col1),
      contour_m: String(state.show.contour_m),
    });
    const found = await ask(`${landApi}/contour-labels?${query}`);
    if (found) labels = found;
    announce("labels");
  }, 250);
}
for (const what of ["moved", "stale", "all-stale"])
  heed(what, (message) => !state.drawing && !onlyLight(message) && askLabels());
watch(() => state.shown, askLabels);
watch(
  () => state.drawing,
  (name) => !name && askLabels(),
);

/** @param {CanvasRenderingContext2D} context */
function contourFigures(context) {
  if (!state.show.labels || !state.show.contour_m || state.past !== null) return;
  context.font = '10.5px "Spline Sans Mono"';
  context.textAlign = "center";
  for (const label of labels) {
    const [x, y] = screenAt(label.x, label.y);
    context.save();
    context.translate(x, y);
    context.rotate((label.turn_deg * Math.PI) / 180);
    context.lineJoin = "round";
    context.lineWidth = 3.4;
    context.strokeStyle = "rgba(250, 248, 241, .82)";
    context.strokeText(label.words, 0, 3.5);
    context.fillStyle = "#4e3826";
    context.fillText(label.words, 0, 3.5);
    context.restore();
  }
  context.textAlign = "start";
}

// Legends

const legend = /** @type {HTMLElement} */ (document.getElementById("legend"));
async function showLegend() {
  legend.hidden = state.show.overlays.length === 0;
  if (legend.hidden) return;
  const found = await ask(`${landApi}/legends`);
  if (!found) return;
  const line = (/** @type {string | null} */ colour, /** @type {string} */ text) => {
    const row = document.createElement("div");
    row.append(
      svg("svg", { width: 14, height: 10, "aria-hidden": "true" }, "", [
        svg("rect", { width: 14, height: 10, fill: colour || "none", stroke: "#8f8770" }),
      ]),
      text,
    );
    return row;
  };
  const head = (/** @type {string} */ text) => Object.assign(document.createElement("b"), { textContent: text });
  // Each overlay says itself what its colours mean.
  const parts = state.show.overlays
    .filter((name) => found[name])
    .flatMap((name) => {
      const { title, lines } = /** @type {import("../../types.js").Answers["Legend"]} */ (found[name]);
      return [head(title), ...lines.map((one) => line(one.colour, one.words))];
    });
  legend.hidden = parts.length === 0;
  legend.replaceChildren(...parts);
}
watch(() => state.shown, showLegend);
for (const what of ["ended", "revised"]) hears(what, () => state.show.overlays.length && showLegend());
showLegend();

/** In this order over the plan; the next is a function and a place here. */
export const MARKS = [posts, contourFigures, plots, symmetry, sectionLine, imprint, figures, area, footprint, outline];
hears("revised", () => images.clear());
onOutline(() => announce("painted"));
