// What lies over the plan as lines and words: plots, the section's line, symmetry, posts, figures, contour labels, legends.
import { active, points as outlinePoints } from "./outline.js";
import { level, metresPerPixel, postsInView, screenAt, screenOf } from "./plan.js";
import { ask } from "./say.js";
import { brush, grid, on, state, tell, tool } from "./state.js";

const INK = "#1e2925";
const RUST = "#a2431f";
const FERN = "#2c6647";

function polyline(context, points, close) {
  context.beginPath();
  points.forEach(([x, y], i) => (i ? context.lineTo(...screenAt(x, y)) : context.moveTo(...screenAt(x, y))));
  if (close) context.closePath();
}

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

function words(context, text, x, y, colour = INK, font = "600 11px Archivo") {
  context.font = font;
  context.lineWidth = 3;
  context.strokeStyle = "rgba(250, 248, 241, .9)";
  context.strokeText(text, x, y);
  context.fillStyle = colour;
  context.fillText(text, x, y);
}

function plots(context) {
  if (state.stage !== "ground") return;
  const chosen = new Set(state.keepTo?.plots || []);
  for (const plot of state.world.plots) {
    polyline(context, plot.points, true);
    haloed(context, chosen.has(plot.key) ? FERN : INK, chosen.has(plot.key) ? 1.8 : 1.1, [2, 3]);
    const x = plot.points.reduce((sum, p) => sum + p[0], 0) / plot.points.length;
    const y = plot.points.reduce((sum, p) => sum + p[1], 0) / plot.points.length;
    const [px, py] = screenAt(x, y);
    words(context, plot.name, px - context.measureText(plot.name).width / 2, py);
  }
}

function sectionLine(context) {
  if (!state.line || !state.section) return;
  polyline(context, state.line, false);
  haloed(context, RUST, 1.4, [10, 5]);
  for (const mark of state.marks || []) {
    const [x, y] = alongLine(state.line, mark);
    const [px, py] = screenAt(x, y);
    context.beginPath();
    context.arc(px, py, 4, 0, 7);
    context.fillStyle = FERN;
    context.fill();
  }
}

/** The place so many metres along a line. */
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

function symmetry(context) {
  const s = state.world.symmetry;
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

function figures(context) {
  for (const figure of state.figures) {
    const [x, y] = screenAt(figure.x, figure.y);
    const [wide, deep] = figure.sort === "person" ? [0.5, 0.35] : [1.8, 4.2];
    const scale = 1 / metresPerPixel();
    context.fillStyle = figure.sort === "person" ? RUST : "#27637f";
    context.fillRect(x - (wide * scale) / 2, y - (deep * scale) / 2, Math.max(wide * scale, 2), Math.max(deep * scale, 2));
    context.beginPath();
    context.arc(x, y, 9, 0, 7);
    haloed(context, context.fillStyle, 1.2);
    words(context, figure.sort === "person" ? "1.8 m" : "4.2 m", x + 12, y + 4, INK, '10px "Spline Sans Mono"');
  }
}

/** The image that Imprint will press, where it would come to lie. */
const images = new Map();
function imprint(context) {
  if (tool() !== "imprint" || !state.cursor || state.drawing || state.stage !== "ground" || active()) return;
  const own = brush();
  const key = own.own.image;
  if (!images.has(key)) {
    const image = new Image();
    image.src = `/api/worlds/${state.world.id}/pictures/${key}.png`;
    image.addEventListener("load", () => tell("plan-painted"));
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

/** Where the land of the bench's move form would come to lie. */
function moved(context) {
  const form = /** @type {any} */ (document.querySelector("#bench details[data-fold=areas][open] form[data-send$=move]"));
  if (!form || state.stage !== "ground") return;
  const plot = state.world.plots.find((p) => p.key === form.elements.plot.value);
  const box = !plot && form.dataset.boxed ? JSON.parse(form.dataset.boxed) : null;
  const corners = plot ? plot.points : box ? [[box[0], box[1]], [box[2], box[1]], [box[2], box[3]], [box[0], box[3]]] : null;
  if (!corners) return;
  const [xs, ys] = [corners.map((p) => p[0]), corners.map((p) => p[1])];
  const middle = [(Math.min(...xs) + Math.max(...xs)) / 2, (Math.min(...ys) + Math.max(...ys)) / 2];
  const number = (name) => Number(form.elements[name].value);
  const turn = (number("turn_deg") * Math.PI) / 180;
  const there = corners.map(([x, y]) => {
    const east = (x - middle[0]) * (form.elements.mirror.checked ? -1 : 1);
    const north = y - middle[1];
    return [number("x") + east * Math.cos(turn) + north * Math.sin(turn), number("y") - east * Math.sin(turn) + north * Math.cos(turn)];
  });
  polyline(context, corners, true);
  haloed(context, INK, 1.2, [6, 4]);
  polyline(context, there, true);
  haloed(context, FERN, 1.8);
}

function outline(context) {
  const drawing = outlinePoints();
  if (!drawing || drawing.points.length === 0) return;
  const points = state.cursor ? [...drawing.points, [state.cursor.x, state.cursor.y]] : drawing.points;
  const [[x0, y0], [x1, y1] = [x0, y0]] = points;
  polyline(context, drawing.sort === "box" ? [[x0, y0], [x1, y0], [x1, y1], [x0, y1]] : points, drawing.sort !== "line");
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
    const at = level();
    const scale = 2 ** at;
    const [row0, col0, row1, col1] = postsInView().map((post) => Math.round(post / scale));
    const query = new URLSearchParams({ level: at, row0, col0, row1, col1, contour_m });
    const found = await ask(`/api/tracts/${state.world.tract}/contour-labels?${query}`);
    if (found) labels = found;
    tell("labels");
  }, 250);
}
for (const what of ["plan-moved", "stale", "all-stale", "show"]) on(what, () => !state.drawing && askLabels());
on("drawing", (name) => !name && askLabels());

function contourFigures(context) {
  if (!state.show.labels || !state.show.contour_m || state.past !== null) return;
  context.font = '10.5px "Spline Sans Mono"';
  context.textAlign = "center";
  for (const label of labels) {
    const [x, y] = screenAt(label.x, label.y);
    context.save();
    context.translate(x, y);
    context.rotate((label.turn_deg * Math.PI) / 180);
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

const legend = document.getElementById("legend");
async function showLegend() {
  const wanted = state.show.overlays.filter((name) => name === "tint" || name === "slopes");
  legend.hidden = wanted.length === 0;
  if (legend.hidden) return;
  const found = await ask(`/api/tracts/${state.world.tract}/legend`);
  if (!found) return;
  const line = (colour, text) => {
    const row = document.createElement("div");
    row.innerHTML = `<svg width="14" height="10" aria-hidden="true"><rect width="14" height="10" fill="${colour || "none"}" stroke="#8f8770"/></svg>`;
    row.append(text);
    return row;
  };
  const head = (text) => Object.assign(document.createElement("b"), { textContent: text });
  const rows = [];
  if (wanted.includes("tint")) rows.push(head("Elevation"), ...[...found.tint].reverse().map((step) => line(step.colour, `${step.elevation_m.toFixed(0)} m`.replace("-", "−"))));
  if (wanted.includes("slopes")) rows.push(head("Slope"), ...found.slopes.map((c) => line(c.colour, c.words)));
  legend.replaceChildren(...rows);
}
for (const what of ["show", "live:ended", "live:revised"]) on(what, showLegend);
showLegend();

/** In this order over the plan; the next is a function and a place here. */
export const MARKS = [posts, contourFigures, plots, symmetry, sectionLine, imprint, figures, moved, outline];
on("look", () => images.clear());
on("outline", () => tell("plan-painted"));
