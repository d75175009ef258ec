// Streams: from a spring or along a line; where it would run and what it would cut is seen before it is put.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, jsonOf, reach, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { rows } from "/static/js/seen/rows.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { inShown, state } from "/static/js/seen/state.js";
import { drawSpot, drawWay } from "./marks.js";

/** @typedef {import("/static/js/types.js").Answers["StreamLaid"]} Told */

/** How near a point is taken hold of. [px] */
const NEAR = 9;
const base = `/api/worlds/${state.world.id}`;
/** The stream that is being made or changed.
 * @type {{key: string, points: number[][], fords: number[][], how: string | null, told: Told | null, choices: any, words: string}} */
const open = Alpine.reactive({ key: "", points: [], fords: [], how: null, told: null, choices: null, words: "" });

const form = () => /** @type {HTMLFormElement | null} */ (document.querySelector("#bench form[data-stream-form]"));
const figure = (/** @type {number} */ value, digits = 0) =>
  value.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits });

/** Counts questions: an answer to one that is not the last is of what was asked before. */
let turn = 0;
function letGo() {
  turn += 1;
  Object.assign(open, { key: "", points: [], fords: [], how: null, told: null, choices: null, words: "" });
  drawOverlay();
}

/** What the form says of the stream; null while a field is wrong. */
function said() {
  const own = form();
  if (!own || !open.points.length || !own.checkValidity()) return null;
  const typed = new FormData(own);
  return {
    name: typed.get("name") || "Stream",
    points: open.points,
    fords: open.fords,
    width_m: Number(typed.get("width_m")),
    depth_m: Number(typed.get("depth_m")),
    bank_deg: Number(typed.get("bank_deg")),
    carve: typed.get("carve") !== null,
    ...(open.how ? { in_hollow: open.how } : {}),
  };
}

/** Ask what the stream comes to, or put it. @param {boolean} keep @param {boolean} [calm] nothing is said of a refusal */
async function send(keep, calm = false) {
  const body = said();
  if (!body) {
    if (keep) form()?.reportValidity();
    return;
  }
  const key = open.key || `stream-${Math.random().toString(36).slice(2, 8)}`;
  const mine = (turn += 1);
  const answer = await reach(
    `${base}/streams/${key}${keep ? "" : "/look"}?in=world`,
    jsonOf(keep ? "PUT" : "POST", body),
    { waits: keep ? "Laying the stream" : "Looking where the stream would run", calm, stops: !keep },
  );
  if (!answer) return;
  const told = await answer.json();
  if (mine !== turn && !keep) return;
  if (answer.status === 409 && told.choices) {
    Object.assign(open, { choices: told.choices, words: told.detail, told: null });
  } else if (!answer.ok) {
    open.told = null;
    if (!calm) say(told.errors?.map((/** @type {{message: string}} */ one) => one.message).join("; ") || told.detail);
  } else {
    const tract = state.world.tracts.find((one) => one.id === told.tract);
    const [east, north] = tract ? [tract.x, tract.y] : [0, 0];
    const course = told.course.map((/** @type {number[]} */ [x, y, ...rest]) => [x + east, y + north, ...rest]);
    Object.assign(open, { choices: null, words: "", told: { ...told, course } });
    if (keep) open.key = key;
  }
  drawOverlay();
}

// A point or a ford of the stream that is open can be dragged; where it would run then is seen meanwhile.
/** @type {{of: "points" | "fords", at: number, was: number[][]} | null} */
let held = null;
let asking = false;
let moved = false;
async function follow() {
  if (asking || !moved) return;
  asking = true;
  moved = false;
  await send(false, true);
  asking = false;
  follow();
}
addHand({
  down(px, py) {
    if (!open.points.length || state.stage !== "water" || state.tabs.water !== "streams") return false;
    for (const of of /** @type {("points" | "fords")[]} */ (["fords", "points"])) {
      const at = open[of].findIndex(([x, y]) => Math.hypot(screenAt(x, y)[0] - px, screenAt(x, y)[1] - py) < NEAR);
      if (at >= 0) held = { of, at, was: open[of] };
      if (held) return true;
    }
    return false;
  },
  move(px, py, spot) {
    if (!held) return;
    const { of, at } = held;
    const { x, y } = inShown(spot);
    open[of] = open[of].map((one, number) => (number === at ? [x, y] : one));
    drawOverlay();
    moved = true;
    follow();
  },
  up(keep) {
    if (!held) return;
    if (!keep) open[held.of] = held.was;
    if (keep && open[held.of] !== held.was)
      say(
        "Moved, and not kept yet: “Set the stream” on the bench keeps it, Escape or another stream lets it go.",
        "calm",
      );
    if (open[held.of] !== held.was || !keep) send(false);
    held = null;
  },
});

/** Open a stream as it is. @param {string} key */
export function chooseStream(key) {
  const one = rows("streams").find((own) => own.key === key);
  const own = form();
  // What is typed of the one that is open stays.
  if (!one || !own || key === open.key) return;
  Object.assign(open, { key, points: one.points, fords: one.fords, how: one.in_hollow, told: null, choices: null });
  for (const name of ["name", "width_m", "depth_m", "bank_deg"]) {
    const field = /** @type {HTMLInputElement | null} */ (own.elements.namedItem(name));
    if (field) field.value = String(one[name]);
  }
  const carve = /** @type {HTMLInputElement | null} */ (own.elements.namedItem("carve"));
  if (carve) carve.checked = one.carve;
  send(false);
}

addMark((context) => {
  if (state.stage !== "water" || state.tabs.water !== "streams") return;
  if (open.told) drawWay(context, open.told.course);
  for (const spot of open.points) drawSpot(context, spot);
  for (const spot of open.fords) drawSpot(context, spot, "#8a6a2f");
});

/** @type {Record<string, string>} */
const ENDS = {
  sea: "in the sea",
  pool: "in a pool",
  stream: "in another stream",
  edge: "at the land's edge",
  hollow: "in a hollow",
};

Alpine.data("streams", () => ({
  get list() {
    return rows("streams").map((one) => ({
      key: one.key,
      name: one.name,
      words: `${figure(one.width_m, 1)} m wide`,
      chosen: one.key === open.key,
    }));
  },
  get begun() {
    return open.points.length > 0;
  },
  get kept() {
    return rows("streams").some((one) => one.key === open.key);
  },
  get figures() {
    const one = open.told;
    if (!one) return [];
    const name = one.joins ? rows("streams").find((own) => own.key === one.joins)?.name : "";
    return [
      { name: "Runs", words: `${figure(one.length_m)} m, ${figure(one.fall_m, 1)} m down to its end` },
      { name: "Ends", words: name ? `in ${name}` : ENDS[one.ends] },
      { name: "Wide at its end", words: `${figure(one.width_at_end_m, 1)} m` },
      ...(one.falls.length
        ? [
            {
              name: one.falls.length > 1 ? "Waterfalls" : "Waterfall",
              words: one.falls.map((own) => `${figure(own.height_m, 1)} m`).join(", "),
            },
          ]
        : []),
      { name: "Cuts", words: `${figure(one.cut_m3)} m³` },
    ];
  },
  get asked() {
    return Boolean(open.choices);
  },
  get askedWords() {
    return open.words.replace(/: say .*/, ".");
  },
  get choices() {
    const { pool, cut } = open.choices ?? {};
    return [
      ...(pool ? [{ name: "pool", words: `A pool of ${figure(pool.area_m2)} m² there` }] : []),
      ...(cut ? [{ name: "cut", words: `Cut through: ${figure(cut.cut_m3)} m³ in all` }] : []),
    ];
  },
  /** @param {Event} event */
  answer(event) {
    open.how = /** @type {HTMLElement} */ (event.currentTarget).dataset.hollowWay ?? null;
    send(false);
  },
  /** @param {Event} event */
  draw(event) {
    const from = /** @type {HTMLElement} */ (event.currentTarget).dataset.streamFrom;
    drawOutline(from === "line" ? "line" : "place", (points) => {
      if (from === "ford") open.fords = [...open.fords, ...points];
      else if (open.key) Object.assign(open, { points, fords: [], how: null });
      else Object.assign(open, { points, fords: [], how: null, told: null });
      const field = /** @type {HTMLInputElement | null} */ (document.getElementById("stream-name"));
      if (field && !field.value) field.value = `Stream ${rows("streams").length + 1}`;
      send(false);
    });
  },
  look: () => send(false),
  put: () => send(true),
  letGo,
  /** @param {Event} event */
  choose(event) {
    chooseStream(/** @type {HTMLElement} */ (event.currentTarget).dataset.stream || "");
  },
  remove() {
    ask(`${base}/streams/${open.key}`, "DELETE");
    letGo();
  },
}));
