// The section: the ground along the cursor's row or a line of one's own, as it was before, and between two marks.
import { ask } from "../../kernel/say.js";
import { figure, id, signed, svg, volumeWords } from "../../kernel/shapes.js";
import { hears } from "../live.js";
import { drawOutline } from "../hands/outline.js";
import { row, rows } from "../rows.js";
import { askSpot, facts } from "./spot.js";
import { heed, keep, state, watch, landApi, onlyLight } from "../state.js";
import { tell } from "../../kernel/tell.js";

const panel = id("section");
const profile = id("section-line");
/** @param {string} name @returns {any} */
const part = (name) => panel.querySelector(`[data-section="${name}"]`);

// Volumes: of the stroke under way, then of what was kept.

// A revision that is not the stroke just drawn has volumes of its own: the last ones are told no more.
hears("revised", () => {
  facts.volume = part("volume").textContent = "";
});
watch(
  () => state.progress,
  (message) => {
    if (message) part("volume").textContent = volumeWords(message);
  },
);
hears("ended", (message) => {
  facts.volume = part("volume").textContent = volumeWords(message);
});

const HEIGHT = 82;

/** @typedef {import("../../types.js").Answers} Answers */
/** @typedef {Answers["Section"] & Answers["LineSection"]} Either has what one of them has */

/** Where water stands along a line: first and last point of each stretch, and its level. @param {(number | null)[]} water @returns {[number, number, number][]} */
function poolsOf(water) {
  /** @type {[number, number, number][]} */
  const found = [];
  water.forEach((z, at) => {
    const last = found.at(-1);
    if (z === null) return;
    if (last && last[1] === at - 1 && last[2] === z) last[1] = at;
    else found.push([at, at, z]);
  });
  return found;
}

function showSection() {
  const s = /** @type {Either | null} */ (state.section_line ? facts.line : facts.section);
  panel.classList.toggle("folded", !state.section);
  const open = state.section && (!low.matches || panel.classList.contains("asked"));
  part("fold").textContent = open ? "fold" : "unfold";
  part("fold").setAttribute("aria-expanded", String(open));
  part("between").textContent = "";
  if (!s || !state.section) return;
  const width = profile.clientWidth || 800;
  const wet = s.water;
  const levels = wet.filter((z) => z !== null);
  const lowest = Math.min(...s.ground, ...(s.before || []));
  const highest = Math.max(...s.ground, ...(s.before || []), ...levels);
  const length = (s.ground.length - 1) * s.step_m;
  const span = Math.max(highest - lowest, (length / width) * 30, 1);
  const px = (/** @type {number} */ i) => (i / (s.ground.length - 1)) * width;
  const py = (/** @type {number} */ z) => HEIGHT - 8 - ((z - lowest) / span) * (HEIGHT - 22);
  const points = (/** @type {number[]} */ values) =>
    values.map((z, i) => `${px(i).toFixed(1)},${py(z).toFixed(1)}`).join(" ");
  const foot = HEIGHT + 4;
  // Of a line of one's own the marks are set by keys too.
  if (state.section_line) profile.setAttribute("tabindex", "0");
  else profile.removeAttribute("tabindex");
  profile.setAttribute("role", state.section_line ? "application" : "img");
  const here = document.activeElement === profile ? (at / length) * width : -10;
  const mark = state.section_line ? here : state.cursor ? ((state.cursor.x - s.x0) / length) * width : -10;
  profile.setAttribute("viewBox", `0 0 ${width} ${HEIGHT}`);
  profile.replaceChildren(
    ...poolsOf(wet).map(([first, last, z]) => {
      // As far as the next dry points: the ground cuts it there.
      const [west, east] = [px(Math.max(0, first - 1)), px(Math.min(s.ground.length - 1, last + 1))];
      const level = py(z).toFixed(1);
      return svg("polygon", {
        class: "sea",
        points: `${west},${level} ${east},${level} ${east},${foot} ${west},${foot}`,
      });
    }),
    svg("polygon", {
      class: "ground",
      points: `-2,${foot} -2,${py(s.ground[0])} ${points(s.ground)} ${width + 2},${py(s.ground[s.ground.length - 1])} ${width + 2},${foot}`,
    }),
    ...(s.before ? [svg("polyline", { class: "was", points: points(s.before) })] : []),
    svg("path", { class: "here", d: `M${mark.toFixed(1)} 0V${HEIGHT}` }),
    ...(state.section_line
      ? state.marks.map((mark) =>
          svg("path", { class: "mark-line", d: `M${((mark / length) * width).toFixed(1)} 0V${HEIGHT}` }),
        )
      : []),
    svg("text", { x: 4, y: 10 }, `${figure(highest, 1)} m`),
    svg("text", { x: 4, y: HEIGHT - 3 }, `${figure(lowest, 1)} m`),
    ...(s.before ? [svg("text", { x: width - 4, y: 10, "text-anchor": "end" }, "dashed: as it was before")] : []),
  );
  profile.setAttribute(
    "aria-label",
    `Elevation profile over ${Math.round(length)} metres, from ${figure(Math.min(...s.ground), 1)} to ${figure(Math.max(...s.ground), 1)} metres${s.before ? ", with the ground as it was before" : ""}`,
  );
  const times = (HEIGHT - 22) / span / (width / length);
  const scale = `heights × ${times < 10 ? times.toFixed(1) : Math.round(times)}`;
  if (state.section_line) {
    part("words").textContent = `along a line, ${Math.round(s.length_m)} m, ${scale}`;
    part("rise").textContent = state.marks.length < 2 ? "click two points of it to measure between them" : "";
    const b = s.between;
    if (b)
      part("between").textContent =
        `${b.run_m.toFixed(1)} m · rise ${signed(b.rise_m)} m · ${b.slope_deg.toFixed(1)}° ${b.slope_percent.toFixed(1)} % · over the ground ${b.ground_length_m.toFixed(1)} m`;
    return;
  }
  part("words").textContent = `west to east through N ${figure(s.y, 0)}, ${Math.round(length)} m, ${scale}`;
  part("rise").textContent = facts.spot
    ? `rise at mark ${facts.spot.slope_deg.toFixed(1)}° · ${facts.spot.slope_percent.toFixed(0)} %`
    : "";
}
heed("facts", showSection);

// A line of one's own

let lineTimer = 0;
let lineAsked = false;
/** Ask for the section along the line; soon, and one question at a time. */
function askLine() {
  if (!state.section_line || !state.section || lineAsked) {
    if (lineAsked) lineTimer = setTimeout(askLine, 200);
    return;
  }
  clearTimeout(lineTimer);
  lineTimer = setTimeout(async () => {
    const query = new URLSearchParams({ points: JSON.stringify(state.section_line) });
    if (state.marks.length === 2) {
      query.set("a", String(state.marks[0]));
      query.set("b", String(state.marks[1]));
    }
    if (state.show.tide) query.set("tide", state.show.tide);
    lineAsked = true;
    const found = await ask(`${landApi}/line?${query}`);
    lineAsked = false;
    if (!found || !state.section_line) return;
    facts.line = found;
    showSection();
  }, 120);
}

/** The section follows a line of points, or with null the cursor's row. @param {number[][] | null} points @param {string} [kept] */
function setLine(points, kept = "") {
  state.section_line = points;
  state.marks = [];
  facts.line = null;
  keep();
  part("keep").hidden = !points || Boolean(kept);
  part("lines").value = kept;
  askLine();
  showSection();
  askSpot();
}
part("draw").addEventListener("click", () => drawOutline("line", (points) => setLine(points)));
part("keep").addEventListener("click", async () => {
  const done = await ask(`/api/worlds/${state.world.id}/lines?in=world`, "POST", {
    name: `Line ${rows("lines").length + 1}`,
    points: state.section_line,
    tract: state.world.tract,
  });
  if (done) part("keep").hidden = true;
});
part("lines").addEventListener("change", () => {
  const line = row("lines", part("lines").value);
  setLine(line ? line.points : null, line?.key);
});
profile.addEventListener("click", (/** @type {MouseEvent} */ event) => {
  if (!state.section_line || !facts.line) return;
  const box = profile.getBoundingClientRect();
  setMark(((event.clientX - box.left) / box.width) * facts.line.length_m);
});
/** One more mark on the line; a third begins anew. @param {number} metres along it */
function setMark(metres) {
  state.marks = state.marks.length === 2 ? [metres] : [...state.marks, metres].sort((a, b) => a - b);
  askLine();
  showSection();
}
/** Where along the line the next mark would be, for the keyboard. [m] */
let at = 0;
/** How far each key goes along the line, as a part of it. @type {Record<string, number>} */
const ALONG = { ArrowRight: 0.01, ArrowLeft: -0.01, PageUp: 0.1, PageDown: -0.1 };
profile.addEventListener("keydown", (/** @type {KeyboardEvent} */ event) => {
  const line = facts.line;
  if (!state.section_line || !line) return;
  if (event.key in ALONG) {
    at = Math.min(Math.max(at + ALONG[event.key] * line.length_m, 0), line.length_m);
    const ground = line.ground[Math.round((at / line.length_m) * (line.ground.length - 1))];
    tell(`${at.toFixed(1)} metres along, ${figure(ground, 2)} metres high`);
    showSection();
  } else if (event.key === "Enter" || event.key === " ") setMark(at);
  else return;
  event.preventDefault();
  event.stopPropagation();
});

function listLines() {
  const chosen = part("lines").value;
  part("lines").replaceChildren(
    new Option("the cursor's row", ""),
    ...rows("lines").map((l) => new Option(l.name, l.key)),
  );
  part("lines").value = row("lines", chosen) ? chosen : "";
}
watch(() => state.at.lines, listLines);
listLines();
for (const what of ["stale", "all-stale"]) heed(what, (message) => onlyLight(message) || askLine());
watch(() => state.show.tide, askLine);
for (const what of ["ended", "revised"]) hears(what, askLine);
part("keep").hidden = !state.section_line;
askLine();

/** On a low screen the section has no room of its own until it is asked for. */
const low = matchMedia("(max-height: 520px)");
part("fold").addEventListener("click", () => {
  if (low.matches) {
    state.section = panel.classList.toggle("asked") || state.section;
  } else state.section = !state.section;
  keep();
  showSection();
  askSpot();
});
