// Choosing what is placed, one or by the hundred, and what is done to all of it: moved, turned, sized, lined up, copied.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { openTab } from "/static/js/seen/bench.js";
import { addMark, drawOverlay, HANDLE } from "/static/js/seen/drawn/overlay.js";
import { metresPerPixel, screenAt } from "/static/js/seen/drawn/plan.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { drawOutline, within } from "/static/js/seen/hands/outline.js";
import { each, expect, peek, settle } from "/static/js/seen/rows.js";
import { actions, inShown, state, watch } from "/static/js/seen/state.js";
import { drawnEntry } from "./kit.js";
import { handle, holding, isHidden, placeOf, turningPoint } from "./marks.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */

export const path = `/api/worlds/${state.world.id}/things`;
const NEAR = 14;
/** So many are chosen at most. */
const MOST = 20_000;

/** What is chosen, the last one last; what a choice does to it; about what all is turned; how the list is found and sorted. */
export const choice = Alpine.reactive({
  keys: /** @type {string[]} */ ([]),
  adds: "new",
  about: /** @type {"each" | "last" | "middle" | "point"} */ ("middle"),
  point: /** @type {{x: number, y: number} | null} */ (null),
  find: "",
  sort: "name",
  busy: false,
});
const CHOSEN = "things/";
window.fern.choice = choice;
/** What is chosen as rows, and of which choice and which rows that is. */
const known = {
  keys: /** @type {string[]} */ ([]),
  at: -1,
  rows: /** @type {Row[]} */ ([]),
  middle: /** @type {{x: number, y: number} | null} */ (null),
};
/** What is chosen as rows; what has gone is left out. Many ask, of as many as there are. @returns {readonly Row[]} */
export function chosenRows() {
  const keys = Alpine.raw(choice.keys);
  if (known.keys !== keys || known.at !== state.at.things) {
    const some = keys.map((key) => peek("things", key)).filter((one) => one !== null);
    Object.assign(known, { keys, at: state.at.things, rows: some, middle: null });
  }
  return known.rows;
}

/** Choose these and no others. @param {string[]} keys */
export function choose(keys) {
  const some = keys.length > MOST ? keys.slice(0, MOST) : keys;
  choice.keys = some;
  holding.keys = new Set(some);
  holding.turns += 1;
  const last = some.at(-1);
  state.chosen = last ? CHOSEN + last : null;
  drawOverlay();
}

/** Add to what is chosen, take from it, or choose anew. @param {string[]} keys @param {string} [adds] @param {boolean} [told] */
export function pick(keys, adds = choice.adds, told = true) {
  const now = new Set(adds === "new" ? [] : Alpine.raw(choice.keys));
  for (const key of keys) {
    // The one that is chosen again is the last one.
    now.delete(key);
    if (adds !== "less") now.add(key);
  }
  choose([...now]);
  if (told && keys.length > 1) say(`${choice.keys.length.toLocaleString("en")} things are chosen.`, "calm");
}

/** What holds things: chosen, it leaves them in the hand. */
const WITH_THINGS = new Set(["groups", "parts"]);

/** Nothing placed is chosen any more; what else is, stays so. */
function letGo() {
  const also = state.chosen;
  choose([]);
  state.chosen = also;
}

/** Things that have been there. @type {Set<string>} */
const seen = new Set();
// What is chosen elsewhere, or by a finding, is chosen here; what has gone is not any more.
watch(
  () => [state.chosen, state.at.things],
  () => {
    const [name, key] = (state.chosen || "/").split("/");
    const own = name === "things" ? key : "";
    // One that was just placed is told of a moment later: it has not gone.
    const keys = Alpine.raw(choice.keys);
    for (const one of keys) if (peek("things", one)) seen.add(one);
    const there = keys.filter((one) => peek("things", one) || !seen.has(one));
    if (own && there.at(-1) !== own) choose([own]);
    else if (WITH_THINGS.has(name)) return;
    else if (!own && keys.length && name !== "things") letGo();
    else if (there.length !== keys.length) choose(there);
  },
);

/** The middle of the box around what is chosen; drawn with each frame. @param {readonly Row[]} some */
function middleOf(some) {
  if (some === known.rows && known.middle) return known.middle;
  let [x0, y0, x1, y1] = [some[0].x, some[0].y, some[0].x, some[0].y];
  for (const { x, y } of some) [x0, y0, x1, y1] = [Math.min(x0, x), Math.min(y0, y), Math.max(x1, x), Math.max(y1, y)];
  const middle = { x: (x0 + x1) / 2, y: (y0 + y1) / 2 };
  if (some === known.rows) known.middle = middle;
  return middle;
}
/** The point that all is turned about. @param {readonly Row[]} some @returns {{x: number, y: number} | null} */
function aboutOf(some) {
  if (!some.length) return null;
  const last = some[some.length - 1];
  if (some.length === 1 || choice.about === "last") return { x: last.x, y: last.y };
  if (choice.about === "point" && choice.point) return choice.point;
  return choice.about === "each" ? { x: last.x, y: last.y } : middleOf(some);
}
/** The same as the API has it. */
export const aboutSaid = () =>
  choice.about === "point" ? (choice.point ? [choice.point.x, choice.point.y] : "middle") : choice.about;

/** Change what is chosen. @param {Record<string, any>} said @param {Record<string, any>} [also] */
export async function change(said, also = {}) {
  if (!choice.keys.length || choice.busy) return null;
  choice.busy = true;
  const made = await ask(`${path}?in=world`, "PATCH", { ids: [...choice.keys], change: said, ...also });
  choice.busy = false;
  if (made && said.copied) choose(made.ids);
  return made;
}

// The hand on the plan

/** What the hand has hold of. @type {{how: "move" | "turn", from: {x: number, y: number}, px: number, py: number, moved: boolean} | null} */
let held = null;
export let keysDown = { shift: false, alt: false };
window.addEventListener(
  "pointerdown",
  (event) => {
    keysDown = { shift: event.shiftKey, alt: event.altKey || event.ctrlKey || event.metaKey };
  },
  { capture: true },
);

/** Whether a spot lies on a thing, and how near to its middle it is. [px] @param {Row} thing @param {number} px @param {number} py */
function awayFrom(thing, px, py) {
  const [x, y] = screenAt(thing.x, thing.y);
  const away = Math.hypot(px - x, py - y);
  const entry = drawnEntry(thing.kit);
  const reach = entry ? (Math.min(entry.width, entry.depth) / 2) * (thing.size ?? 1) : 0;
  return Math.max(0, away - Math.min(reach / metresPerPixel(), 60));
}

/** @param {number} px @param {number} py @returns {string | null} */
function hit(px, py) {
  let best = null;
  let nearest = NEAR;
  for (const thing of each("things")) {
    if (isHidden(thing)) continue;
    const [x, y] = screenAt(thing.x, thing.y);
    if (Math.abs(px - x) > 120 || Math.abs(py - y) > 120) continue;
    const away = awayFrom(thing, px, py) + Math.hypot(px - x, py - y) / 1000;
    if (away < nearest) [best, nearest] = [thing.key, away];
  }
  return best;
}

/** Whether a pixel is on the handle that turns. @param {number} px @param {number} py */
function onHandle(px, py) {
  const some = chosenRows();
  const about = aboutOf(some);
  if (!about) return false;
  const [x, y] = screenAt(about.x, about.y);
  const turn = ((some.length === 1 ? some[0].turn_deg : 0) * Math.PI) / 180;
  return Math.hypot(px - x - Math.sin(turn) * HANDLE, py - y + Math.cos(turn) * HANDLE) < 9;
}

addHand({
  down(px, py, spot) {
    if (state.stage !== "sites" || state.place) return false;
    if (onHandle(px, py)) {
      held = { how: "turn", from: spot, px, py, moved: false };
      return true;
    }
    const found = hit(px, py);
    if (!found) {
      if (choice.keys.length && choice.adds === "new" && !keysDown.shift) choose([]);
      return false;
    }
    if (keysDown.shift) pick([found], choice.keys.includes(found) ? "less" : "more", false);
    else if (keysDown.alt) pick([found], "less", false);
    else if (choice.adds !== "new") pick([found], choice.adds, false);
    else if (!choice.keys.includes(found)) choose([found]);
    else pick([found], "more", false);
    openTab("sites", "chosen");
    held = { how: "move", from: spot, px, py, moved: false };
    return true;
  },
  move(px, py, spot) {
    if (!held || (!held.moved && Math.hypot(px - held.px, py - held.py) < 4)) return;
    const some = chosenRows();
    const last = some[some.length - 1];
    if (!last) return;
    held.moved = true;
    delete document.getElementById("chosen")?.dataset.typed;
    if (held.how === "move") {
      const to = inShown(snapped({ x: last.x + spot.x - held.from.x, y: last.y + spot.y - held.from.y }));
      Object.assign(holding, { dx: to.x - last.x, dy: to.y - last.y });
    } else {
      const about = aboutOf(some);
      if (!about) return;
      const [x, y] = screenAt(about.x, about.y);
      const bearing = (Math.round((Math.atan2(px - x, y - py) * 180) / Math.PI) + 360) % 360;
      const was = some.length === 1 ? some[0].turn_deg : 0;
      Object.assign(holding, { turn: bearing - was, about, each: choice.about === "each" });
    }
    if (some.length === 1) {
      const place = placeOf(last);
      tellTyped({ x: place.x, y: place.y, turn_deg: ((place.turn % 360) + 360) % 360 });
    }
    drawOverlay();
  },
  async up(keep) {
    const was = held;
    held = null;
    const now = { ...holding };
    const said = was?.how === "turn" ? { turn_by_deg: now.turn, about: aboutSaid() } : { dx_m: now.dx, dy_m: now.dy };
    const some = chosenRows();
    const placed = was?.moved && keep ? some.map((thing) => ({ thing, place: placeOf(thing) })) : [];
    Object.assign(holding, { dx: 0, dy: 0, turn: 0, about: null });
    drawOverlay();
    if (!placed.length) return;
    const asking = change(said);
    for (const { thing, place } of placed) {
      expect("things", thing.key, { x: place.x, y: place.y, turn_deg: ((place.turn % 360) + 360) % 360 });
      settle("things", thing.key, asking);
    }
  },
});

/** The form of the one that is chosen shows where the hand has it. @param {Record<string, number>} said */
function tellTyped(said) {
  const form = document.getElementById("chosen");
  for (const [name, value] of Object.entries(said)) {
    const field = /** @type {HTMLInputElement | null} */ (form?.querySelector(`[name=${name}]`));
    if (field) field.value = String(Math.round(value * 1000) / 1000);
  }
}

/** What the hand snaps to. Set by the placing. @type {{step: number}} */
export const snap = Alpine.reactive({ step: 0 });
/** A spot on the grid that the hand snaps to. @param {{x: number, y: number}} spot */
export const snapped = ({ x, y }) =>
  snap.step > 0 ? { x: Math.round(x / snap.step) * snap.step, y: Math.round(y / snap.step) * snap.step } : { x, y };

addMark((context) => {
  if (state.stage !== "sites" || !choice.keys.length) return;
  const some = chosenRows();
  const about = aboutOf(some);
  if (!about) return;
  const at = { x: about.x + holding.dx, y: about.y + holding.dy };
  handle(context, at, (some.length === 1 ? some[0].turn_deg : 0) + holding.turn);
  if (some.length > 1) turningPoint(context, at);
});
watch(
  () => [choice.about, choice.point, choice.keys.length],
  () => drawOverlay(),
);

// Which are chosen, by what they have in common

/** @param {(thing: Row) => boolean} test */
export function those(test) {
  const found = [];
  for (const thing of each("things")) if (test(thing) && !isHidden(thing)) found.push(thing.key);
  return found;
}
/** What two things of a sort have in common. @param {Row} thing */
export const sortOf = (thing) => thing.kit ?? thing.assembly ?? thing.sort;

/** Choose in a box or an outline. @param {"box" | "freehand"} sort */
export function chooseIn(sort) {
  drawOutline(sort, (points) => {
    const [xs, ys] = [points.map(([x]) => x), points.map(([, y]) => y)];
    const [x0, y0, x1, y1] = [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
    const inBox = (/** @type {Row} */ { x, y }) => x >= x0 && x <= x1 && y >= y0 && y <= y1;
    pick(those((thing) => inBox(thing) && (sort === "box" || within(points, [thing.x, thing.y]))));
    if (choice.keys.length) openTab("sites", "chosen");
  });
}
actions["choose-box"] = () => chooseIn("box");
actions["drop-things"] = () => change({ drop: true });
