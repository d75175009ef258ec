// What the page knows: the world, the stage, the tool and its settings, and who listens.
// Settings and the view are kept in the browser, world by world.

/** @typedef {{id: string, name: string, revision: number, sea_level_m: number, sun_bearing_deg: number, sun_height_deg: number,
 *   width_m: number, depth_m: number, spacing_m: number, tract: string, can_undo: boolean, can_redo: boolean,
 *   tracts: {id: string, name: string, rows: number, cols: number, spacing_m: number}[], mixes: any[], covers: any[],
 *   sheets: any[], plots: any[], levels: any[], lines: any[], symmetry: any, limits: any}} World */
/** @typedef {{name: string, unit: string, opposite: string, words: string, lays: boolean, settings: {name: string, first: any, worded: boolean, whole: boolean}[]}} Tool */

const world = /** @type {World} */ (JSON.parse(document.body.dataset.world));
/** @type {Tool[]} */
const groundTools = JSON.parse(document.body.dataset.tools);
const masks = [["paint", "take_away"], ["sow", "thin"], ["open", "close"]];
/** Every tool by its name. @type {Record<string, Tool>} */
export const TOOLS = Object.fromEntries([
  ...groundTools.map((tool) => [tool.name, tool]),
  ...masks.flatMap(([a, b]) => [[a, b], [b, a]]).map(([name, opposite]) => [name, { name, opposite, unit: "%/s", words: "", lays: false, settings: [] }]),
]);
const key = world.tract === world.tracts[0].id ? `fern.world.${world.id}` : `fern.world.${world.id}.${world.tract}`;
const kept = JSON.parse(localStorage.getItem(key) || "{}");

/** First settings of each tool: radius and strength in real units, softness in percent. */
const FIRST = {
  raise: { radius: 40, softness: 70, strength: 6 },
  lower: { radius: 40, softness: 70, strength: 6 },
  smooth: { radius: 30, softness: 60, strength: 300 },
  flatten: { radius: 30, softness: 40, strength: 12 },
  paint: { radius: 20, softness: 50, strength: 200 },
  take_away: { radius: 20, softness: 50, strength: 200 },
  sow: { radius: 40, softness: 50, strength: 120 },
  thin: { radius: 40, softness: 50, strength: 120 },
  roughen: { radius: 70, softness: 60, strength: 6 },
  weather: { radius: 50, softness: 60, strength: 100 },
  open: { radius: 4, softness: 0, strength: 1000 },
  close: { radius: 6, softness: 0, strength: 1000 },
  grade: { radius: 1, softness: 0, strength: 1 },
  imprint: { radius: 1, softness: 0, strength: 1 },
};

/** A brush as it is at first: its form, and the settings of its tool. */
const FORM = { shape: "round", tip: "", turn_by: "fixed", turn_deg: 0 };
function firstBrush(name) {
  const own = Object.fromEntries((TOOLS[name]?.settings || []).map((s) => [s.name, s.first]));
  const was = kept.brushes?.[name] || {};
  return { ...FIRST[name], ...FORM, ...was, own: { ...own, ...(was.own || {}) } };
}

/** A right button let go within this time opens the map's menu; held longer it works the opposite tool. [ms] */
export const HOLD_MS = 250;

/** Limits of strength by unit. */
export const STRENGTHS = { "m/s": [0.1, 60], "%/s": [5, 1000] };

const own = world.tracts.find((tract) => tract.id === world.tract);
export const grid = { rows: own.rows, cols: own.cols, spacing: own.spacing_m };

/** Rows that belong to the tract that is open. @param {any[]} rows */
export const here = (rows) => rows.filter((row) => row.tract === world.tract);
for (const book of ["plots", "lines"]) world[book] = here(world[book]);

export const state = {
  world,
  stage: kept.stage || "ground",
  tools: { ground: "raise", cover: "paint", growth: "sow", ...(kept.tools || {}) },
  brushes: Object.fromEntries(Object.keys(FIRST).map((name) => [name, firstBrush(name)])),
  /** What strokes keep to, as the API has it, and the sheet that they go into (none for the base). */
  keepTo: kept.keepTo || null,
  sheet: kept.sheet || "",
  /** Which folds of the bench are open. */
  folds: kept.folds || {},
  /** A line of the section, in metres; null for the cursor's row. @type {number[][] | null} */
  line: kept.line || null,
  /** People and vehicles that stand on the land for scale. @type {{sort: string, x: number, y: number}[]} */
  figures: kept.figures || [],
  /** The revision that is looked at, or null for the present. @type {number | null} */
  past: null,
  /** What the stroke under way has come to. @type {any} */
  progress: null,
  cover: kept.cover || world.covers.at(-2)?.key,
  mix: kept.mix || world.mixes[0]?.key,
  view: kept.view || "plan",
  plan: kept.plan || null,
  camera: kept.camera || null,
  show: { contour_m: 2, water: true, growth: true, shadows: true, labels: true, posts: false, overlays: [], detail: "middle", ...(kept.show || {}) },
  section: kept.section ?? true,
  /** The spot under the cursor, in metres, or null. @type {{x: number, y: number} | null} */
  cursor: null,
  /** The place to put next on the Sites stage. @type {string | null} */
  place: null,
  /** @type {string | null} */
  chosen: null,
  /** @type {any[]} */
  things: [],
  /** @type {{pieces: any[], teams: any[]}} */
  kit: { pieces: [], teams: [] },
  drawing: false,
  /** When the stroke under way began, on the clock of the page. */
  began: 0,
  walking: false,
};

const listeners = new Map();

/** Hear of something. @param {string} what @param {(detail: any) => void} listener */
export function on(what, listener) {
  if (!listeners.has(what)) listeners.set(what, []);
  listeners.get(what).push(listener);
}

/** Tell those who listen. @param {string} what @param {any} [detail] */
export function tell(what, detail) {
  for (const listener of listeners.get(what) || []) listener(detail);
}

let timer = 0;

/** Keep the view and the settings in the browser, soon. */
export function keep() {
  clearTimeout(timer);
  timer = setTimeout(() => {
    const { stage, tools, brushes, cover, mix, view, plan, camera, show, section, keepTo, sheet, folds, line, figures } = state;
    localStorage.setItem(key, JSON.stringify({ stage, tools, brushes, cover, mix, view, plan, camera, show, section, keepTo, sheet, folds, line, figures }));
  }, 200);
}

/** The tool of the present stage, or null where the stage has none. */
export function tool() {
  return state.tools[state.stage] || null;
}

export const brush = () => state.brushes[tool()] || null;

/** Strength unit of a tool. @param {string} name */
export const unitOf = (name) => TOOLS[name]?.unit || "%/s";

/** Whether the present tool lays its work along a whole path and so has no brush. */
export const lays = () => Boolean(TOOLS[tool()]?.lays);

/** What the plan's pictures are asked for with. @param {boolean} bare without contours and overlays */
export function shown(bare = false) {
  const { contour_m, water, growth, shadows, overlays } = state.show;
  const query = new URLSearchParams({ contour_m: String(bare ? 0 : contour_m), water: String(water), growth: String(growth), shadows: String(shadows) });
  if (overlays.length && !bare) query.set("overlays", overlays.join(","));
  if (overlays.includes("kept") && state.keepTo && !bare) query.set("keep_to", JSON.stringify(state.keepTo));
  if (state.past !== null) query.set("at", String(state.past));
  return query;
}

/** Column and row of a spot, with fractions; row 0 is north. */
export const colOf = (x) => x / grid.spacing;
export const rowOf = (y) => grid.rows - 1 - y / grid.spacing;
export const xOf = (col) => col * grid.spacing;
export const yOf = (row) => (grid.rows - 1 - row) * grid.spacing;

export const clamp = (value, low, high) => Math.min(Math.max(value, low), high);
