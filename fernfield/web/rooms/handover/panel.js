// When a package is ready, the panel says so: it is fetched again, since the package is no row of the world.
import { fetchPanel } from "/static/js/seen/bench.js";
import { state } from "/static/js/seen/state.js";

document.body.addEventListener("htmx:afterSwap", () => {
  const card = /** @type {HTMLElement | null} */ (document.querySelector("#bench [data-job-kind='handover']"));
  if (state.stage !== "handover" || card?.dataset.jobState !== "done" || card.dataset.seen) return;
  card.dataset.seen = "yes";
  fetchPanel();
});
// What was mended is no longer found.
document.body.addEventListener("fern:mended", () => state.stage === "handover" && fetchPanel());
