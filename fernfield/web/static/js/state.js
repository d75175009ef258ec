// What the page knows: the world, the stage, the tool and its settings, and who listens.
// Settings and the view are kept in the browser, world by world.

/** @typedef {{id: string, name: string, revision: number, sea_level_m: number, sun_bearing_deg: number, sun_height_deg: number,
 *   width_m: number, depth_m: number, spacing_m: number, tract: string, can_undo: boolean, can_redo: boolean,
 *   tracts: {id: string, name: string, rows: number, cols: number, spacing_m: number}[], mixes: any[], covers: any[]}} World */

const world = /** @type {World} */ (JSON.parse(document.body.dataset.world));
const key = `fern.world.${world.id}`;
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
};

/** A right button let go within this time opens the map's menu; held longer it works the opposite tool. [ms] */
export const HOLD_MS = 250;

/** Limits of strength by unit. */
export const STRENGTHS = { "m/s": [0.1, 60], "%/s": [5, 1000] };

export const grid = { rows: world.tracts[0].rows, cols: world.tracts[0].cols, spacing: world.tracts[0].spacing_m };

export const state = {
  world,
  stage: kept.stage || "ground",
  tools: { ground: "raise", cover: "paint", growth: "sow", ...(kept.tools || {}) },
  brushes: Object.fromEntries(Object.entries(FIRST).map(([tool, first]) => [tool, { ...first, ...(kept.brushes?.[tool] || {}) }])),
  cover: kept.cover || world.covers.at(-2)?.key,
  mix: kept.mix || world.mixes[0]?.key,
  view: kept.view || "plan",
  plan: kept.plan || null,
  camera: kept.camera || null,
  show: { contour_m: 2, water: true, growth: true, shadows: true, detail: "middle", ...(kept.show || {}) },
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
    const { stage, tools, brushes, cover, mix, view, plan, camera, show, section } = state;
    localStorage.setItem(key, JSON.stringify({ stage, tools, brushes, cover, mix, view, plan, camera, show, section }));
  }, 200);
}

/** The tool of the present stage, or null where the stage has none. */
export function tool() {
  return state.tools[state.stage] || null;
}

export const brush = () => state.brushes[tool()] || null;

/** Strength unit of a tool. @param {string} name */
export const unitOf = (name) => (["raise", "lower", "flatten"].includes(name) ? "m/s" : "%/s");

/** Column and row of a spot, with fractions; row 0 is north. */
export const colOf = (x) => x / grid.spacing;
export const rowOf = (y) => grid.rows - 1 - y / grid.spacing;
export const xOf = (col) => col * grid.spacing;
export const yOf = (row) => (grid.rows - 1 - row) * grid.spacing;

export const clamp = (value, low, high) => Math.min(Math.max(value, low), high);
