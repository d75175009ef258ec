// A flood that is tried: rain on the land, or so much from a spring; where it stands is shown over the plan.
import Alpine from "/static/js/kernel/alpine.js";
import { say } from "/static/js/kernel/say.js";
import { clearWash, showWash } from "/static/js/seen/drawn/wash.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { grid, state, watch } from "/static/js/seen/state.js";

const open = Alpine.reactive({ told: "" });
const number = (/** @type {string} */ name) => {
  const field = /** @type {HTMLInputElement} */ (document.getElementById(name));
  return field.reportValidity() ? Number(field.value) : null;
};
const whole = (/** @type {number} */ value) => value.toLocaleString("en", { maximumFractionDigits: 0 });

/** @param {string} query */
async function run(query) {
  const answer = await showWash(`flood?${query}`, [0, 0, grid.rows, grid.cols]);
  if (!answer) return;
  if (!answer.ok) {
    const told = await answer.json();
    say(told.errors?.map((/** @type {{message: string}} */ one) => one.message).join("; ") || told.detail);
    return;
  }
  const told = JSON.parse(answer.headers.get("X-Flood") || "{}");
  open.told = `${whole(told.stands_m3)} m³ stand on ${whole(told.area_m2)} m², ${told.deepest_m.toFixed(2)} m deep at most; ${whole(told.runs_off_m3)} m³ run off the land.`;
}
function dry() {
  open.told = "";
  clearWash();
}
// What was tried was tried on the ground as it was, and is of this stage.
watch(
  () => [state.world.revision, state.stage, state.tabs.water],
  () => open.told && dry(),
);

Alpine.data("flood", () => ({
  get told() {
    return open.told;
  },
  rain() {
    const rain = number("flood-rain");
    if (rain !== null) run(`rain_mm=${rain}`);
  },
  spring() {
    const volume = number("flood-volume");
    if (volume !== null) drawOutline("place", ([[x, y]]) => run(`x=${x}&y=${y}&volume_m3=${volume}`));
  },
  dry,
}));
