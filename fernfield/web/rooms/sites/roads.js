// Roads: drawn through points, found between two places, and led anew by their points.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { chosenOf, openTab } from "/static/js/seen/bench.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { choose } from "/static/js/seen/hands/placed.js";
import { each, expect, row, rows, settle } from "/static/js/seen/rows.js";
import { actions, inShown, state, watch } from "/static/js/seen/state.js";
import { keysDown } from "./choosing.js";
import { kit } from "./kit.js";

/** @typedef {{points: number[][], line: number[][], length_m: number, climb_m: number, steepest_percent: number, cost: number}} Way */
/** @typedef {{length_m: number, climb_m: number, steepest_percent: number, cut_m3: number, fill_m3: number}} Figures */

const base = `/api/worlds/${state.world.id}`;
const RUST = "#a2431f";
const PAPER = "#faf8f1";
/** How near a point or a road is taken hold of. [px] */
const NEAR = 9;

/** Ways that were found, and the figures of the road that is chosen. */
const known = Alpine.reactive({
  ways: /** @type {Way[]} */ ([]),
  figures: /** @type {Figures | null} */ (null),
  of: "",
});

const shown = () => state.stage === "sites" && state.tabs.sites === "roads";
const figure = (/** @type {number} */ value, digits = 0) =>
  value.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits });

// How the road that is chosen lies: asked again when it, or the land, has changed.
watch(
  () => [state.chosen, state.at.roads, state.world.revision, shown()],
  async () => {
    const own = shown() ? chosenOf("roads") : null;
    if (!own) {
      Object.assign(known, { figures: null, of: "" });
      drawOverlay();
      return;
    }
    drawOverlay();
    const of = `${own.key} ${state.world.revision}`;
    if (known.of === of) return;
    known.of = of;
    const answer = await fetch(`${base}/roads/${own.key}/figures`);
    if (known.of === of && answer.ok) known.figures = await answer.json();
  },
);

/** Lead a road through other points. @param {string} key @param {number[][]} points @param {Record<string, any>} [also] */
function lead(key, points, also = {}) {
  const asking = ask(`${base}/roads/${key}?in=world`, "PATCH", { points, ...also });
  expect("roads", key, { points });
  settle("roads", key, asking);
}

/** What the hand has of the road that is chosen. @type {{key: string, at: number, points: number[][], adds: boolean, moved: boolean} | null} */
let held = null;

/** How far a place is from a line on the screen. [px] @param {number[][]} points @param {number} px @param {number} py */
function away(points, px, py) {
  const at = points.map(([x, y]) => screenAt(x, y));
  let least = Number.POSITIVE_INFINITY;
  for (let i = 1; i < at.length; i += 1) {
    const [[ax, ay], [bx, by]] = [at[i - 1], at[i]];
    const long = (bx - ax) ** 2 + (by - ay) ** 2 || 1;
    const t = Math.min(1, Math.max(0, ((px - ax) * (bx - ax) + (py - ay) * (by - ay)) / long));
    least = Math.min(least, Math.hypot(px - ax - t * (bx - ax), py - ay - t * (by - ay)));
  }
  return least;
}

const middle = (/** @type {number[]} */ a, /** @type {number[]} */ b) => [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2];
const near = (/** @type {number[]} */ [x, y], /** @type {number} */ px, /** @type {number} */ py) => {
  const [sx, sy] = screenAt(x, y);
  return Math.hypot(sx - px, sy - py) < NEAR;
};

addHand({
  down(px, py) {
    if (!shown() || state.place) return false;
    const own = chosenOf("roads");
    if (own) {
      const points = own.points.map((/** @type {number[]} */ one) => [...one]);
      const at = points.findIndex((/** @type {number[]} */ one) => near(one, px, py));
      if (at >= 0 && keysDown.alt) {
        // Widths that were said for each point would be others' now.
        if (points.length > 2) lead(own.key, points.toSpliced(at, 1), own.widths.length ? { widths: [] } : {});
        else say("A road has two points at least: delete it instead.", "calm");
        return true;
      }
      const between = points.findIndex(
        (/** @type {number[]} */ one, /** @type {number} */ i) => i > 0 && near(middle(points[i - 1], one), px, py),
      );
      if (at >= 0) held = { key: own.key, at, points, adds: false, moved: false };
      else if (between > 0)
        held = {
          key: own.key,
          at: between,
          points: points.toSpliced(between, 0, middle(points[between - 1], points[between])),
          adds: true,
          moved: false,
        };
      if (held) return true;
    }
    const found = [...each("roads")].find((one) => away(one.points, px, py) < NEAR);
    if (found) choose("roads", found.key);
    return Boolean(found);
  },
  move(_px, _py, spot) {
    if (!held) return;
    const { x, y } = inShown(spot);
    held.points[held.at] = [x, y];
    held.moved = true;
    drawOverlay();
  },
  up(keep) {
    const was = held;
    held = null;
    drawOverlay();
    if (was?.moved && keep)
      lead(was.key, was.points, was.adds && row("roads", was.key)?.widths.length ? { widths: [] } : {});
  },
});

/** @param {CanvasRenderingContext2D} context @param {number[][]} points */
function path(context, points) {
  context.beginPath();
  for (const [x, y] of points) context.lineTo(...screenAt(x, y));
}
/** @param {CanvasRenderingContext2D} context @param {number[]} spot @param {number} size */
function dot(context, [x, y], size) {
  const [px, py] = screenAt(x, y);
  context.beginPath();
  context.arc(px, py, size, 0, 7);
  context.fillStyle = PAPER;
  context.fill();
  context.stroke();
}
addMark((context) => {
  if (!shown()) return;
  context.save();
  context.lineJoin = "round";
  known.ways.forEach(({ points }, at) => {
    for (const [colour, wide] of /** @type {[string, number][]} */ ([
      [PAPER, 4],
      [RUST, at ? 1.2 : 2.4],
    ])) {
      path(context, points);
      Object.assign(context, { strokeStyle: colour, lineWidth: wide });
      context.setLineDash(at && colour === RUST ? [6, 4] : []);
      context.stroke();
    }
    context.setLineDash([]);
    const [x, y] = screenAt(.../** @type {[number, number]} */ (points[Math.floor(points.length / 2)]));
    Object.assign(context, { fillStyle: PAPER, strokeStyle: RUST, lineWidth: 1.2 });
    context.fillRect(x - 9, y - 9, 18, 18);
    context.strokeRect(x - 9, y - 9, 18, 18);
    Object.assign(context, { fillStyle: RUST, textAlign: "center", textBaseline: "middle" });
    context.fillText(String(at + 1), x, y);
  });
  const own = chosenOf("roads");
  const points = held?.points ?? own?.points;
  if (own && points) {
    Object.assign(context, { strokeStyle: RUST, lineWidth: 1.4 });
    path(context, points);
    context.stroke();
    points.forEach((/** @type {number[]} */ one, /** @type {number} */ i) => {
      if (i && !held) dot(context, middle(points[i - 1], one), 3);
    });
    for (const one of points) dot(context, one, 5);
  }
  context.restore();
});

/** Build a road through points. @param {number[][]} points @param {Record<string, any>} [said] */
async function build(points, said = {}) {
  const name = `Road ${rows("roads").length + 1}`;
  const made = await ask(`${base}/roads?in=world`, "POST", { name, points, tract: state.world.tract, ...said });
  if (!made) return;
  known.ways = [];
  choose("roads", made.key);
}

/** What the form says of how a way is found. */
function wanted() {
  const form = /** @type {HTMLFormElement | null} */ (document.querySelector("#bench form[data-find-way]"));
  const said = new FormData(form ?? undefined);
  const water = said.get("water");
  return {
    steepest_percent: Number(said.get("steepest_percent") ?? 12),
    others: Number(said.get("others") ?? 2),
    costs: { slope: Number(said.get("slope") ?? 10), water: water ? Number(water) : null },
  };
}

function seek() {
  drawOutline("place", ([from]) => {
    drawOutline("place", async ([to]) => {
      const body = { from, to, ...wanted() };
      const found = await ask(`/api/lands/${state.world.tract}/find-way`, "POST", body);
      known.ways = found?.ways ?? [];
      if (found) say(`${found.ways.length === 1 ? "One way was" : `${found.ways.length} ways were`} found.`, "calm");
      openTab("sites", "roads");
      drawOverlay();
    });
  });
}

Alpine.data("roads", () => ({
  get list() {
    const ways = known.ways.map((one, at) => ({
      key: `way-${at}`,
      name: `Build way ${at + 1}`,
      words: `${figure(one.length_m)} m, ${figure(one.climb_m)} m up`,
      colour: RUST,
      chosen: false,
    }));
    const own = rows("roads").map((one) => ({
      key: one.key,
      name: one.name,
      words: `${figure(one.width_m, 1)} m wide`,
      colour: row("covers", one.cover)?.colour ?? "#9c8663",
      chosen: state.chosen === `roads/${one.key}`,
    }));
    return [...ways, ...own];
  },
  get none() {
    return !rows("roads").length && !known.ways.length;
  },
  get own() {
    return chosenOf("roads");
  },
  get figures() {
    const one = this.own ? known.figures : null;
    if (!one) return [];
    return [
      { name: "Runs", words: `${figure(one.length_m)} m, ${figure(one.climb_m, 1)} m up` },
      { name: "Steepest metre", words: `${figure(one.steepest_percent, 1)} %` },
      { name: "Cut, filled", words: `${figure(one.cut_m3)} and ${figure(one.fill_m3)} m³` },
    ];
  },
  /** @param {Event} event */
  choose(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.road || "";
    if (!key.startsWith("way-")) return choose("roads", key);
    return build(known.ways[Number(key.slice(4))].line, { steepest_percent: wanted().steepest_percent });
  },
  draw: () => drawOutline("line", (points) => build(points)),
  seek,
  /** Entries that something can cross on. */
  get bridges() {
    return Object.values(kit.all).filter((one) => one.tags.includes("crossing") && one.meets !== "pad");
  },
  /** @param {Event} event */
  setBridge(event) {
    const own = chosenOf("roads");
    const bridge = /** @type {HTMLSelectElement} */ (event.target).value || null;
    if (own) ask(`${base}/roads/${own.key}`, "PATCH", { bridge });
  },
  /** @param {Event} event */
  setCover(event) {
    const own = chosenOf("roads");
    const cover = /** @type {HTMLSelectElement} */ (event.target).value || null;
    if (own) ask(`${base}/roads/${own.key}`, "PATCH", { cover });
  },
  remove: () => actions.remove(),
}));
