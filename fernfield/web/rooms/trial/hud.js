// What is seen and done while walking: who walks, a small map with the walked line, notes, a measure.
import { ask, say } from "/static/js/kernel/say.js";
import { tell } from "/static/js/kernel/tell.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { grid, landApi, state } from "/static/js/seen/state.js";

const hud = /** @type {HTMLElement} */ (document.getElementById("hud"));
const map = /** @type {HTMLCanvasElement} */ (document.getElementById("small-map"));
const pane = /** @type {HTMLElement} */ (document.getElementById("look"));
const WINDS = ["N", "NE", "E", "SE", "S", "SW", "W", "NW"];
/** So far apart are the places of the walked line, and so many are kept. [m] */
const EVERY_M = 0.5;
const MOST_PLACES = 20_000;
/** The small map shows so many metres about the walker. */
const AROUND_M = 110;
const TILE = 256;

/** The line of the walk under way, or of the last one, in metres. @type {[number, number][]} */
export let trail = [];
/** @type {any} */
let last = null;
/** What is measured between. @type {{x: number, y: number, z: number}[]} */
let ends = [];

const field = (/** @type {string} */ name) => /** @type {HTMLElement} */ (hud.querySelector(`[data-hud="${name}"]`));
export const clock = (/** @type {number} */ seconds) =>
  `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
const signed = (/** @type {number} */ value, /** @type {number} */ digits) => value.toFixed(digits).replace("-", "−");
/** Words of a figure that changed. @param {string} name @param {string} words */
function put(name, words) {
  const at = field(name);
  if (at.textContent !== words) at.textContent = words;
}

const round = /** @type {HTMLElement} */ (document.getElementById("round-told"));
const ofRound = (/** @type {string} */ name) =>
  /** @type {HTMLElement} */ (round.querySelector(`[data-round="${name}"]`));
const MOST_SAID = 6;
/** The light that was looked at before the round changed it. @type {string | null | undefined} */
let moodBefore;

/** @param {any} told @param {string[]} happened */
function tellRound(told, happened) {
  round.hidden = false;
  const won = told.won === null ? "nobody has won" : `team ${told.won} has won`;
  const bag = Object.entries(told.bag).map(([of, amount]) => `${amount} ${of}`);
  ofRound("head").textContent = [
    told.over ? `The round is over, ${won}` : `Round ${clock(told.seconds)}`,
    `team ${told.team}`,
    ...bag,
  ].join(" · ");
  ofRound("aims").replaceChildren(
    ...told.aims.map((/** @type {any} */ aim) => {
      const line = document.createElement("li");
      const whose = aim.done.length
        ? `done by ${aim.done.join(", ")}`
        : aim.owner
          ? `of team ${aim.owner}`
          : "nobody's";
      line.textContent = `${aim.name}: ${aim.share ? `${Math.round(aim.share * 100)} %` : whose}`;
      return line;
    }),
  );
  const said = ofRound("said");
  for (const words of happened) {
    const line = document.createElement("p");
    line.textContent = words;
    said.append(line);
  }
  while (said.children.length > MOST_SAID) said.firstElementChild?.remove();
  if (told.gone.join() !== state.gone.join()) state.gone = told.gone;
  if (told.mood && told.mood !== state.mood) {
    if (moodBefore === undefined) moodBefore = state.mood;
    state.mood = told.mood;
  }
}

/** Nothing of a round stays. */
function roundOver() {
  round.hidden = true;
  ofRound("said").replaceChildren();
  if (state.gone.length) state.gone = [];
  if (moodBefore !== undefined) state.mood = moodBefore;
  moodBefore = undefined;
}

export function begun() {
  roundOver();
  trail = [];
  ends = [];
  last = null;
  hud.hidden = false;
  map.hidden = false;
}
export function over() {
  hud.hidden = true;
  map.hidden = true;
  roundOver();
  state.walkers = [];
  drawOverlay();
}
/** The facts of a walk that is over. */
export const lastWalk = () => (last && trail.length > 1 ? { seconds: last.seconds, far: last.far } : null);

/** @param {any} now what the server says of the walker */
export function heard(now) {
  last = now;
  const end = trail[trail.length - 1];
  if ((!end || Math.hypot(now.x - end[0], now.y - end[1]) >= EVERY_M) && trail.length < MOST_PLACES)
    trail.push([now.x, now.y]);
  put("who", now.crouches ? `${now.who}, crouching` : now.who);
  put("walked", `${clock(now.seconds)} · ${now.far.toFixed(0)} m`);
  put("heading", `${WINDS[Math.round(now.facing / 45) % 8]} ${now.facing.toFixed(0)}°`);
  put("z", `${signed(now.z, 2)} m`);
  put("speed", `${now.speed.toFixed(1)} m/s`);
  put("slope", `${signed(now.slope, 0)}°`);
  const wet = now.water > 0.05 ? `in water ${now.water.toFixed(1)} m deep` : "";
  put("blocked", now.blocked ? `stopped by ${now.blocked}` : now.air ? "in the air" : wet);
  if (now.round) tellRound(now.round, now.happened);
  drawMap();
}

// The small map: the plan's own tiles, north up, the walker in the middle.

/** @type {Map<string, HTMLImageElement>} */
const pictures = new Map();
let drawnAt = "";
let drawnWhen = 0;
/** It is drawn so often at most. [ms] */
const MAP_EVERY = 150;
/** @param {number} level @param {number} row @param {number} col */
function tile(level, row, col) {
  const key = `${level}/${row}/${col}`;
  let image = pictures.get(key);
  if (!image) {
    image = new Image();
    image.addEventListener("load", () => {
      drawnAt = "";
    });
    image.src = `${landApi}/plan/${key}.webp?contour_m=0`;
    if (pictures.size > 24) pictures.clear();
    pictures.set(key, image);
  }
  return image.complete && image.naturalWidth ? image : null;
}

function drawMap() {
  const context = map.getContext("2d");
  if (!context || !last) return;
  const now = [last.x.toFixed(1), last.y.toFixed(1), last.facing.toFixed(0), trail.length].join();
  if (now === drawnAt || performance.now() - drawnWhen < MAP_EVERY) return;
  drawnAt = now;
  drawnWhen = performance.now();
  const side = map.width;
  const perPixel = (2 * AROUND_M) / side;
  const level = Math.max(0, Math.ceil(Math.log2(perPixel / grid.spacing)));
  const scale = (grid.spacing * 2 ** level) / perPixel;
  const at = (/** @type {number} */ x, /** @type {number} */ y) =>
    /** @type {[number, number]} */ ([side / 2 + (x - last.x) / perPixel, side / 2 - (y - last.y) / perPixel]);
  context.fillStyle = "#d7d3c4";
  context.fillRect(0, 0, side, side);
  const posts = TILE * 2 ** level;
  const first = [(grid.north - last.y - AROUND_M) / grid.spacing, (last.x - AROUND_M - grid.west) / grid.spacing];
  const end = first.map((one) => one + (2 * AROUND_M) / grid.spacing);
  for (let row = Math.max(0, Math.floor(first[0] / posts)); row * posts <= Math.min(end[0], grid.rows - 1); row += 1)
    for (
      let col = Math.max(0, Math.floor(first[1] / posts));
      col * posts <= Math.min(end[1], grid.cols - 1);
      col += 1
    ) {
      const image = tile(level, row, col);
      const [x, y] = at(grid.west + col * posts * grid.spacing, grid.north - row * posts * grid.spacing);
      if (image) context.drawImage(image, x, y, image.naturalWidth * scale, image.naturalHeight * scale);
    }
  context.lineWidth = 2;
  context.strokeStyle = "#5a1f3d";
  context.beginPath();
  for (const [x, y] of trail) context.lineTo(...at(x, y));
  context.stroke();
  for (const one of last.others) {
    context.fillStyle = "#27637f";
    context.beginPath();
    context.arc(...at(one.x, one.y), 4, 0, 7);
    context.fill();
  }
  const turn = (last.facing * Math.PI) / 180;
  context.fillStyle = "#a2431f";
  context.strokeStyle = "#faf8f1";
  context.lineWidth = 1.5;
  context.beginPath();
  for (const [bearing, far] of [
    [0, 10],
    [2.5, 7],
    [-2.5, 7],
  ])
    context.lineTo(side / 2 + Math.sin(turn + bearing) * far, side / 2 - Math.cos(turn + bearing) * far);
  context.closePath();
  context.fill();
  context.stroke();
}

// The walked line stays on the plan until the next walk.
addMark((context) => {
  if (state.stage !== "trial" || trail.length < 2 || state.walking) return;
  context.strokeStyle = "#5a1f3d";
  context.lineWidth = 2;
  context.setLineDash([6, 4]);
  context.beginPath();
  for (const [x, y] of trail) context.lineTo(...screenAt(x, y));
  context.stroke();
  context.setLineDash([]);
});

// What is done on the way

/** @param {string} text */
async function note(text) {
  if (!last) return;
  const { x, y, facing } = last;
  const body = { text, x: Number(x.toFixed(2)), y: Number(y.toFixed(2)), facing: ((facing % 360) + 360) % 360 };
  if (await ask(`/api/worlds/${state.world.id}/notes?in=world`, "POST", body)) {
    say(`Noted here: ${text}`, "calm");
    tell("A note is pinned here.");
  }
}

function measure() {
  const { spotUnder, parts } = window.fern.overlook;
  const spot = spotUnder(pane.clientWidth / 2, pane.clientHeight / 2);
  if (!spot) {
    say("Nothing to be measured there: look at the ground.", "calm");
    return;
  }
  ends = [...(ends.length === 2 ? [] : ends), { ...spot, z: parts.land.heightAt(spot.x, spot.y) ?? 0 }];
  if (ends.length === 1) {
    say("Measured from here: look at the other end and press M again.", "calm");
    return;
  }
  const [a, b] = ends;
  const run = Math.hypot(b.x - a.x, b.y - a.y);
  const steep = (Math.atan2(b.z - a.z, run) * 180) / Math.PI;
  const words = `${Math.hypot(run, b.z - a.z).toFixed(2)} m, ${signed(b.z - a.z, 2)} m up, ${signed(steep, 1)}°`;
  say(words, "calm");
  tell(words);
}
/** What stands where it is measured from and to. */
export const measured = () => ends.map(({ x, y }) => ({ sort: "white ball", x, y, size: 0.3 }));

/** @type {Record<string, () => void>} */
export const ACTS = {
  "walk-note": () => note(`Seen on a walk (${last?.who ?? "somebody"})`),
  "walk-catches": () => note(`It catches here: ${last?.blocked || "said while walking"}`),
  "walk-measure": measure,
};
