// What is seen from a place: what is hidden lies in the dark, what is seen through crowns half so.
import Alpine from "/static/js/kernel/alpine.js";
import { say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { metresPerPixel, screenAt } from "/static/js/seen/drawn/plan.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { grid, landApi, state, watch } from "/static/js/seen/state.js";
import { drawPosted, posted, stepOf, windowOf } from "./posted.js";

const known = Alpine.reactive({
  at: /** @type {[number, number] | null} */ (null),
  over: 1.65,
  target: 0,
  reach: 400,
  growth: true,
  words: "",
  asks: false,
});
/** @type {import("./posted.js").Posted | null} */
let picture = null;
/** Of what is hidden. */
const DARK = [20, 26, 30];

async function look() {
  if (!known.at || known.asks) return;
  known.asks = true;
  const [x, y] = known.at;
  const asked = `x=${x}&y=${y}&over_m=${known.over}&target_over_m=${known.target}&reach_m=${known.reach}&growth=${known.growth}`;
  const answer = await fetch(`${landApi}/sight?${asked}&${windowOf()}`);
  known.asks = false;
  if (!answer.ok) {
    say((await answer.json()).detail);
    return;
  }
  const step = stepOf() * grid.spacing;
  let [within, seen, through, at] = [0, 0, 0, 0];
  const shape = (answer.headers.get("X-Shape") ?? "0,0").split(",").map(Number);
  picture = await posted(answer, (value) => {
    const [row, col] = [Math.floor(at / shape[1]), at % shape[1]];
    at += 1;
    const far = Math.hypot(grid.west + col * step - x, grid.north - row * step - y);
    if (far > known.reach) return null;
    within += 1;
    if (value === 255) seen += 1;
    else if (value) through += 1;
    return value === 255 ? null : [...DARK, value ? 90 : 165];
  });
  const hectares = (seen * step * step) / 1e4;
  const crowns = through ? `, ${Math.round((100 * through) / within)} % through crowns` : "";
  known.words = `${Math.round((100 * seen) / within)} % of the ground within ${known.reach} m is seen (${hectares.toFixed(1)} ha)${crowns}.`;
  drawOverlay();
}

addMark((context) => {
  if (state.stage !== "trial" || state.walking || !known.at) return;
  if (picture) drawPosted(context, picture);
  const [x, y] = screenAt(...known.at);
  for (const [width, ink] of /** @type {[number, string][]} */ ([
    [4, "#faf8f1"],
    [2, "#5a1f3d"],
  ])) {
    context.lineWidth = width;
    context.strokeStyle = ink;
    context.beginPath();
    context.arc(x, y, 5, 0, 7);
    context.stroke();
    context.beginPath();
    context.arc(x, y, known.reach / metresPerPixel(), 0, 7);
    context.stroke();
  }
});
watch(
  () => (known.at && state.stage === "trial" && state.tabs.trial === "seen" ? state.world.revision : 0),
  (revision) => revision && look(),
);

Alpine.data("sight", () => ({
  get over() {
    return known.over;
  },
  get target() {
    return known.target;
  },
  get reach() {
    return known.reach;
  },
  get growth() {
    return known.growth;
  },
  get words() {
    return known.asks ? "Looking …" : known.words;
  },
  get looks() {
    return known.at !== null;
  },
  /** @param {Event} event */
  set(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    if (!field.checkValidity() || field.value === "") {
      field.reportValidity();
      return;
    }
    if (field.name === "growth") known.growth = field.checked;
    else if (field.name === "over" || field.name === "target" || field.name === "reach")
      known[field.name] = Number(field.value);
    look();
  },
  choose() {
    say("Click where the eye is.", "calm");
    drawOutline("place", ([spot]) => {
      known.at = /** @type {[number, number]} */ (spot);
      look();
    });
  },
  letGo() {
    picture = null;
    Object.assign(known, { at: null, words: "" });
    drawOverlay();
  },
}));
