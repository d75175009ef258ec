// What the page knows: what the server told at first, the stage, the tool and its settings, what is shown.
// It is an Alpine store: templates bind to it, and scripts watch it. Settings and the view are kept in the browser.
import Alpine, { watch } from "../kernel/alpine.js";

/** @typedef {import("../types.js").Boot} Boot */
/** @typedef {import("../types.js").Tool} Tool */
/** @typedef {import("../types.js").Brush} Brush */
/** @typedef {import("../types.js").KeepTo} KeepTo */
/** @typedef {{x: number, y: number}} Spot */

export const boot = /** @type {Boot} */ (JSON.parse(document.body.dataset.boot || "{}"));
export const tract = boot.world.tract;
/** Every tool by its name. @type {Record<string, Tool>} */
export const TOOLS = Object.fromEntries(boot.tools.map((one) => [one.name, one]));

const key = tract === boot.world.tracts[0].id ? `fern.world.${boot.world.id}` : `fern.world.${boot.world.id}.${tract}`;
const kept = JSON.parse(localStorage.getItem(key) || "{}");

/** A brush as it is at first, or as it was left: its form, and the settings of its tool. @param {Tool} tool @returns {Brush} */
function firstBrush(tool) {
  const own = Object.fromEntries(tool.settings.map((s) => [s.name, s.first]));
  const was = kept.brushes?.[tool.name] || {};
  const { radius_m, softness, strength } = tool.first;
  return {
    radius: radius_m,
    softness: softness * 100,
    strength,
    shape: "round",
    tip: "",
    turn_by: "fixed",
    turn_deg: 0,
    ...was,
    own: { ...own, ...(was.own || {}) },
  };
}

/** A right button let go within this time opens the map's menu; held longer it works the opposite tool. [ms] */
export const HOLD_MS = 250;

const shownLand = boot.world.land;
/** The posts that are shown, of all tracts that are seen together; where the south-west one lies in the world. [m] */
export const grid = {
  rows: shownLand.rows,
  cols: shownLand.cols,
  spacing: shownLand.spacing_m,
  west: shownLand.west_m,
  south: shownLand.south_m,
  east: shownLand.west_m + (shownLand.cols - 1) * shownLand.spacing_m,
  north: shownLand.south_m + (shownLand.rows - 1) * shownLand.spacing_m,
};
/** What is asked of the land, in the world's metres. */
export const landApi = `/api/lands/${tract}`;
/** The tracts that are shown: the one that was entered and those joined to it first. */
export const seenTracts = shownLand.tracts.map(
  (id) => /** @type {import("../types.js").TractFacts} */ (boot.world.tracts.find((one) => one.id === id)),
);
/** The tract that was entered: in the middle at first. */
export const entered = seenTracts.find((one) => one.id === tract) || seenTracts[0];
/** The tract in which a spot lies; the one that was entered where there is none. @param {Spot} spot */
export const tractAt = ({ x, y }) =>
  seenTracts.find(
    (t) => x >= t.x && y >= t.y && x <= t.x + (t.cols - 1) * t.spacing_m && y <= t.y + (t.rows - 1) * t.spacing_m,
  )?.id ?? tract;
/** A spot inside what is shown. @param {Spot} spot */
export const inShown = ({ x, y }) => ({ x: clamp(x, grid.west, grid.east), y: clamp(y, grid.south, grid.north) });

/** What an overlay is called. @param {string} name */
const labelOf = (name) => (boot.overlays.find((one) => one.name === name)?.label ?? name).toLowerCase();

const first = Object.fromEntries(
  boot.stages.map((stage) => [stage, boot.tools.find((one) => one.stage === stage)?.name]).filter(([, name]) => name),
);

/** @type {import("../types.js").PageState & Record<string, any>} */
const page = {
  world: {
    id: boot.world.id,
    name: boot.world.name,
    revision: boot.world.revision,
    tract,
    tracts: boot.world.tracts,
    width_m: boot.world.width_m,
    depth_m: boot.world.depth_m,
    sea_level_m: boot.world.sea_level_m,
    sun_bearing_deg: boot.world.sun_bearing_deg,
    sun_height_deg: boot.world.sun_height_deg,
  },
  can_undo: boot.world.can_undo,
  can_redo: boot.world.can_redo,
  /** What stands in the frame's corner: "kept", "drawing" or "lost". */
  line: "kept",
  stage: boot.stages.includes(kept.stage) ? kept.stage : boot.stages[0],
  /** The stage whose panel is there. */
  shows: "",
  tools: { ...first, ...(kept.tools || {}) },
  brushes: Object.fromEntries(boot.tools.map((one) => [one.name, firstBrush(one)])),
  /** What strokes keep to, as the API has it, and the sheet that they go into ("" for the base). */
  keepTo: /** @type {KeepTo | null} */ (kept.keepTo || null),
  sheet: kept.sheet || "",
  /** The cover whose share the map shows, and the rule that is tried out on it, as JSON. */
  mapped: "",
  tried: /** @type {string | null} */ (null),
  /** The guise, and the light, that the map is looked at in before it is set. */
  guise: /** @type {string | null} */ (null),
  sun: /** @type {import("../types.js").Sun | null} */ (null),
  mood: /** @type {string | null} */ (null),
  /** A mood that is looked at beside it, and where the line between them lies. [m] */
  beside: /** @type {string | null} */ (null),
  divide: /** @type {number | null} */ (null),
  /** Whether the light rakes over what is in view, for a look at its shape. */
  raked: false,
  /** What a press on the map does instead of the tool: "put" or "choose" a plant. */
  way: "",
  /** Kinds of growth that the tools leave alone, and kinds that the overlook leaves out. */
  kindsOff: /** @type {string[]} */ (kept.kindsOff || []),
  kindsHidden: /** @type {string[]} */ (kept.kindsHidden || []),
  /** Which folds of the bench are open. */
  folds: kept.folds || {},
  /** The area in the hand, as the API has it; {} is the whole tract. @type {import("../types.js").Area} */
  area: kept.area || {},
  /** The one before it, which was worked on last. @type {import("../types.js").Area | null} */
  lastArea: kept.lastArea || null,
  /** A line of the section, in metres; null for the cursor's row. @type {number[][] | null} */
  section_line: kept.line || null,
  /** Distances along it between which is measured. @type {number[]} */
  marks: [],
  /** People and vehicles that stand on the land for scale. @type {{sort: string, x: number, y: number}[]} */
  figures: kept.figures || [],
  /** Who walks, besides the eye that is looked through: others, and walks that are shown again. @type {import("../types.js").Figure[]} */
  walkers: [],
  /** Things that are open, carried or gone in the round of a trial. */
  gone: /** @type {string[]} */ ([]),
  /** The revision that is looked at, or null for the present. @type {number | null} */
  past: null,
  /** What the stroke under way has come to. @type {any} */
  progress: null,
  /** Which of its tabs is open, by the name of the row of tabs. @type {Record<string, string>} */
  tabs: kept.tabs || {},
  subjects: { cover: kept.cover || "", mix: kept.mix || "", ...(kept.subjects || {}) },
  view: kept.view || "plan",
  plan: kept.plan || null,
  camera: kept.camera || null,
  // What the server draws by, and what only the page does.
  show: {
    ...boot.show,
    contour_m: "auto",
    wind: false,
    bare: false,
    edges: true,
    above: true,
    labels: true,
    posts: false,
    /** A grey ball, a white one and a person to judge light by. */
    judge: false,
    overlays: /** @type {string[]} */ ([]),
    detail: "middle",
    /** "low" or "high": at which tide the sea is shown; "": at its level. */
    tide: "",
    ...(kept.show || {}),
    // What is tried out is not kept.
    ...(kept.show
      ? {
          overlays: (kept.show.overlays ?? []).filter(
            (/** @type {string} */ name) => name !== "rule" && boot.overlays.some((one) => one.name === name),
          ),
        }
      : {}),
  },
  /** The overlays that were looked at last. @type {string[]} */
  lastOverlays: kept.lastOverlays || [],
  /** Counts up whenever something else is shown. */
  shown: 0,
  section: kept.section ?? true,
  /** The spot under the cursor, in metres, or null. @type {Spot | null} */
  cursor: null,
  /** Whether the keyboard moves it: until a pointer comes over the map. */
  byKeys: false,
  /** The piece of the kit to put next, or "start". @type {string | null} */
  place: null,
  /** What is told of pictures of the land that are not there; "" where all are. */
  missing: "",
  /** Room on the server's disk where it runs low. [MiB] @type {number | null} */
  room_mib: null,
  /** The row that is chosen, as "collection/key". @type {string | null} */
  chosen: null,
  /** The tool of the stroke under way. */
  drawing: "",
  /** When it began, on the clock of the page. */
  began: 0,
  walking: false,
  /** How often the rows of each collection have changed. @type {Record<string, number>} */
  at: Object.fromEntries(boot.collections.map((one) => [one.name, 0])),
  /** Keys that a person has turned off or changed. @type {Record<string, string>} */
  keys: JSON.parse(localStorage.getItem("fern.keys") || "{}"),

  /** Whether single letters mean nothing at all. */
  keysOff: localStorage.getItem("fern.keys-off") === "yes",

  get tool() {
    return this.tools[this.stage] || "";
  },
  get lays() {
    return Boolean(TOOLS[this.tool]?.whole_path);
  },
  /** Whether what the tool does grows with strength and time. */
  get timed() {
    return this.brushed && !TOOLS[this.tool]?.timeless;
  },
  get brushed() {
    return Boolean(this.tool) && !this.lays;
  },
  /** Whether growth is shown now: it may be hidden while the ground is shaped. */
  get grows() {
    return this.show.growth && !(this.show.bare && this.stage === "ground");
  },
  get keptWords() {
    return this.line === "drawing"
      ? "drawing …"
      : this.line === "lost"
        ? "line lost …"
        : this.line === "unkept"
          ? `not kept · r${this.world.revision}`
          : `r${this.world.revision} kept`;
  },
  get shownWords() {
    const { contour_m, water, growth, shadows, overlays, tide } = this.show;
    const sea = water && tide ? `water at ${tide} tide` : water && "water";
    const contours = contour_m === "auto" ? "contours" : contour_m > 0 ? `contours ${contour_m} m` : "";
    return (
      [contours, sea, growth && "growth", shadows && "shadows", ...overlays.map(labelOf)].filter(Boolean).join(", ") ||
      "bare ground"
    );
  },
};
Alpine.store("page", page);

export const state = /** @type {import("../types.js").PageState} */ (Alpine.store("page"));

/** What the browser keeps of the page. @type {string[]} */
const KEPT = [
  ...["stage", "tools", "brushes", "subjects", "view", "plan", "camera", "show", "section"],
  ...["keepTo", "sheet", "folds", "tabs", "figures", "area", "lastArea", "kindsOff", "kindsHidden", "lastOverlays"],
];
let timer = 0;
/** Keep the view and the settings in the browser, soon. */
export function keep() {
  clearTimeout(timer);
  timer = setTimeout(() => {
    const now = Object.fromEntries(Object.entries(state).filter(([name]) => KEPT.includes(name)));
    localStorage.setItem(key, JSON.stringify({ ...now, line: state.section_line }));
  }, 200);
}

/** The tool of the present stage, or "" where the stage has none. */
export const tool = () => state.tool;

/** @returns {Brush | null} */
export const brush = () => (state.way ? null : state.brushes[tool()] || null);

/** Strength unit of a tool. @param {string} name */
export const unitOf = (name) => TOOLS[name]?.unit || "%/s";

/** Whether the present tool lays its work along a whole path and so has no brush. */
export const lays = () => state.lays;

/** What lies over the land besides what colours it. */
const BESIDE = ["kept"];
/** The overlay that colours the land, or "": one, since two cannot be told apart. */
export const coloured = () => state.show.overlays.find((name) => !BESIDE.includes(name)) ?? "";
/** Colour the land by an overlay, or by none. @param {string} name */
export function colourBy(name) {
  const beside = state.show.overlays.filter((one) => BESIDE.includes(one));
  state.show.overlays = name ? [...beside, name] : beside;
}

/** Something else is shown on the plan. */
export function showAnew() {
  state.shown += 1;
  keep();
}

/** A picture of the land: lit, for the plan; plain, without any light, for what lights it itself; bare, without contours and overlays too. @typedef {"lit" | "plain" | "bare"} How */

/** What the server is to show, as the API has it. @param {How} how @returns {import("../types.js").Show} */
export function shown(how = "lit") {
  const bare = how === "bare";
  const overlays = bare ? [] : state.show.overlays;
  const own = Object.entries(boot.show).map(([name, first]) => [
    name,
    (state.show[name] ?? "") === "" ? first : state.show[name],
  ]);
  return {
    ...Object.fromEntries(own),
    ...(bare ? { contour_m: 0 } : {}),
    growth: state.grows,
    overlays,
    keep_to: overlays.includes("kept") ? state.keepTo : null,
    cover: overlays.includes("share") ? state.mapped || null : null,
    rule: overlays.includes("rule") && state.tried ? JSON.parse(state.tried) : null,
    guise: state.guise,
    sun: state.sun,
    mood: state.mood,
    beside: how === "lit" ? state.beside : null,
    divide_m: how === "lit" && state.beside ? state.divide : null,
    plain: how !== "lit",
  };
}

/** The same for a query, with the revision that is looked at. @param {import("../types.js").Show} show */
export function shownAs(show) {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(show)) {
    if (value === null || (Array.isArray(value) && !value.length)) continue;
    query.set(name, Array.isArray(value) ? value.join(",") : typeof value === "object" ? JSON.stringify(value) : value);
  }
  if (state.past !== null) query.set("at", String(state.past));
  return query;
}

/** Column and row of a spot, with fractions; row 0 is north. @param {number} x */
export const colOf = (x) => (x - grid.west) / grid.spacing;
/** @param {number} y */
export const rowOf = (y) => grid.rows - 1 - (y - grid.south) / grid.spacing;
/** @param {number} col */
export const xOf = (col) => grid.west + col * grid.spacing;
/** @param {number} row */
export const yOf = (row) => grid.south + (grid.rows - 1 - row) * grid.spacing;

/** @param {number} value @param {number} low @param {number} high */
export const clamp = (value, low, high) => Math.min(Math.max(value, low), high);

/** What happens to the picture of the land: "stale", "tile", "moved", "painted". */
export const land = new EventTarget();
/** @param {string} name @param {any} [detail] */
export const announce = (name, detail) => land.dispatchEvent(new CustomEvent(name, { detail }));
/** @param {string} name @param {(detail: any) => void} act */
export const heed = (name, act) =>
  land.addEventListener(name, (event) => act(/** @type {CustomEvent} */ (event).detail));

/** Whether only the light on the land has changed: whoever tells of its ground asks nothing then. @param {any} message of what is stale */
export const onlyLight = (message) => message?.layers?.every((/** @type {string} */ layer) => layer === "shade");

/** What a shortcut, a menu or a button does, by its name. @type {Record<string, (detail?: any) => void>} */
export const actions = {};

export { watch };
