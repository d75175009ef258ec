// Placing from the kit: a click, a drag that gives the turn, and in an order along a line, in a ring, an arc, a grid. A
// ghost shows what would stand, and why it may not.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, reach, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay, name as label } from "/static/js/seen/drawn/overlay.js";
import { metresPerPixel, screenAt } from "/static/js/seen/drawn/plan.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { each, row, rows } from "/static/js/seen/rows.js";
import { inShown, state, tractAt, watch } from "/static/js/seen/state.js";
import { choose, snap, snapped } from "./choosing.js";
import { entryOf } from "./kit.js";
import { drawParts, partsOf } from "./marks.js";
import { drawWall } from "./walls.js";

const path = `/api/worlds/${state.world.id}/things`;
const RUST = "#a2431f";
const FERN = "#2c6647";

/** How things are placed; kept while the page is open. */
export const manner = Alpine.reactive({
  by: "spots",
  turn_deg: 0,
  turn_any_deg: 0,
  tilt_any_deg: 0,
  size_from: 1,
  size_to: 1,
  any_look: false,
  any_tint: false,
  over_m: 0,
  over_sea_m: /** @type {number | null} */ (null),
  on_top: false,
  apart: true,
  spacing_m: 10,
  side: "on",
  aside_m: 3,
  facing: "along",
  radius_m: 20,
  count: 8,
  from_deg: 0,
  to_deg: 180,
  across: 3,
  deep: 3,
  step_x_m: 10,
  step_y_m: 10,
  seed: 1,
  edge: false,
});
const OF = {
  spots: ["turn_deg"],
  line: ["spacing_m", "side", "aside_m", "facing", "turn_deg"],
  ring: ["radius_m", "count", "from_deg", "facing", "turn_deg"],
  arc: ["radius_m", "count", "from_deg", "to_deg", "facing", "turn_deg"],
  grid: ["across", "deep", "step_x_m", "step_y_m", "turn_deg"],
};
const ALWAYS = [
  "turn_any_deg",
  "tilt_any_deg",
  "size_from",
  "size_to",
  "any_look",
  "any_tint",
  "over_m",
  "on_top",
  "apart",
  "seed",
];

/** What the hand would place: where it was pressed, and where it is dragged to. @type {{from: {x: number, y: number}, to: {x: number, y: number}} | null} */
let held = null;
/** What the server said of the spot under the cursor: what would stand there, and why it may not. @type {{things: any[], refused: {x: number, y: number, why: string}[]} | null} */
let proposal = null;

/** The entry in the hand; null for a start, an assembly or nothing. */
const inHand = () => (state.place && !state.place.startsWith("+") ? (entryOf(state.place) ?? null) : null);
/** What is in the hand is placed by this stage. */
const ours = () =>
  Boolean(state.place && (state.place === "start" || state.place.startsWith("+") || entryOf(state.place)));

/** The turn that a drag gives, or the one that was set. */
function turnNow() {
  if (!held) return manner.turn_deg;
  const [dx, dy] = [held.to.x - held.from.x, held.to.y - held.from.y];
  if (Math.hypot(dx, dy) < 6 * metresPerPixel()) return manner.turn_deg;
  return (Math.round((Math.atan2(dx, dy) * 180) / Math.PI) + 360) % 360;
}

/** What the API is asked for. @param {Record<string, any>} where */
function asked(where) {
  /** @type {Record<string, any>} */
  const said = { of: [{ kit: state.place }], by: manner.by, ...where };
  for (const name of [...ALWAYS, ...OF[/** @type {keyof typeof OF} */ (manner.by)]])
    said[name] ??= /** @type {any} */ (manner)[name];
  if (manner.by === "spots" || manner.by === "grid") delete said.facing;
  if (manner.over_sea_m !== null) said.over_sea_m = manner.over_sea_m;
  return said;
}
/** @param {string} take */
const layPath = (take) => `${path}/lay?take=${take}&in=world&tract=${state.world.tract}`;

/** Where a press at a spot would place: on the grid, or beside the edge of another. @param {{x: number, y: number}} spot */
function placeAt(spot) {
  const at = snapped(spot);
  return inShown(manner.edge ? besideAnother(at) : at);
}

/** Beside the nearest edge or corner of another piece, where one is near. @param {{x: number, y: number}} spot */
function besideAnother(spot) {
  const own = inHand();
  if (!own) return spot;
  let best = null;
  let nearest = 12 * metresPerPixel();
  for (const thing of each("things")) {
    const entry = entryOf(thing.kit);
    if (!entry || Math.hypot(thing.x - spot.x, thing.y - spot.y) > entry.width + entry.depth + own.width + own.depth)
      continue;
    const turn = (thing.turn_deg * Math.PI) / 180;
    const [cos, sin] = [Math.cos(turn), Math.sin(turn)];
    // Its ends, each as far out as the one in the hand is deep: they meet there.
    const [half, deep] = [(entry.half[0] + own.half[0]) * thing.size, (entry.half[1] + own.half[1]) * thing.size];
    for (const [right, ahead] of [
      [half, 0],
      [-half, 0],
      [0, deep],
      [0, -deep],
    ]) {
      const at = {
        x: thing.x + right * cos + ahead * sin,
        y: thing.y - right * sin + ahead * cos,
        turn: thing.turn_deg,
      };
      const away = Math.hypot(at.x - spot.x, at.y - spot.y);
      if (away < nearest) [best, nearest] = [at, away];
    }
  }
  if (best && !held) manner.turn_deg = Math.round(best.turn * 1000) / 1000;
  return best ?? spot;
}

let asking = false;
/** @type {{x: number, y: number} | null} */
let wanted = null;
/** Ask what would stand at a spot; the newest that waits is asked next. @param {{x: number, y: number}} spot */
async function look(spot) {
  wanted = spot;
  // What stands along a line is known when there is one.
  if (asking || !inHand() || manner.by === "line") return;
  asking = true;
  while (wanted && inHand()) {
    const at = placeAt(wanted);
    wanted = null;
    const said = JSON.stringify(asked(whereOf(at)));
    const answer = await reach(
      layPath("look"),
      { method: "POST", body: said, headers: { "content-type": "application/json" } },
      { calm: true },
    );
    proposal = answer?.ok ? (await answer.json()).proposal : null;
    drawOverlay();
  }
  asking = false;
}

/** What says where, by the order that things are placed in. @param {{x: number, y: number}} at @returns {Record<string, any>} */
const whereOf = (at) =>
  manner.by === "spots" ? { spots: [[at.x, at.y]], turn_deg: turnNow() } : { x: at.x, y: at.y, turn_deg: turnNow() };

/** Along a line that is drawn, or kept. @param {number[][] | null} points @param {string} [line] */
async function along(points, line) {
  const made = await ask(layPath("fitting"), "POST", asked(line ? { line } : { points }));
  told(made);
}

/** @param {any} made */
function told(made) {
  if (!made) return;
  if (made.ids.length) choose(made.ids);
  const left = Object.entries(made.proposal.why).map(([why, count]) => `${count}: ${why}`);
  if (left.length) say(`${made.ids.length} were placed. ${left.join("; ")}.`, "calm");
  manner.seed += 1;
}

/** @param {{x: number, y: number}} at @param {number} turn */
async function placeOne(at, turn) {
  const spot = { x: at.x, y: at.y, turn_deg: turn, tract: tractAt(at) };
  const said =
    state.place === "start"
      ? { sort: "start", ...spot }
      : { sort: "assembly", assembly: state.place?.slice(1), ...spot, way: wayOf(state.place?.slice(1) ?? "") };
  const made = await ask(`${path}?in=world`, "POST", said);
  if (made) choose([made.key]);
}

/** One of the ways of an assembly, by their weights. @param {string} key */
function wayOf(key) {
  const ways = row("assemblies", key)?.ways ?? [];
  let left = Math.random() * ways.reduce((/** @type {number} */ sum, /** @type {any} */ one) => sum + one.weight, 0);
  return Math.max(
    0,
    ways.findIndex((/** @type {any} */ one) => (left -= one.weight) < 0),
  );
}

addHand({
  down(_px, _py, spot) {
    if (state.stage !== "sites" || !ours()) return false;
    const at = placeAt(spot);
    held = { from: at, to: at };
    return true;
  },
  move(_px, _py, spot) {
    if (!held) return;
    held.to = spot;
    look(held.from);
    drawOverlay();
  },
  async up(keep) {
    const was = held;
    const turn = turnNow();
    held = null;
    drawOverlay();
    if (!was || !keep) return;
    if (!inHand()) await placeOne(was.from, turn);
    else {
      // One that is pressed where it may not stand says why, and is not placed.
      const made = await ask(
        layPath(manner.by === "spots" ? "all" : "fitting"),
        "POST",
        asked({ ...whereOf(was.from), turn_deg: turn }),
      );
      told(made);
    }
  },
});

watch(
  () => [state.place, state.stage],
  () => {
    proposal = null;
    drawOverlay();
  },
);
watch(
  () => [
    state.cursor,
    state.place,
    manner.by,
    manner.turn_deg,
    manner.radius_m,
    manner.count,
    manner.apart,
    manner.on_top,
  ],
  () => {
    if (state.stage === "sites" && state.cursor && ours() && !held) look(state.cursor);
  },
);

// The ghost
addMark((context) => {
  if (state.stage !== "sites" || !ours() || !(state.cursor || held)) return;
  const at = held?.from ?? placeAt(/** @type {{x: number, y: number}} */ (state.cursor));
  context.globalAlpha = 0.62;
  context.lineWidth = 1.2;
  if (inHand()) {
    const things = proposal?.things ?? [];
    context.strokeStyle = FERN;
    for (const one of things) {
      drawParts(
        context,
        [{ kit: one.kit, right: 0, ahead: 0, turn: 0, size: one.size }],
        { x: one.x, y: one.y, turn: one.turn_deg },
        one.tint,
      );
    }
    context.strokeStyle = RUST;
    context.setLineDash([3, 3]);
    for (const one of proposal?.refused ?? [])
      drawParts(
        context,
        [{ kit: /** @type {string} */ (state.place), right: 0, ahead: 0, turn: 0, size: 1 }],
        { x: one.x, y: one.y, turn: turnNow() },
        "rgba(162, 67, 31, .25)",
      );
    context.setLineDash([]);
    if (!proposal)
      drawParts(context, [{ kit: /** @type {string} */ (state.place), right: 0, ahead: 0, turn: 0, size: 1 }], {
        ...at,
        turn: turnNow(),
      });
  } else if (state.place?.startsWith("+")) {
    const own = row("assemblies", state.place.slice(1));
    const members = (own?.ways[0].members ?? []).map((/** @type {any} */ one) => ({ ...one, kit: one.kit ?? "" }));
    context.strokeStyle = FERN;
    drawParts(context, partsOf({ key: "", x: 0, y: 0, sort: "assembly", size: 1, members }), {
      ...at,
      turn: turnNow(),
    });
  } else {
    const [x, y] = screenAt(at.x, at.y);
    context.strokeStyle = FERN;
    context.beginPath();
    context.arc(x, y, 10, 0, 7);
    context.stroke();
  }
  context.globalAlpha = 1;
  const [x, y] = screenAt(at.x, at.y);
  if (held && turnNow() !== manner.turn_deg) {
    context.strokeStyle = RUST;
    context.beginPath();
    context.moveTo(x, y);
    context.lineTo(...screenAt(held.to.x, held.to.y));
    context.stroke();
    label(`${turnNow()}°`, x + 14, y - 10);
  }
  const why = proposal?.refused?.[0]?.why;
  const first = proposal?.things?.[0];
  if (why) label(why, x + 14, y + 6);
  else if (first && manner.by === "spots") label(`foot at ${first.z.toFixed(2)} m`, x + 14, y + 6);
  else if (proposal) label(`${proposal.things.length} stand`, x + 14, y + 6);
});

Alpine.data("placing", () => ({
  get manner() {
    return manner;
  },
  get entry() {
    return inHand();
  },
  get held() {
    if (state.place === "start") return "Start";
    if (state.place?.startsWith("+")) return row("assemblies", state.place.slice(1))?.name ?? "";
    return inHand()?.label ?? "";
  },
  get hint() {
    if (!state.place) return "Choose what to place, then click the map; a drag gives the turn.";
    return manner.by === "line" && inHand()
      ? `Draw the line that ${this.held} stands along.`
      : `Click the map: ${this.held}. A drag gives the turn; Esc lets go.`;
  },
  get line() {
    return manner.by === "line";
  },
  get lines() {
    return rows("lines");
  },
  get step() {
    return snap.step;
  },
  /** @param {string[]} orders */
  only(...orders) {
    return orders.includes(manner.by);
  },
  /** @param {Event} event */
  set(event) {
    const field = /** @type {HTMLInputElement | HTMLSelectElement} */ (event.target);
    if (!field.name || !field.reportValidity()) return;
    const value =
      field instanceof HTMLInputElement && field.type === "checkbox"
        ? field.checked
        : field instanceof HTMLInputElement && field.type === "number"
          ? field.value === ""
            ? null
            : Number(field.value)
          : field.value;
    if (field.name === "step") snap.step = Number(value) || 0;
    else Object.assign(manner, { [field.name]: value });
    if (manner.size_to < manner.size_from) manner.size_to = manner.size_from;
  },
  drawWall: () => drawWall(),
  drawLine() {
    if (!inHand()) say("Take an entry of the kit first: it stands along the line.");
    else drawOutline("line", (points) => along(points));
  },
  /** @param {Event} event */
  byKept(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    if (field.value && inHand()) along(null, field.value);
    field.value = "";
  },
}));
