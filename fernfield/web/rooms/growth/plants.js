// Single plants under the hand: put one by one, chosen by a click, a box or an outline, and changed together.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, reach, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { metresPerPixel, paneSize, screenAt, spotAt } from "/static/js/seen/drawn/plan.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { drawOutline, within } from "/static/js/seen/hands/outline.js";
import { row, subject } from "/static/js/seen/rows.js";
import { grid, heed, inShown, landApi, state, watch } from "/static/js/seen/state.js";

/** @typedef {{id: string, mix: string, kind: string, x: number, y: number, size_width: number, size_height: number, turn_deg: number, by_hand: boolean}} Plant */

const path = `${landApi}/plants`;
/** So many are chosen at most. */
const MOST = 10_000;
/** A press so near to the middle of a chosen plant takes it. [px] */
const NEAR = 9;

/** What is chosen. @type {{plants: Plant[], adds: string, busy: boolean}} */
const choice = Alpine.reactive({ plants: [], adds: "new", busy: false });
/** What the hand has hold of: the chosen ones, or a plant that is being put. @type {{how: "move" | "put", from: {x: number, y: number}, to: {x: number, y: number}} | null} */
let held = null;

const crownOf = (/** @type {Plant} */ plant) => (row("kinds", plant.kind)?.crown_m ?? 1) * plant.size_width;
const ticked = (/** @type {Plant} */ plant) => !state.kindsOff.includes(plant.kind);
/** The kind that is put: the first that is ticked of the mix in the hand. */
const kindToPut = () =>
  (row("mixes", subject("mix"))?.kinds ?? []).find(
    (/** @type {import("/static/js/types.js").Answers["Part"]} */ one) => !state.kindsOff.includes(one.kind),
  );

/** Plants in a box, as far as there is room. @param {number[]} box @returns {Promise<Plant[]>} */
async function plantsIn([x0, y0, x1, y1]) {
  /** @type {Plant[]} */
  const found = [];
  let cursor = 0;
  while (found.length < MOST) {
    const answer = await reach(
      `${path}?x0=${x0}&y0=${y0}&x1=${x1}&y1=${y1}&cursor=${cursor}`,
      {},
      { waits: "Counting plants" },
    );
    if (!answer?.ok) break;
    const { plants, next } = await answer.json();
    found.push(...plants);
    if (next === null) break;
    cursor = next;
  }
  return found.slice(0, MOST);
}

/** Add to the choice, take from it, or choose anew. @param {Plant[]} found */
function choose(found) {
  const some = found.filter(ticked);
  const known = new Map(choice.plants.map((plant) => [plant.id, plant]));
  if (choice.adds === "new") known.clear();
  for (const plant of some) {
    if (choice.adds === "less") known.delete(plant.id);
    else known.set(plant.id, plant);
  }
  if (known.size > MOST) say(`At most ${MOST.toLocaleString("en")} plants can be chosen at once.`);
  choice.plants = [...known.values()].slice(0, MOST);
  say(`${choice.plants.length.toLocaleString("en")} plants are chosen.`, "calm");
  drawOverlay();
}

/** What is chosen as it is now; what has gone is left out. */
async function again() {
  if (!choice.plants.length) return;
  const xs = choice.plants.map((plant) => plant.x);
  const ys = choice.plants.map((plant) => plant.y);
  const far = 40;
  const found = await plantsIn([
    Math.min(...xs) - far,
    Math.min(...ys) - far,
    Math.max(...xs) + far,
    Math.max(...ys) + far,
  ]);
  const wanted = new Set(choice.plants.map((plant) => plant.id));
  choice.plants = found.filter((plant) => wanted.has(plant.id));
  drawOverlay();
}
watch(
  () => state.world.revision,
  () => !choice.busy && again(),
);
heed("all-stale", () => drawOverlay());

const idsOf = () => choice.plants.map((plant) => plant.id);

/** Change what is chosen. @param {Record<string, any>} change */
async function change(change) {
  if (!choice.plants.length || choice.busy) return;
  choice.busy = true;
  const made = await ask(path, "PATCH", { ids: idsOf(), change });
  if (made) {
    const { dx_m = 0, dy_m = 0 } = change;
    for (const plant of choice.plants) Object.assign(plant, { x: plant.x + dx_m, y: plant.y + dy_m });
    // Copies are what is chosen now: they can be moved on.
    if (made.ids?.length) choice.plants.forEach((plant, k) => Object.assign(plant, { id: made.ids[k] }));
  }
  choice.busy = false;
  await again();
}

/** @param {{x: number, y: number}} spot */
function hit(spot) {
  const reach = Math.max(NEAR * metresPerPixel(), 0.5);
  return choice.plants.some(
    (plant) => Math.hypot(plant.x - spot.x, plant.y - spot.y) < Math.max(reach, crownOf(plant)),
  );
}

/** @param {{x: number, y: number}} spot */
async function clickAt(spot) {
  const far = Math.max(8, NEAR * metresPerPixel());
  const found = (await plantsIn([spot.x - far, spot.y - far, spot.x + far, spot.y + far])).filter(ticked);
  const away = (/** @type {Plant} */ plant) => Math.hypot(plant.x - spot.x, plant.y - spot.y);
  const under = found.filter((plant) => away(plant) <= Math.max(crownOf(plant), NEAR * metresPerPixel()));
  under.sort((a, b) => away(a) - away(b));
  choose(under.slice(0, 1));
}

/** The plant that a press and its drag put: the drag says where it faces and how large it is. */
function toPut() {
  const part = kindToPut();
  if (!held || !part) return null;
  const [dx, dy] = [held.to.x - held.from.x, held.to.y - held.from.y];
  const drawn = Math.hypot(dx, dy);
  const crown = row("kinds", part.kind)?.crown_m ?? 1;
  const clicked = drawn < 4 * metresPerPixel();
  const size = clicked
    ? (part.size_min + part.size_max) / 2
    : Math.min(Math.max(drawn / crown, part.size_min / 2), part.size_max * 2);
  const turn = clicked ? Math.floor(Math.random() * 360) : ((Math.atan2(dx, dy) * 180) / Math.PI + 360) % 360;
  return {
    mix: subject("mix"),
    kind: part.kind,
    ...inShown(held.from),
    size_height: Math.round(size * 1000) / 1000,
    turn_deg: Math.min(Math.round(turn * 100) / 100, 359.99),
  };
}

addHand({
  down(px, py, spot) {
    if (state.stage !== "growth" || !state.way) return false;
    if (state.way === "put") {
      if (!kindToPut()) say("Tick the kind that is to be put: the first ticked one of the mix is taken.");
      else held = { how: "put", from: spot, to: spot };
      return true;
    }
    if (choice.adds === "new" && hit(spot)) held = { how: "move", from: spot, to: spot };
    else clickAt(spot);
    return true;
  },
  move(px, py, spot) {
    if (held) held.to = spot;
    drawOverlay();
  },
  async up(keep) {
    const was = held;
    const plant = was?.how === "put" ? toPut() : null;
    held = null;
    drawOverlay();
    if (!was || !keep) return;
    if (plant) await ask(path, "POST", { plants: [plant] });
    const [dx, dy] = [was.to.x - was.from.x, was.to.y - was.from.y];
    if (was.how === "move" && Math.hypot(dx, dy) > 2 * metresPerPixel()) await change({ dx_m: dx, dy_m: dy });
  },
});

/** Rings about what is chosen, and what is being put or moved. */
addMark((context) => {
  if (state.stage !== "growth") return;
  const [dx, dy] = held?.how === "move" ? [held.to.x - held.from.x, held.to.y - held.from.y] : [0, 0];
  /** @param {number} x @param {number} y @param {number} radius @param {boolean} byHand */
  const ring = (x, y, radius, byHand) => {
    const [px, py] = screenAt(x, y);
    for (const [ink, width] of /** @type {[string, number][]} */ ([
      ["rgba(255,255,255,.6)", 2.4],
      ["#a2431f", 1.1],
    ])) {
      context.strokeStyle = ink;
      context.lineWidth = width;
      context.setLineDash(byHand ? [] : [3, 2]);
      context.beginPath();
      context.arc(px, py, Math.max(radius / metresPerPixel(), 2.5), 0, 7);
      context.stroke();
    }
    context.setLineDash([]);
  };
  for (const plant of choice.plants) ring(plant.x + dx, plant.y + dy, crownOf(plant), plant.by_hand);
  const plant = held?.how === "put" ? toPut() : null;
  if (plant) ring(plant.x, plant.y, (row("kinds", plant.kind)?.crown_m ?? 1) * plant.size_height, true);
});

Alpine.data("plants", () => ({
  get way() {
    return state.way;
  },
  get adds() {
    return choice.adds;
  },
  get none() {
    return !choice.plants.length;
  },
  get counted() {
    const by = new Map();
    for (const { kind } of choice.plants) by.set(kind, (by.get(kind) ?? 0) + 1);
    const each = [...by].map(([kind, count]) => `${count.toLocaleString("en")} ${row("kinds", kind)?.name ?? kind}`);
    return each.length ? each.join(", ") : "Nothing is chosen.";
  },
  get putting() {
    const part = kindToPut();
    return part
      ? `A click puts one ${row("kinds", part.kind)?.name}; a drag says where it faces and how large it is.`
      : "";
  },
  /** @param {Event} event */
  take(event) {
    const way = /** @type {HTMLElement} */ (event.currentTarget).dataset.way || "";
    state.way = state.way === way ? "" : way;
  },
  /** @param {Event} event */
  addsTo(event) {
    choice.adds = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  /** @param {Event} event */
  draw(event) {
    const sort = /** @type {"box" | "freehand"} */ (/** @type {HTMLElement} */ (event.currentTarget).dataset.sort);
    drawOutline(sort, async (points) => {
      const xs = points.map(([x]) => x);
      const ys = points.map(([, y]) => y);
      const found = await plantsIn([Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)]);
      choose(sort === "box" ? found : found.filter((plant) => within(points, [plant.x, plant.y])));
    });
  },
  async inView() {
    const [width, height] = paneSize();
    const [corner, other] = [spotAt(0, height), spotAt(width, 0)];
    choose(await plantsIn([corner.x, corner.y, other.x, other.y]));
  },
  all() {
    plantsIn([grid.west, grid.south, grid.east, grid.north]).then(choose);
  },
  drop() {
    choice.plants = [];
    drawOverlay();
  },
  /** @param {Event} event */
  apply(event) {
    const form = /** @type {HTMLFormElement} */ (event.target);
    const change_ = Object.fromEntries(
      [.../** @type {NodeListOf<HTMLInputElement | HTMLSelectElement>} */ (form.querySelectorAll("[name]"))]
        .filter((field) => field.value !== "")
        .map((field) => [field.name, field.name === "variant" ? field.value : scaled(field)]),
    );
    const copied = /** @type {HTMLInputElement | null} */ (form.querySelector("#plants-copied"))?.checked;
    change(copied ? { ...change_, copied: true } : change_).then(() => form.reset());
  },
  async remove() {
    if (await ask(path, "DELETE", { ids: idsOf() })) this.drop();
  },
  async settle() {
    await ask(`${path}/settle`, "POST", choice.plants.length ? { ids: idsOf() } : {});
  },
  async redress() {
    await ask(`${path}/redress`, "POST", choice.plants.length ? { ids: idsOf() } : {});
  },
}));

/** @param {HTMLInputElement | HTMLSelectElement} field */
const scaled = (field) => Number(field.value) / ("percent" in field.dataset ? 100 : 1);

watch(
  () => state.stage,
  () => {
    state.way = "";
    drawOverlay();
  },
);
