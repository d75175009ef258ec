// Is it fair: what each start comes to, what ground it comes to first, and what would be if something stood elsewhere.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { goThere } from "/static/js/seen/hands/cursor.js";
import { rows } from "/static/js/seen/rows.js";
import { landApi, state, watch } from "/static/js/seen/state.js";
import { clock } from "./hud.js";
import { drawPosted, posted, windowOf } from "./posted.js";

/** @typedef {import("/static/js/api.js").components["schemas"]["FairTold"]} Fair */

const base = `/api/worlds/${state.world.id}`;
/** What stands for starts that no team has. */
const INKS = ["#a2431f", "#27637f", "#7a5b00", "#5a1f3d", "#2c6647", "#5b4a86", "#56605a", "#8a6a2f"];

const known = Alpine.reactive({
  told: /** @type {Fair | null} */ (null),
  /** As it was before something was tried out. */
  before: /** @type {Fair | null} */ (null),
  moved: /** @type {Record<string, [number, number]>} */ ({}),
  shows: false,
  asks: false,
  words: "",
});
/** Who comes first. @type {import("./posted.js").Posted | null} */
let picture = null;

const walkerOf = () => state.show.walker ?? "person";
/** @param {number} team */
const teamInk = (team) => rows("teams").find((one) => one.number === team)?.colour;
/** @param {{team: number | null}} start @param {number} number */
const inkOf = (start, number) => (start.team ? teamInk(start.team) : null) ?? INKS[number % INKS.length];

async function tell() {
  if (known.asks) return;
  known.asks = true;
  const body = { walker: walkerOf(), moved: { ...known.moved } };
  const told = /** @type {Fair | null} */ (await ask(`${base}/fairness?tract=${state.world.tract}`, "POST", body));
  known.asks = false;
  known.told = told;
  known.words = told ? "" : "There is nothing to be told yet.";
  if (told && known.shows) await paint(told, body);
  drawOverlay();
}

/** @param {Fair} told @param {any} body */
async function paint(told, body) {
  const headers = { "Content-Type": "application/json" };
  const answer = await fetch(`${landApi}/first?${windowOf()}`, { method: "POST", headers, body: JSON.stringify(body) });
  if (!answer.ok) return;
  const inks = told.starts.map((start, number) => {
    const ink = parseInt(inkOf(start, number).slice(1), 16);
    return [ink >> 16, (ink >> 8) & 255, ink & 255];
  });
  // Where two of them meet, the border is drawn full.
  picture = await posted(answer, (first, edge) => (first ? [...inks[first - 1], edge ? 235 : 110] : null));
}

addMark((context) => {
  if (state.stage !== "trial" || state.walking) return;
  if (known.shows && picture) {
    drawPosted(context, picture);
  }
  // What is tried out stands where it would.
  for (const [x, y] of Object.values(known.moved)) {
    const at = screenAt(x, y);
    context.beginPath();
    context.arc(...at, 9, 0, 7);
    context.lineWidth = 4;
    context.strokeStyle = "#faf8f1";
    context.stroke();
    context.lineWidth = 2;
    context.strokeStyle = "#5a1f3d";
    context.stroke();
  }
});

// It follows what is done to the world, as long as it is looked at.
watch(
  () => (known.told && state.stage === "trial" && state.tabs.trial === "fair" ? state.world.revision : 0),
  (revision) => revision && tell(),
);
watch(
  () => state.show.walker,
  () => known.told && tell(),
);

/** What can be tried out elsewhere, by its collection and key. */
const places = () => (known.told?.places ?? []).map((one) => ({ at: `${one.collection}/${one.key}`, name: one.name }));

Alpine.data("fair", () => ({
  get told() {
    return known.told !== null;
  },
  get words() {
    return known.asks ? "Working it out …" : known.words;
  },
  get starts() {
    const { told, before } = known;
    return (told?.starts ?? []).map((one, number) => ({
      key: one.key,
      name: one.name,
      ink: inkOf(one, number),
      score: `${before ? `${before.scores[one.key]?.toFixed(0)} → ` : ""}${told?.scores[one.key].toFixed(0)}`,
      share: `${Math.round((told?.first[one.key] ?? 0) * 100)} %`,
    }));
  },
  get why() {
    return (known.told?.why ?? []).map((one, key) => ({ ...one, key }));
  },
  /** Each place, and how long it takes from each start. */
  get lines() {
    const { told } = known;
    return (told?.places ?? []).map((place, at) => {
      const took = (told?.seconds ?? []).map((row) => row[at]);
      const known_ = took.filter((one) => one !== null && one > 0);
      const least = Math.min(.../** @type {number[]} */ (known_));
      return {
        key: `${place.collection}/${place.key}`,
        name: place.name,
        times: took.map((one, k) => ({
          key: k,
          words: one === null ? "never" : one === 0 ? "–" : clock(one),
          best: one === least,
        })),
      };
    });
  },
  get places() {
    return places();
  },
  get tries() {
    return Object.keys(known.moved).length > 0;
  },
  get shows() {
    return known.shows;
  },
  ask: () => tell(),
  async show() {
    known.shows = !known.shows;
    picture = null;
    if (known.shows) await tell();
    else drawOverlay();
  },
  /** @param {Event} event */
  tryOut(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    const at = field.value;
    field.value = "";
    if (!at) return;
    say("Click where it would stand.", "calm");
    drawOutline("place", ([spot]) => {
      known.before ??= known.told;
      known.moved = { ...known.moved, [at]: /** @type {[number, number]} */ (spot) };
      tell();
    });
  },
  /** Have it all where it was tried out. */
  async putThere() {
    for (const [at, [x, y]] of Object.entries(known.moved))
      if (!(await ask(`${base}/${at}?in=world`, "PATCH", { x, y }))) return;
    this.letGo();
  },
  letGo() {
    Object.assign(known, { moved: {}, before: null });
    tell();
  },
  /** @param {Event} event */
  visit(event) {
    const { x, y } = /** @type {HTMLElement} */ (event.currentTarget).dataset;
    goThere({ x: Number(x), y: Number(y) });
  },
}));
