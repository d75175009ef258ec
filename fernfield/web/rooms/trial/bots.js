// Runs of simulated testers: let go, looked at as heat over the plan, beside another run, and at their worst places.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { goThere } from "/static/js/seen/hands/cursor.js";
import { rows } from "/static/js/seen/rows.js";
import { state, watch } from "/static/js/seen/state.js";
import { clock } from "./hud.js";
import { showTrack } from "./kept.js";

/** @typedef {import("/static/js/api.js").components["schemas"]} Told */

const base = `/api/worlds/${state.world.id}/runs`;
/** @type {Record<string, number[]>} As in the report. */
const INKS = {
  walked: [162, 67, 31],
  stood: [39, 99, 127],
  met: [90, 31, 61],
  stuck: [176, 0, 32],
  fallen: [91, 74, 134],
};
/** So many seconds before somebody stuck or fell the replay begins. */
const BEFORE_S = 20;
const MOST_GROUPS = 8;

const known = Alpine.reactive({
  /** So many sorts of bots; 0: as many as there are teams with a start. */
  groups: 0,
  key: "",
  beside: "",
  heat: "walked",
  worst: /** @type {Told["Worst"][]} */ ([]),
});
/** @type {{image: HTMLCanvasElement, west: number, north: number, cell: number} | null} */
let picture = null;

async function look() {
  picture = null;
  drawOverlay();
  const { key, heat } = known;
  if (!key) return;
  const [answer, worst] = await Promise.all([
    fetch(`${base}/${key}/heat?what=${heat}`),
    ask(`${base}/${key}/worst`, "GET"),
  ]);
  if (known.key !== key || known.heat !== heat) return;
  known.worst = /** @type {Told["Worst"][]} */ (worst ?? []);
  if (answer.ok) picture = await painted(answer, INKS[heat]);
  drawOverlay();
}

/** The ink goes by the logarithm: few squares have most of it. @param {Response} answer @param {number[]} ink */
async function painted(answer, ink) {
  const [tall, wide] = (answer.headers.get("X-Shape") ?? "").split(",").map(Number);
  const [west, north, cell] = (answer.headers.get("X-Squares") ?? "").split(",").map(Number);
  const values = new Float32Array(await answer.arrayBuffer());
  const most = Math.log1p(values.reduce((a, b) => Math.max(a, b), 0));
  const image = document.createElement("canvas");
  Object.assign(image, { width: wide, height: tall });
  const context = /** @type {CanvasRenderingContext2D} */ (image.getContext("2d"));
  const data = context.createImageData(wide, tall);
  values.forEach((value, at) => {
    if (value > 0) data.data.set([...ink, 40 + (200 * Math.log1p(value)) / most], at * 4);
  });
  context.putImageData(data, 0, 0);
  return { image, west, north, cell };
}

addMark((context) => {
  if (state.stage !== "trial" || state.tabs.trial !== "bots" || state.walking || !picture) return;
  const { image, west, north, cell } = picture;
  const [x0, y0] = screenAt(west, north);
  const [x1, y1] = screenAt(west + image.width * cell, north - image.height * cell);
  context.imageSmoothingEnabled = false;
  context.drawImage(image, x0, y0, x1 - x0, y1 - y0);
  known.worst.forEach(({ x, y }, k) => {
    const [px, py] = screenAt(x, y);
    context.lineWidth = 2;
    context.strokeStyle = "#faf8f1";
    context.fillStyle = "#5a1f3d";
    context.beginPath();
    context.arc(px, py, 9, 0, 7);
    context.fill();
    context.stroke();
    context.fillStyle = "#faf8f1";
    context.font = "11px sans-serif";
    context.textAlign = "center";
    context.fillText(String(k + 1), px, py + 4);
  });
});
watch(
  () => state.tabs.trial,
  () => drawOverlay(),
);
// A run that is there no more is looked at no more.
watch(
  () => known.key && !rows("runs").some((one) => one.key === known.key),
  (gone) => {
    if (gone) Object.assign(known, { key: "", worst: [] });
    if (gone) look();
  },
);

// What was just played is looked at.
document.body.addEventListener("htmx:afterSwap", () => {
  const card = /** @type {HTMLElement | null} */ (document.querySelector("#run-job [data-run-made]"));
  if (!card || card.dataset.seen) return;
  card.dataset.seen = "yes";
  choose(card.dataset.runMade ?? "");
});
/** @param {string} key */
function choose(key) {
  Object.assign(known, { key, beside: "", worst: [] });
  look();
}

/** @param {any} run */
function figuresOf(run) {
  const won = Object.entries(run.won).map(([team, count]) => `${team === "none" ? "nobody" : `team ${team}`} ${count}`);
  const met = Object.entries(run.met_s).map(([two, at]) => [
    `Teams ${two.replace("-", " and ")} meet`,
    clock(Number(at)),
  ]);
  const fired = Object.values(run.fired).reduce((a, b) => a + Number(b), 0);
  /** @type {[string, string][]} */
  const found = [
    ["Won", won.join(", ")],
    ["A round takes", `${clock(run.mean_s)} (${clock(run.shortest_s)} to ${clock(run.longest_s)})`],
    ["Stuck", String(run.stuck)],
    ["Fell hard", String(run.fallen)],
    ["Cues went off", String(fired)],
    ["Nobody came to", run.not_visited.join(", ") || "–"],
  ];
  return new Map([...found.slice(0, 2), .../** @type {[string, string][]} */ (met), ...found.slice(2)]);
}
/** The teams that have a start; the first where there are none, and for a start that is free to all. @returns {number[]} */
const teams = () => {
  const starts = rows("things").filter((one) => one.sort === "start");
  return starts.length ? [...new Set(starts.map((one) => one.team ?? 1))].sort() : [1];
};
/** How many sorts of bots go. */
const groups = () => known.groups || Math.min(teams().length, MOST_GROUPS);
const runOf = (/** @type {string} */ key) => rows("runs").find((one) => one.key === key);

Alpine.data("bots", () => ({
  get groups() {
    const own = teams();
    return Array.from({ length: groups() }, (_, at) => ({ at, team: own[at % own.length] }));
  },
  get many() {
    return groups() > 1;
  },
  get walker() {
    return state.show.walker ?? "person";
  },
  get name() {
    return `Run ${rows("runs").length + 1}`;
  },
  get list() {
    return rows("runs").map((one) => ({
      key: one.key,
      name: one.name,
      words: `r${one.revision} · ${one.rounds} × ${one.bots.reduce((/** @type {number} */ sum, /** @type {any} */ of) => sum + of.count, 0)}`,
      chosen: one.key === known.key,
    }));
  },
  get chosen() {
    return Boolean(runOf(known.key));
  },
  get others() {
    return rows("runs").filter((one) => one.key !== known.key);
  },
  get beside() {
    return Boolean(runOf(known.beside));
  },
  get figures() {
    const run = runOf(known.key);
    if (!run) return [];
    const [own, other] = [figuresOf(run), runOf(known.beside)];
    const also = other ? figuresOf(other) : new Map();
    return [...own].map(([name, words]) => ({ name, words, beside: also.get(name) ?? "" }));
  },
  get worst() {
    return known.worst.map((one, key) => ({
      key,
      words: `${key + 1}. ${one.count === 1 ? "Once" : `${one.count} times`}: ${one.words}`,
    }));
  },
  get report() {
    return known.key ? `${base}/${known.key}/report.html` : "#";
  },
  more() {
    known.groups = Math.min(groups() + 1, MOST_GROUPS);
  },
  fewer() {
    known.groups = Math.max(groups() - 1, 1);
  },
  /** @param {Event} event */
  choose(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.runKey ?? "";
    choose(key === known.key ? "" : key);
  },
  /** @param {Event} event */
  setHeat(event) {
    known.heat = /** @type {HTMLSelectElement} */ (event.target).value;
    look();
  },
  /** @param {Event} event */
  setBeside(event) {
    known.beside = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  /** The place, and what happened there, once more. @param {Event} event */
  async visit(event) {
    const one = known.worst[Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.worst)];
    goThere({ x: one.x, y: one.y });
    const told = await ask(`${base}/${known.key}/tracks?round=${one.round}&bot=${one.bot}`, "GET");
    if (!told) return;
    showTrack(told.track, Math.max(0, one.second - BEFORE_S));
    say(`${told.bot} in round ${one.round + 1}, from ${clock(Math.max(0, one.second - BEFORE_S))} on.`, "calm");
  },
  async remove() {
    if (await ask(`${base}/${known.key}`, "DELETE")) Object.assign(known, { key: "", worst: [] });
    look();
  },
}));
