// Walks that were kept: shown again at any speed, walked again in the world as it is; and walkers of the world's own.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { stand } from "/static/js/seen/drawn/overlook.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { choose } from "/static/js/seen/hands/placed.js";
import { hears, send } from "/static/js/seen/live.js";
import { each, rows } from "/static/js/seen/rows.js";
import { actions, heed, state, watch } from "/static/js/seen/state.js";
import { clock, lastWalk, trail } from "./hud.js";

const base = `/api/worlds/${state.world.id}`;
const MOST_POINTS = 199;

/** @typedef {[number, number, number, number]} Place seconds, east, north, elevation [s, m] */
const shown = Alpine.reactive({
  /** The kept walk that is looked at, its track, and the one that the same wishes give now. */
  key: "",
  track: /** @type {Place[]} */ ([]),
  now: /** @type {Place[]} */ ([]),
  words: "",
  /** How often faster than it was walked it is shown, and what of it has been. [s] */
  times: 2,
  at: 0,
  plays: false,
  throughEyes: false,
  /** Counts up when a walk is over. */
  walks: 0,
});
watch(
  () => state.walking,
  () => {
    shown.walks += 1;
  },
);

/** Where somebody was at a time. @param {Place[]} track @param {number} seconds */
function placeAt(track, seconds) {
  let k = track.findIndex(([t]) => t >= seconds);
  if (k === -1) k = track.length - 1;
  const [a, b] = [track[Math.max(k - 1, 0)], track[k]];
  const part = b[0] > a[0] ? Math.min(1, (seconds - a[0]) / (b[0] - a[0])) : 1;
  const [x, y, z] = [1, 2, 3].map((i) => a[i] + (b[i] - a[i]) * part);
  const facing = (Math.atan2(b[1] - a[1], b[2] - a[2]) * 180) / Math.PI;
  return { x, y, z, facing };
}

/** @param {CanvasRenderingContext2D} context @param {Place[]} track @param {string} ink @param {number[]} dash */
function line(context, track, ink, dash) {
  context.strokeStyle = ink;
  context.lineWidth = 2;
  context.setLineDash(dash);
  context.beginPath();
  for (const [, x, y] of track) context.lineTo(...screenAt(x, y));
  context.stroke();
  context.setLineDash([]);
}
addMark((context) => {
  if (state.stage !== "trial" || !shown.track.length) return;
  line(context, shown.track, "#5a1f3d", []);
  if (shown.now.length) line(context, shown.now, "#a2431f", [6, 4]);
  for (const one of state.walkers) {
    const [x, y] = screenAt(one.x, one.y);
    context.fillStyle = "#a2431f";
    context.beginPath();
    context.arc(x, y, 5, 0, 7);
    context.fill();
  }
});

let before = 0;
let back = "plan";
/** @param {number} now */
function step(now) {
  if (!shown.plays || state.walking || state.stage !== "trial") {
    halt();
    return;
  }
  const end = shown.track[shown.track.length - 1][0];
  shown.at = Math.min(end, shown.at + (Math.min(now - before, 200) / 1000) * shown.times);
  before = now;
  const tracks = shown.now.length ? [shown.track, shown.now] : [shown.track];
  const places = tracks.map((track) => placeAt(track, shown.at));
  state.walkers = (shown.throughEyes ? places.slice(1) : places).map((one) => ({ ...one, sort: "person" }));
  if (shown.throughEyes) {
    const [{ x, y, z, facing }] = places;
    stand({ x, y, z: z + 1.65, facing, pitch: -4 });
  }
  drawOverlay();
  if (shown.at >= end) halt();
  else requestAnimationFrame(step);
}
function halt() {
  if (!shown.plays) return;
  shown.plays = false;
  if (shown.throughEyes && !state.walking) {
    stand(null);
    state.view = back;
  }
}

async function look(/** @type {string} */ key) {
  halt();
  Object.assign(shown, { key, now: [], words: "", at: 0, track: [] });
  state.walkers = [];
  const told = await ask(`${base}/walks/${key}/track`, "GET");
  if (told && shown.key === key) shown.track = told.track;
  drawOverlay();
}
/** Somebody else's track is shown again on the map, from a time on. @param {Place[]} track @param {number} at [s] */
export function showTrack(track, at) {
  halt();
  Object.assign(shown, { key: "", track, now: [], words: "", at, throughEyes: false, plays: true });
  before = performance.now();
  requestAnimationFrame(step);
}
/** No walk is looked at. */
function letGo() {
  halt();
  Object.assign(shown, { key: "", now: [], words: "", track: [] });
  state.walkers = [];
  drawOverlay();
}
hears("walk-kept", (message) => {
  say("The walk is kept.", "calm");
  look(message.key);
});

Alpine.data("keptWalks", () => ({
  get list() {
    return rows("walks").map((one) => ({
      key: one.key,
      name: one.name,
      words: `${clock(one.seconds)} · ${one.length_m.toFixed(0)} m`,
      chosen: shown.key === one.key,
    }));
  },
  get last() {
    void shown.walks;
    const one = state.walking ? null : lastWalk();
    return one ? `${clock(one.seconds)} and ${one.far.toFixed(0)} m` : "";
  },
  get key() {
    return shown.key;
  },
  get words() {
    return shown.words;
  },
  get plays() {
    return shown.plays;
  },
  get atWords() {
    const end = shown.track[shown.track.length - 1]?.[0] ?? 0;
    return `${clock(shown.at)} of ${clock(end)}`;
  },
  get part() {
    const end = shown.track[shown.track.length - 1]?.[0] ?? 0;
    return end ? Math.round((shown.at / end) * 1000) : 0;
  },
  /** @param {Event} event */
  choose(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.walkKey || "";
    if (key === shown.key) letGo();
    else look(key);
  },
  keepWalk() {
    const count = [...each("walks")].length + 1;
    if (!send({ is: "keep-walk", name: `Walk ${count}` })) say("The line to the server is down.");
  },
  async keepLine() {
    const every = Math.ceil(trail.length / MOST_POINTS);
    const points = trail.filter((_, k) => k % every === 0 || k === trail.length - 1);
    if (await ask(`${base}/lines?in=world`, "POST", { name: "Walked", points }))
      say("It is kept as a line of the section.", "calm");
  },
  /** @param {Event} event */
  setTimes(event) {
    shown.times = Number(/** @type {HTMLSelectElement} */ (event.target).value);
  },
  /** @param {Event} event */
  slide(event) {
    const end = shown.track[shown.track.length - 1]?.[0] ?? 0;
    shown.at = (Number(/** @type {HTMLInputElement} */ (event.target).value) / 1000) * end;
    if (shown.track.length) state.walkers = [{ ...placeAt(shown.track, shown.at), sort: "person" }];
    drawOverlay();
  },
  /** @param {Event} event */
  play(event) {
    if (shown.plays) {
      halt();
      return;
    }
    if (!shown.track.length) return;
    shown.throughEyes = /** @type {HTMLElement} */ (event.currentTarget).dataset.play === "eyes";
    if (shown.at >= shown.track[shown.track.length - 1][0]) shown.at = 0;
    if (shown.throughEyes) {
      back = state.view;
      state.view = "eye";
    }
    shown.plays = true;
    before = performance.now();
    requestAnimationFrame(step);
  },
  async again() {
    const { key } = shown;
    const told = await ask(`${base}/walks/${key}/again`, "POST", {});
    if (!told || shown.key !== key) return;
    Object.assign(shown, { track: told.before, now: told.track, at: 0 });
    const [stop] = told.blocked.slice(-1);
    const parts = told.apart_s === null ? "" : ` from ${clock(told.apart_s)} on, ${told.apart_m.toFixed(1)} m at most`;
    const by = parts && stop ? `; stopped by ${stop[1]} at ${clock(stop[0])}` : "";
    shown.words = parts ? `It goes another way${parts}${by}.` : "It goes the same way as before, to the step.";
    drawOverlay();
  },
  async remove() {
    if (await ask(`${base}/walks/${shown.key}`, "DELETE")) letGo();
  },
}));

Alpine.data("ownWalkers", () => ({
  get list() {
    return rows("walkers").map((one) => ({
      key: one.key,
      name: one.name,
      words: `${one.walk_ms} m/s, ${one.steepest_deg}°`,
      chosen: state.chosen === `walkers/${one.key}`,
    }));
  },
  get own() {
    return chosenOf("walkers");
  },
  /** @param {Event} event */
  choose: (event) => choose("walkers", /** @type {HTMLElement} */ (event.currentTarget).dataset.walkerKey || ""),
  /** A new one, as the walker of this trial is. */
  async add() {
    const all = /** @type {any[] | null} */ (await ask(`${base}/walkers`, "GET"));
    const like = all?.find((one) => one.key === (state.show.walker ?? "person")) ?? all?.[0];
    if (!like) return;
    const { key: _key, shipped: _shipped, ...fields } = like;
    const made = await ask(`${base}/walkers`, "POST", { ...fields, name: `${like.name} 2` });
    if (made) choose("walkers", made.key);
  },
  remove: () => actions.remove(),
}));
heed("panel", () => {
  const form = /** @type {HTMLFormElement | null} */ (document.getElementById("own-walker"));
  if (form) chosenForm(form, "walkers");
});
