// When a package is ready, the panel says so: it is fetched again, since the package is no row of the world.
import Alpine from "/static/js/kernel/alpine.js";
import { fetchPanel, goTo } from "/static/js/seen/bench.js";
import { goThere } from "/static/js/seen/hands/cursor.js";
import { seenTracts, state, watch } from "/static/js/seen/state.js";
import "./deliveries.js";

document.body.addEventListener("htmx:afterSwap", () => {
  const card = /** @type {HTMLElement | null} */ (document.querySelector("#bench [data-job-kind='handover']"));
  if (state.stage !== "handover" || card?.dataset.jobState !== "done" || card.dataset.seen) return;
  card.dataset.seen = "yes";
  fetchPanel();
});
// What was mended is no longer found.
document.body.addEventListener("fern:mended", () => state.stage === "handover" && fetchPanel());

// Findings follow the world, but not under somebody's hands: those that are worked with stay until they are left.
const list = () => document.getElementById("findings");
const moved = () => list() && window.htmx.trigger(list(), "fern:moved");
watch(() => state.world.revision, moved);
document.body.addEventListener("focusout", (event) => {
  const inside = (/** @type {EventTarget | null} */ one) => one instanceof Node && list()?.contains(one);
  if (inside(event.target) && !inside(event.relatedTarget)) moved();
});
document.body.addEventListener("htmx:beforeRequest", (event) => {
  const { target } = /** @type {CustomEvent} */ (event).detail;
  if (target.id === "findings" && target.contains(document.activeElement)) event.preventDefault();
});

Alpine.data("findings", () => ({
  /** To the bench on which it is put right. @param {Event} event */
  bench(event) {
    const stage = /** @type {HTMLElement} */ (event.currentTarget).dataset.bench ?? state.stage;
    // The button goes with its panel: the focus stays on what was chosen.
    /** @type {HTMLElement | null} */ (document.querySelector(`.stages [data-stage="${stage}"]`))?.focus();
    goTo(stage);
  },
  /** To the place of a finding, on the map. @param {Event} event */
  visit(event) {
    const { x, y, tract } = /** @type {HTMLElement} */ (event.currentTarget).dataset;
    const own = seenTracts.find((one) => one.id === tract) ?? seenTracts[0];
    goThere({ x: Number(x) + (own?.x ?? 0), y: Number(y) + (own?.y ?? 0) });
  },
}));
