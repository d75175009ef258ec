// Is it fair: what each start comes to, what ground it comes to first, and what would be if something stood elsewhere.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { screenAt, screenOf } from "/static/js/seen/drawn/plan.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { goThere } from "/static/js/seen/hands/cursor.js";
import { rows } from "/static/js/seen/rows.js";
import { grid, landApi, state, watch } from "/static/js/seen/state.js";
import { clock } from "./hud.js";

/** @typedef {import("/static/js/api.js").components["schemas"]["FairTold"]} Fair */

const base = `/api/worlds/${state.world.id}`;
/** What stands for starts that no team has. */
const INKS = ["#a2431f", "#27637f", "#7a5b00", "#5a1f3d", "#2c6647", "#5b4a86", "#56605a", "#8a6a2f"];
/** Every so-manieth post of the picture of who comes first: at most so many a side. */
const MOST_SIDE = 256;

const known = Alpine.reactive({
  told: /** @type {Fair | null} */ (null),
  /** As it was before something was tried out. */
  before: /** @type {Fair | null} */ (null),
  moved: /** @type {Record<string, [number, number]>} */ ({}),
  shows: false,
  asks: false,
  words: "",
});
/** Who comes first, as a picture, and how many posts a pixel is. @type {{image: HTMLCanvasElement, step: number} | null} */
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
  const step = Math.max(1, Math.ceil(Math.max(grid.rows, grid.cols) / MOST_SIDE));
  const window = `row0=0&col0=0&row1=${grid.rows}&col1=${grid.cols}&step=${step}`;
  const headers = { "Content-Type": "application/json" };
  const answer = await fetch(`${landApi}/first?${window}`, { method: "POST", headers, body: JSON.stringify(body) });
  if (!answer.ok) return;
  const [tall, wide] = (answer.headers.get("X-Shape") ?? "0,0").split(",").map(Number);
  const posts = new Uint8Array(await answer.arrayBuffer());
  const image = document.createElement("canvas");
  Object.assign(image, { width: wide, height: tall });
  const context = /** @type {CanvasRenderingContext2D} */ (image.getContext("2d"));
  const data = context.createImageData(wide, tall);
  const inks = told.starts.map((start, number) => {
    const ink = parseInt(inkOf(start, number).slice(1), 16);
    return [ink >> 16, (ink >> 8) & 255, ink & 255];
  });
  posts.forEach((first, at) => {
    if (!first) return;
    // Where two of them meet, the border is drawn full.
    const edge = (at % wide && posts[at - 1] !== first) || (at >= wide && posts[at - wide] !== first);
    data.data.set([...inks[first - 1], edge ? 235 : 110], at * 4);
  });
  context.putImageData(data, 0, 0);
  picture = { image, step };
}

addMark((context) => {
  if (state.stage !== "trial" || state.walking) return;
  if (known.shows && picture) {
    const [x0, y0] = screenOf(-0.5 * picture.step, -0.5 * picture.step);
    const [x1, y1] = screenOf((picture.image.width - 0.5) * picture.step, (picture.image.height - 0.5) * picture.step);
    context.imageSmoothingEnabled = false;
    context.drawImage(picture.image, x0, y0, x1 - x0, y1 - y0);
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

/** What can be tried out elsewhere, and where it is kept. */
const places = () => [
  ...(known.told?.starts ?? []).map((one) => ({ key: one.key, name: one.name, of: "things" })),
  ...(known.told?.places ?? [])
    .filter((one) => one.of !== "start")
    .map((one) => ({ key: one.key, name: one.name, of: one.of === "objective" ? "objectives" : "resources" })),
];

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
        key: `${place.of}/${place.key}`,
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
    const key = field.value;
    field.value = "";
    if (!key) return;
    say("Click where it would stand.", "calm");
    drawOutline("place", ([spot]) => {
      known.before ??= known.told;
      known.moved = { ...known.moved, [key]: /** @type {[number, number]} */ (spot) };
      tell();
    });
  },
  /** Have it all where it was tried out. */
  async putThere() {
    const those = places();
    for (const [key, [x, y]] of Object.entries(known.moved)) {
      const one = those.find((place) => place.key === key);
      if (one && !(await ask(`${base}/${one.of}/${key}?in=world`, "PATCH", { x, y }))) return;
    }
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
