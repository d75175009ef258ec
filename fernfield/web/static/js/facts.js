// The facts of the spot: the line below, the section, and the altitude bar.
import { send } from "./live.js";
import { ask } from "./say.js";
import { drawOutline } from "./outline.js";
import { postsInView, spotAt, paneSize } from "./plan.js";
import { clamp, keep, on, state, tell } from "./state.js";

const line = document.getElementById("spot");
const panel = document.getElementById("section");
const profile = document.getElementById("section-line");
const part = (name) => panel.querySelector(`[data-section="${name}"]`);

let asked = false;
let again = false;
let askedAt = -1e9;
/** The newest facts. @type {any} */
export const facts = { spot: null, section: null, line: null, levels: null, volume: "" };

/** Ask for the facts of the cursor's spot; one question is under way at a time. */
export function askSpot() {
  if (!state.cursor) return;
  const early = askedAt + (state.drawing || state.walking ? 200 : 25) - performance.now();
  if (asked || early > 0) {
    again = true;
    if (!asked) setTimeout(() => again && askSpot(), early);
    return;
  }
  again = false;
  askedAt = performance.now();
  const whole = state.view === "overlook" || state.view === "eye";
  const left = whole ? 0 : spotAt(0, 0).x;
  const right = whole ? state.world.width_m : spotAt(paneSize()[0], 0).x;
  asked = send({ is: "spot", x: state.cursor.x, y: state.cursor.y, x0: left, x1: right, section: state.section && !state.line });
  if (asked) setTimeout(() => (asked = false), 1000);
}

on("live:spot", (message) => {
  asked = false;
  facts.spot = message.spot;
  if (message.section) facts.section = message.section;
  showSpot();
  showSection();
  drawFlag();
  tell("facts", facts);
  if (again) {
    again = false;
    askSpot();
  }
});
on("cursor", askSpot);
on("stale", askSpot);
// A revision that is not the stroke just drawn has volumes of its own: the last ones are told no more.
on("live:revised", () => {
  facts.volume = part("volume").textContent = "";
});
on("progress", (message) => {
  const volumes = [["cut", message.cut_m3], ["fill", message.fill_m3]].filter(([, v]) => v >= 0.5);
  part("volume").textContent = volumes.map(([n, v]) => `${n} ${Math.round(v).toLocaleString("en")} m³`).join(" · ");
});
on("live:ended", (message) => {
  const volumes = [["cut", message.cut_m3], ["fill", message.fill_m3]].filter(([, v]) => v >= 0.5);
  facts.volume = volumes.map(([n, v]) => `${n} ${Math.round(v).toLocaleString("en")} m³`).join(" · ");
  part("volume").textContent = facts.volume;
});

const signed = (v) => (v >= 0 ? "+" : "−") + Math.abs(v).toFixed(2);
/** A number with a true minus sign. */
const figure = (v, digits) => (Number(v.toFixed(digits)) < 0 ? "−" : "") + Math.abs(v).toFixed(digits);

function showSpot() {
  const s = facts.spot;
  if (!s) {
    line.innerHTML = "<em>Move over the map to read a spot.</em>";
    return;
  }
  const walk = s.water_depth_m >= 1.2 ? "too deep" : s.slope_deg > 45 ? "too steep" : "climbable";
  const covers = Object.entries(s.covers)
    .filter(([, share]) => share >= 0.005)
    .sort((a, b) => b[1] - a[1])
    .map(([name, share]) => `${name} ${Math.round(share * 100)}`);
  const spans = [
    ["", `E ${s.x.toFixed(1)} N ${s.y.toFixed(1)}`, ""],
    ["", `${figure(s.elevation_m, 2)} m`, `(${signed(s.over_sea_m)} over sea)`],
    s.water_depth_m > 0 ? ["depth", `${s.water_depth_m.toFixed(2)} m`, ""] : null,
    ["slope", `${s.slope_deg.toFixed(1)}° ${s.slope_percent.toFixed(0)} %`, walk],
    ["cover", covers.join(" "), ""],
    ["growth", `${s.growth_within_10_m} within 10 m`, ""],
    s.plots.length ? ["in", s.plots.map((name) => `“${name}”`).join(", "), ""] : null,
  ].filter(Boolean);
  line.replaceChildren(
    ...spans.map(([before, words, after]) => {
      const span = document.createElement("span");
      const em = (text) => Object.assign(document.createElement("em"), { textContent: text });
      span.append(...(before ? [em(`${before} `)] : []), words, ...(after ? [em(` ${after}`)] : []));
      return span;
    }),
  );
  const depth = document.querySelector("[data-depth]");
  if (depth) {
    depth.hidden = s.water_depth_m <= 0;
    depth.textContent = `Depth under the cursor: ${s.water_depth_m.toFixed(2)} m`;
  }
}

// The section

function showSection() {
  const s = state.line ? facts.line : facts.section;
  panel.classList.toggle("folded", !state.section);
  part("fold").textContent = state.section ? "fold" : "unfold";
  part("between").textContent = "";
  if (!s || !state.section) return;
  const width = profile.clientWidth || 800;
  const height = 82;
  const lowest = Math.min(...s.ground, ...(s.before || []), s.sea_level_m);
  const highest = Math.max(...s.ground, ...(s.before || []), s.sea_level_m);
  const length = (s.ground.length - 1) * s.step_m;
  const span = Math.max(highest - lowest, (length / width) * 30, 1);
  const px = (i) => (i / (s.ground.length - 1)) * width;
  const py = (z) => height - 8 - ((z - lowest) / span) * (height - 22);
  const points = (values) => values.map((z, i) => `${px(i).toFixed(1)},${py(z).toFixed(1)}`).join(" ");
  const sea = py(s.sea_level_m).toFixed(1);
  const at = state.line ? -10 : state.cursor ? ((state.cursor.x - s.x0) / length) * width : -10;
  profile.setAttribute("viewBox", `0 0 ${width} ${height}`);
  profile.innerHTML =
    `<polygon class="sea" points="0,${sea} ${width},${sea} ${width},${height + 4} 0,${height + 4}"/>` +
    `<polygon class="ground" points="-2,${height + 4} -2,${py(s.ground[0])} ${points(s.ground)} ${width + 2},${py(s.ground.at(-1))} ${width + 2},${height + 4}"/>` +
    (s.before ? `<polyline class="was" points="${points(s.before)}"/>` : "") +
    `<path class="here" d="M${at.toFixed(1)} 0V${height}"/>` +
    (state.line ? state.marks.map((mark) => `<path class="mark-line" d="M${((mark / length) * width).toFixed(1)} 0V${height}"/>`).join("") : "") +
    `<text x="4" y="10">${figure(highest, 1)} m</text><text x="4" y="${height - 3}">${figure(lowest, 1)} m</text>`;
  const times = (height - 22) / span / (width / length);
  const scale = `heights × ${times < 10 ? times.toFixed(1) : Math.round(times)}`;
  if (state.line) {
    part("words").textContent = `along a line, ${Math.round(s.length_m)} m, ${scale}`;
    part("rise").textContent = state.marks.length < 2 ? "click two points of it to measure between them" : "";
    const b = s.between;
    if (b) part("between").textContent = `${b.run_m.toFixed(1)} m · rise ${signed(b.rise_m)} m · ${b.slope_deg.toFixed(1)}° ${b.slope_percent.toFixed(1)} % · over the ground ${b.ground_length_m.toFixed(1)} m`;
    return;
  }
  part("words").textContent = `west to east through N ${s.y.toFixed(0)}, ${Math.round(length)} m, ${scale}`;
  part("rise").textContent = facts.spot ? `rise at mark ${facts.spot.slope_deg.toFixed(1)}° · ${facts.spot.slope_percent.toFixed(0)} %` : "";
}

// A line of one's own

let lineTimer = 0;
let lineAsked = false;
/** Ask for the section along the line; soon, and one question at a time. */
function askLine() {
  if (!state.line || !state.section || lineAsked) {
    if (lineAsked) lineTimer = setTimeout(askLine, 200);
    return;
  }
  clearTimeout(lineTimer);
  lineTimer = setTimeout(async () => {
    const query = new URLSearchParams({ points: JSON.stringify(state.line) });
    if (state.marks.length === 2) {
      query.set("a", String(state.marks[0]));
      query.set("b", String(state.marks[1]));
    }
    lineAsked = true;
    const found = await ask(`/api/tracts/${state.world.tract}/line?${query}`);
    lineAsked = false;
    if (!found || !state.line) return;
    facts.line = found;
    showSection();
  }, 120);
}

/** The section follows a line of points, or with null the cursor's row. */
function setLine(points, kept = "") {
  state.line = points;
  state.marks = [];
  facts.line = null;
  keep();
  part("keep").hidden = !points || Boolean(kept);
  part("lines").value = kept;
  askLine();
  showSection();
  askSpot();
  tell("rows");
}
state.marks = [];
part("draw").addEventListener("click", () => drawOutline("line", (points) => setLine(points)));
part("keep").addEventListener("click", async () => {
  const key = `s${Date.now().toString(36)}`;
  const name = `Line ${state.world.lines.length + 1}`;
  const done = await ask(`/api/worlds/${state.world.id}/lines/${key}`, "PUT", { name, points: state.line, tract: state.world.tract });
  if (done) part("keep").hidden = true;
});
part("lines").addEventListener("change", () => {
  const line = state.world.lines.find((l) => l.key === part("lines").value);
  setLine(line ? line.points : null, line?.key);
});
profile.addEventListener("click", (event) => {
  if (!state.line || !facts.line) return;
  const box = profile.getBoundingClientRect();
  const at = ((event.clientX - box.left) / box.width) * facts.line.length_m;
  state.marks = state.marks.length === 2 ? [at] : [...state.marks, at].sort((a, b) => a - b);
  askLine();
  showSection();
  tell("rows");
});
function listLines() {
  const chosen = part("lines").value;
  part("lines").replaceChildren(new Option("the cursor's row", ""), ...state.world.lines.map((l) => new Option(l.name, l.key)));
  part("lines").value = state.world.lines.some((l) => l.key === chosen) ? chosen : "";
}
on("rows", listLines);
listLines();
for (const what of ["stale", "live:ended", "live:revised", "all-stale"]) on(what, askLine);
part("keep").hidden = !state.line;
askLine();

part("fold").addEventListener("click", () => {
  state.section = !state.section;
  keep();
  showSection();
  askSpot();
});
on("plan-moved", () => state.section && askSpot());

// The altitude bar

const bar = document.getElementById("altitude");
const TOP = 26;
const FOOT = 14;
let dragged = null;
let levelsTimer = 0;

export function askLevels() {
  clearTimeout(levelsTimer);
  levelsTimer = setTimeout(async () => {
    const [row0, col0, row1, col1] = postsInView();
    const found = await ask(`/api/tracts/${state.world.tract}/levels?row0=${row0}&col0=${col0}&row1=${row1}&col1=${col1}`);
    if (!found) return;
    facts.levels = found;
    drawBar();
  }, 150);
}

const barHeight = () => Math.max(60, bar.clientHeight - TOP - FOOT);
const yOfLevel = (z) => {
  const l = facts.levels;
  return TOP + (1 - (z - l.bottom_m) / (l.top_m - l.bottom_m)) * barHeight();
};
const levelOfY = (y) => {
  const l = facts.levels;
  return l.bottom_m + (1 - (y - TOP) / barHeight()) * (l.top_m - l.bottom_m);
};

function drawBar() {
  const l = facts.levels;
  if (!l) return;
  const width = bar.clientWidth || 84;
  const most = Math.max(...l.counts, 1);
  const tall = barHeight() / l.counts.length;
  const sea = dragged ?? state.world.sea_level_m;
  const span = l.top_m - l.bottom_m;
  const step = [0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000].find((s) => span / s <= 10) || 10_000;
  let out = `<text x="${width / 2}" y="15" text-anchor="middle">m</text>`;
  const seaY = clamp(yOfLevel(sea), TOP, TOP + barHeight());
  out += `<rect class="water" x="36" y="${seaY}" width="${width - 36}" height="${Math.max(0, TOP + barHeight() - seaY)}"/>`;
  l.counts.forEach((count, i) => {
    const wide = Math.sqrt(count / most) * (width - 42);
    if (count) out += `<rect class="bar" x="36" y="${TOP + barHeight() - (i + 1) * tall}" width="${wide.toFixed(1)}" height="${tall.toFixed(2)}"/>`;
  });
  out += `<path class="axis" d="M36 ${TOP}V${TOP + barHeight()}"/>`;
  for (let z = Math.ceil(l.bottom_m / step) * step; z <= l.top_m; z += step) {
    const y = yOfLevel(z);
    out += `<path class="axis" d="M31 ${y}H36"/><text x="28" y="${y + 3.5}" text-anchor="end">${figure(z, step < 1 ? 1 : 0)}</text>`;
  }
  out += `<g class="sea-mark" role="slider" tabindex="0" aria-label="Sea level" aria-valuemin="${l.bottom_m}" aria-valuemax="${l.top_m}" aria-valuenow="${sea}" aria-valuetext="${sea.toFixed(2)} metres" transform="translate(36 ${seaY})"><rect x="-36" y="-10" width="${width}" height="20" fill="transparent"/><path d="M0-1H${width - 36}V1H0Z"/><path d="M0 0L6 -8H${width - 38}V8H6Z"/><text x="${width - 41}" y="4" text-anchor="end">${figure(sea, sea % 1 ? 1 : 0)}</text></g>`;
  for (const level of state.world.levels) {
    const z = moving?.key === level.key ? moving.z : level.elevation_m;
    if (z < l.bottom_m || z > l.top_m) continue;
    out += `<g class="level" data-level="${level.key}" role="slider" tabindex="0" aria-label="Level ${escaped(level.name)}" aria-valuemin="${l.bottom_m}" aria-valuemax="${l.top_m}" aria-valuenow="${z}" transform="translate(36 ${yOfLevel(z)})"><title>${escaped(level.name)}, ${figure(z, 2)} m: click to flatten to it, drag to change it</title><rect x="-36" y="-7" width="${width}" height="14" fill="transparent"/><path d="M-6 -1H${width - 36}V1H-6Z"/><text x="2" y="-3">${escaped(level.name.slice(0, 7))}</text></g>`;
  }
  out += `<g class="flag" id="flag"></g>`;
  bar.innerHTML = out;
  drawFlag();
}

function drawFlag() {
  const flag = document.getElementById("flag");
  const s = facts.spot;
  if (!flag || !facts.levels) return;
  if (!s) {
    flag.replaceChildren();
    return;
  }
  const width = bar.clientWidth || 84;
  const y = clamp(yOfLevel(s.elevation_m), TOP, TOP + barHeight());
  flag.setAttribute("transform", `translate(36 ${y})`);
  flag.innerHTML = `<path d="M0 0L7 -7H${width - 38}V7H7Z"/><text x="${width - 40}" y="3.500" text-anchor="end">${figure(s.elevation_m, 1)}</text>`;
}

/** Set the sea level: one revision. */
export async function setSea(level) {
  const rounded = Math.round(level * 100) / 100;
  state.world.sea_level_m = rounded;
  drawBar();
  await ask(`/api/worlds/${state.world.id}`, "PATCH", { sea_level_m: rounded });
}

const escaped = (text) => text.replace(/[&<>"]/g, (c) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[c]);

/** A level of the book that is dragged. @type {{key: string, z: number, moved: boolean} | null} */
let moving = null;
let letGoAt = 0;
bar.addEventListener("pointerdown", (event) => {
  const mark = event.target.closest(".level");
  if (!mark || event.button !== 0) return;
  event.preventDefault();
  bar.setPointerCapture(event.pointerId);
  moving = { key: mark.dataset.level, z: state.world.levels.find((l) => l.key === mark.dataset.level).elevation_m, moved: false };
});
bar.addEventListener("pointermove", (event) => {
  if (!moving) return;
  const z = Math.round(levelOfY(event.clientY - bar.getBoundingClientRect().top) * 10) / 10;
  if (Math.abs(yOfLevel(z) - yOfLevel(moving.z)) < 3 && !moving.moved) return;
  Object.assign(moving, { z, moved: true });
  drawBar();
});
bar.addEventListener("pointerup", () => {
  if (!moving) return;
  const { key, z, moved } = moving;
  moving = null;
  letGoAt = performance.now();
  const level = state.world.levels.find((l) => l.key === key);
  if (moved) ask(`/api/worlds/${state.world.id}/levels/${key}`, "PUT", { name: level.name, elevation_m: z });
  else tell("take-level", level.elevation_m);
});
/** A click on the bare bar takes the level there. */
bar.addEventListener("click", (event) => {
  // A mark that was dragged lets go with a click of its own.
  if (event.target.closest(".level, .sea-mark") || !facts.levels || performance.now() - letGoAt < 80) return;
  tell("take-level", levelOfY(event.clientY - bar.getBoundingClientRect().top));
});
on("rows", drawBar);

bar.addEventListener("pointerdown", (event) => {
  if (!event.target.closest(".sea-mark") || event.button !== 0) return;
  event.preventDefault();
  bar.setPointerCapture(event.pointerId);
  dragged = state.world.sea_level_m;
});
bar.addEventListener("pointermove", (event) => {
  if (dragged === null) return;
  const y = event.clientY - bar.getBoundingClientRect().top;
  dragged = Math.round(levelOfY(y) * 10) / 10;
  drawBar();
});
bar.addEventListener("pointerup", () => {
  if (dragged === null) return;
  const level = dragged;
  dragged = null;
  letGoAt = performance.now();
  setSea(level);
});
bar.addEventListener("pointercancel", () => {
  dragged = null;
  drawBar();
});
bar.addEventListener("keydown", (event) => {
  const step = { ArrowUp: 0.5, ArrowDown: -0.5, PageUp: 5, PageDown: -5 }[event.key];
  if (!step || !event.target.closest(".sea-mark")) return;
  event.preventDefault();
  event.stopPropagation();
  setSea(state.world.sea_level_m + step).then(() => bar.querySelector(".sea-mark")?.focus());
});
new ResizeObserver(drawBar).observe(bar);
for (const what of ["plan-moved", "stale", "all-stale"]) on(what, () => !state.drawing && askLevels());
on("drawing", (name) => !name && askLevels());

