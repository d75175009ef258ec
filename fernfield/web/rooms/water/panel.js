// Water: a click finds what is there: a pool, a stream, the sea, or the hollow around it, in which a pool is set by its
// level. What that would put under water is seen meanwhile.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, jsonOf, reach, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { clearWash, washAlong } from "/static/js/seen/drawn/wash.js";
import { tell } from "/static/js/kernel/tell.js";
import { openTab } from "/static/js/seen/bench.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { rows } from "/static/js/seen/rows.js";
import { landApi, state, watch } from "/static/js/seen/state.js";
import "./flood.js";
import { drawSpot, drawWay } from "./marks.js";
import { chooseStream } from "./streams.js";

/** @typedef {import("/static/js/types.js").Answers} Answers */
/** @typedef {Answers["HollowTold"]} Hollow */

const base = `/api/worlds/${state.world.id}`;
const NOTHING = "Nothing is looked at yet.";
/** What is open on the bench.
 * `tried`: what a level would come to that is shown and not kept.
 * @type {{found: Hollow | null, nothing: string, level: number, pool: string, choices: any, words: string, listed: Answers["HollowListed"][], at: number[], tried: any}} */
const open = Alpine.reactive({
  found: null,
  nothing: NOTHING,
  level: 0,
  pool: "",
  choices: null,
  words: "",
  listed: [],
  at: [0, 0],
  tried: null,
});

/** Counts what is looked for: of two clicks the last one counts, whichever is answered first. */
let turn = 0;
/** Look for the hollow around a spot; the hollow, or null. @param {number} x @param {number} y @param {boolean} [again] the same as before: what is clicked meanwhile counts */
async function look(x, y, again = false) {
  if (!again) turn += 1;
  const mine = turn;
  Object.assign(open, { choices: null, at: [x, y] });
  const answer = await reach(`${landApi}/hollow?x=${x}&y=${y}&or_none=true`, {}, { waits: "Looking for the hollow" });
  if (!answer) return null;
  const told = await answer.json();
  if (mine !== turn) return null;
  open.found = answer.ok && !told.none ? told : null;
  open.nothing = told.none ?? told.detail ?? NOTHING;
  if (!open.found) untry();
  if (!again)
    tell(
      open.found
        ? `A hollow of ${Math.round(open.found.volume_m3).toLocaleString("en")} cubic metres, ${figure(open.found.greatest_depth_m)} metres deep`
        : open.nothing,
    );
  drawOverlay();
  return open.found;
}

/** Look for a hollow in which there is no pool yet. @param {number} x @param {number} y */
async function begin(x, y) {
  if (state.tabs.water !== "pools") tell("Pools are opened: a click on dry land looks for a hollow");
  openTab("water", "pools");
  const name = /** @type {HTMLInputElement | null} */ (document.getElementById("pool-name"));
  // A name that somebody has typed for a new pool stays.
  if (name && (open.pool || /^(Pool \d+)?$/.test(name.value))) name.value = `Pool ${rows("pools").length + 1}`;
  open.pool = "";
  const found = await look(x, y);
  if (found) setLevel(found.brim_m, true);
}

/** What is at a spot is opened. @param {number} x @param {number} y */
async function click(x, y) {
  const mine = (turn += 1);
  const tide = state.show.tide ? `&tide=${state.show.tide}` : "";
  const answer = await reach(`${landApi}/spot?x=${x}&y=${y}${tide}`);
  if (!answer) return;
  const here = answer.ok ? (await answer.json()).water : null;
  if (mine !== turn) return;
  if (here?.collection === "pools") choosePool(here.key);
  else if (here?.collection === "streams") {
    openTab("water", "streams");
    chooseStream(here.key);
  } else if (here) openTab("water", "sea");
  else if (["streams", "floods"].includes(state.tabs.water)) return;
  else begin(x, y);
}

/** Open a pool as it is. @param {string} key */
async function choosePool(key) {
  const one = rows("pools").find((own) => own.key === key);
  if (!one) return;
  openTab("water", "pools");
  open.pool = key;
  const own = form();
  for (const name of ["name", "liquid", "plot"]) {
    const field = /** @type {HTMLInputElement | null} */ (own?.elements.namedItem(name));
    if (field) field.value = one[name] ?? "";
  }
  if (await look(one.x, one.y)) setLevel(one.level_m, false);
}

const form = () => /** @type {HTMLFormElement | null} */ (document.querySelector("#bench form[data-pool-form]"));
/** @param {number} level @param {boolean} tried whether it is shown what that would put under water @param {boolean} [typed] */
function setLevel(level, tried, typed = false) {
  open.level = level;
  const field = /** @type {HTMLInputElement | null} */ (document.getElementById("pool-level_m"));
  if (field && !typed) field.value = String(Math.round(level * 100) / 100);
  if (tried) tryOut();
  else untry();
}

/** Show what the level that is set would put under water. */
function tryOut() {
  if (!open.found) return;
  const [x, y] = open.found.floor;
  const plot = form() && String(new FormData(/** @type {HTMLFormElement} */ (form())).get("plot") || "");
  open.tried ??= {};
  const brims = [open.found.brim_m, ...open.found.parents.map((one) => one.brim_m)];
  const over = `&runs_over=${open.level > Math.max(...brims)}`;
  washAlong(`flood?x=${x}&y=${y}&level_m=${open.level}${over}${plot ? `&plot=${plot}` : ""}`, (answer) => {
    if (open.tried) open.tried = answer.ok ? JSON.parse(answer.headers.get("X-Flood") || "{}") : {};
  });
}
/** Nothing is tried any more. */
function untry() {
  if (!open.tried) return;
  open.tried = null;
  clearWash();
}
watch(
  () => [state.stage, state.tabs.water],
  () => (state.stage !== "water" || state.tabs.water !== "pools") && untry(),
);

addHand({
  down(px, py, spot) {
    if (state.stage !== "water") return false;
    click(spot.x, spot.y);
    return true;
  },
  move() {},
  up() {},
});

addMark((context) => {
  if (state.stage !== "water" || state.tabs.water !== "pools" || !open.found) return;
  const { floor, spill, runs_to } = open.found;
  if (spill) drawWay(context, [spill, ...runs_to]);
  drawSpot(context, floor);
  drawSpot(context, spill, "#a2431f");
});

const figure = (/** @type {number} */ value, digits = 2) =>
  value.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits });
const area = (/** @type {number} */ m2) => (m2 >= 10_000 ? `${figure(m2 / 10_000)} ha` : `${figure(m2, 0)} m²`);
const volume = (/** @type {number} */ m3) => `${figure(m3, 0)} m³`;
/** What a hollow holds up to a level: area and volume between the levels of its curve. @param {Hollow} hollow @param {number} level */
function holds(hollow, level) {
  const curve = hollow.curve;
  const at = curve.findIndex(([z]) => z >= level);
  if (at < 0) return curve[curve.length - 1].slice(1);
  if (at === 0) return [0, 0];
  const [[z0, a0, v0], [z1, a1, v1]] = [curve[at - 1], curve[at]];
  const t = (level - z0) / (z1 - z0 || 1);
  return [a0 + (a1 - a0) * t, v0 + (v1 - v0) * t];
}

/** How long a line is. [m] @param {number[][]} line */
const long = (line) => line.slice(1).reduce((sum, [x, y], at) => sum + Math.hypot(x - line[at][0], y - line[at][1]), 0);

/** Set the pool as the form says. @param {Record<string, any>} [more] */
async function put(more = {}) {
  const found = open.found;
  const own = form();
  if (!found || !own || !own.reportValidity()) return;
  const typed = new FormData(own);
  const said = {
    name: typed.get("name"),
    x: found.floor[0],
    y: found.floor[1],
    level_m: Number(typed.get("level_m")),
    liquid: typed.get("liquid"),
    ...(typed.get("plot") ? { plot: typed.get("plot") } : {}),
    ...more,
  };
  // In the land's metres, as the hollow was told; a pool belongs to the tract in which its floor lies.
  const key = open.pool || `pool-${Math.random().toString(36).slice(2, 8)}`;
  const answer = await reach(`${base}/pools/${key}?in=world`, jsonOf("PUT", said), { waits: "Setting the pool" });
  if (!answer) return;
  const told = await answer.json();
  if (answer.status === 409 && told.choices) {
    Object.assign(open, { choices: told.choices, words: told.detail });
    return;
  }
  Object.assign(open, { choices: null, words: "" });
  if (answer.ok) untry();
  else {
    say(told.errors?.map((/** @type {{message: string}} */ one) => one.message).join("; ") || told.detail);
    return;
  }
  open.pool = key;
}

watch(
  () => state.world.revision,
  () => {
    // The ground may have changed under what is looked at.
    if (state.stage === "water" && open.found && !state.drawing) {
      look(open.at[0], open.at[1], true).then((found) => found && setLevel(open.level, open.tried !== null, true));
    }
  },
);

Alpine.data("water", () => ({
  get found() {
    return Boolean(open.found);
  },
  get nothing() {
    return open.nothing.charAt(0).toUpperCase() + open.nothing.slice(1);
  },
  get figures() {
    const h = open.found;
    if (!h) return [];
    return [
      { name: "Floor", words: `${figure(h.floor_m)} m` },
      { name: "Brim", words: `${figure(h.brim_m)} m` },
      { name: "Greatest depth", words: `${figure(h.greatest_depth_m)} m` },
      { name: "Area", words: area(h.area_m2) },
      { name: "Holds", words: volume(h.volume_m3) },
      {
        name: "Runs over to",
        words: h.runs_to.length ? `a way of ${figure(long(h.runs_to), 0)} m` : "the land's edge",
      },
    ];
  },
  get curve() {
    const h = open.found;
    if (!h) return "";
    const most = h.volume_m3 || 1;
    const deep = h.greatest_depth_m || 1;
    const points = h.curve.map(([z, , v]) => `${((z - h.floor_m) / deep) * 240} ${40 - (v / most) * 38}`);
    return `M0 40L${points.join("L")}L240 40Z`;
  },
  get curveWords() {
    const h = open.found;
    return h
      ? `Volume by level, from nothing at ${figure(h.floor_m)} m to ${volume(h.volume_m3)} at ${figure(h.brim_m)} m`
      : "";
  },
  get at() {
    return (this.slid / 1000) * 240;
  },
  get slid() {
    const h = open.found;
    return h ? Math.max(0, Math.min(1000, ((open.level - h.floor_m) / (h.greatest_depth_m || 1)) * 1000)) : 0;
  },
  get share() {
    return Math.round(this.slid) / 10;
  },
  /** @param {Event} event */
  typeShare(event) {
    const [h, field] = [open.found, /** @type {HTMLInputElement} */ (event.target)];
    if (h && field.value !== "" && field.reportValidity())
      setLevel(h.floor_m + (field.valueAsNumber / 100) * h.greatest_depth_m, true);
  },
  get lowest() {
    return open.found ? `${figure(open.found.floor_m)} m` : "";
  },
  get highest() {
    return open.found ? `${figure(open.found.brim_m)} m` : "";
  },
  get levelWords() {
    const h = open.found;
    if (!h) return "";
    const deep = Math.max(0, open.level - h.floor_m);
    const begins = `${figure(open.level)} m: ${figure(deep)} m deep`;
    if (open.level > h.brim_m + 0.001) {
      const { area_m2, runs_off } = open.tried ?? {};
      const wet =
        area_m2 === undefined ? "" : `, ${area(area_m2)} under water${runs_off ? ", off the land's edge" : ""}`;
      return `${begins}, above the brim${wet}`;
    }
    const [a, v] = holds(h, open.level);
    return `${begins}, ${area(a)}, ${volume(v)}`;
  },
  /** @param {Event} event */
  slide(event) {
    const h = open.found;
    if (h)
      setLevel(
        h.floor_m + (Number(/** @type {HTMLInputElement} */ (event.target).value) / 1000) * h.greatest_depth_m,
        true,
      );
  },
  /** A level in figures, or another plot. @param {Event} event */
  typed(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    if (field.name === "level_m" && field.value && field.checkValidity()) setLevel(Number(field.value), true, true);
    if (field.name === "plot") tryOut();
  },
  /** @param {Event} event */
  fill(event) {
    const h = open.found;
    if (!h) return;
    const how = /** @type {HTMLElement} */ (event.currentTarget).dataset.fill;
    const half = h.curve.find(([, , v]) => v >= h.volume_m3 / 2)?.[0] ?? h.brim_m;
    setLevel(how === "brim" ? h.brim_m : how === "half" ? half : h.floor_m + 2, true);
  },
  put: () => put(),
  get asked() {
    return Boolean(open.choices);
  },
  get askedWords() {
    return open.words.replace(/: say .*/, ".");
  },
  get choices() {
    const { flood, raise_rim, dig_outlet } = open.choices ?? {};
    return [
      ...(dig_outlet
        ? [
            {
              name: "dig_outlet",
              words: `Dig the outlet: ${volume(dig_outlet.cut_m3)} of cut, the pool at ${figure(dig_outlet.level_m)} m`,
            },
          ]
        : []),
      ...(raise_rim ? [{ name: "raise_rim", words: `Raise the rim: ${volume(raise_rim.fill_m3)} of fill` }] : []),
      ...(flood
        ? [{ name: "flood", words: `Flood ${area(flood.area_m2)}${flood.runs_off ? ", off the edge" : ""}` }]
        : []),
    ];
  },
  /** @param {Event} event */
  above(event) {
    put({ above_brim: /** @type {HTMLElement} */ (event.currentTarget).dataset.above });
  },
  get inside() {
    return (open.found?.inside ?? []).map((one, at) => ({
      key: at,
      name: `Brim ${figure(one.brim_m)} m`,
      words: `${figure(one.brim_m - one.floor_m)} m deep, ${area(one.area_m2)}`,
    }));
  },
  /** @param {Event} event */
  goInside(event) {
    const one = open.found?.inside[Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.hollow)];
    if (one) begin(one.floor[0], one.floor[1]);
  },
  get around() {
    return (open.found?.parents ?? []).map((one, at) => ({
      key: at,
      name: `Brim ${figure(one.brim_m)} m`,
      words: area(one.area_m2),
    }));
  },
  /** @param {Event} event */
  dropLiquid(event) {
    ask(`${base}/liquids/${/** @type {HTMLElement} */ (event.currentTarget).dataset.liquid}`, "DELETE");
  },
  get fillWords() {
    return open.found ? `Fill it up: ${volume(open.found.volume_m3)}` : "";
  },
  fillUp() {
    ask(`${landApi}/hollow/fill`, "POST", { x: open.at[0], y: open.at[1] });
  },
  drain() {
    const { floor } = /** @type {Hollow} */ (open.found);
    const key = `drain-${Math.random().toString(36).slice(2, 8)}`;
    const said = { name: "Drain", points: [floor], width_m: 2, in_hollow: "cut" };
    ask(`${base}/streams/${key}?in=world`, "PUT", said);
  },
  get pools() {
    return rows("pools").map((one) => ({
      key: one.key,
      name: one.name,
      colour: one.colour,
      words: `${figure(one.level_m)} m`,
      chosen: one.key === open.pool,
    }));
  },
  get poolKey() {
    return rows("pools").some((one) => one.key === open.pool);
  },
  /** @param {Event} event */
  choose(event) {
    choosePool(/** @type {HTMLElement} */ (event.currentTarget).dataset.pool || "");
  },
  remove() {
    ask(`${base}/pools/${open.pool}`, "DELETE");
    open.pool = "";
  },
  get hollows() {
    return open.listed.map((one, at) => ({
      key: at,
      name: `${figure(one.greatest_depth_m)} m deep`,
      words: `${area(one.area_m2)}, brim ${figure(one.brim_m)} m`,
    }));
  },
  async list() {
    const found = await ask(`${landApi}/hollows`);
    if (!found) return;
    open.listed = found.slice(0, 40);
    if (!found.length) say("No hollow of this land is that large.", "calm");
  },
  /** @param {Event} event */
  goTo(event) {
    const one = open.listed[Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.hollow)];
    if (one) begin(one.floor[0], one.floor[1]);
  },
}));
