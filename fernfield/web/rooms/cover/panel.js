// Covers in the area in the hand: what is sent along, and what came of it.
import { sendAlso } from "/static/js/kernel/forms.js";
import { say } from "/static/js/kernel/say.js";
import { heed, state } from "/static/js/seen/state.js";

heed("panel", () => {
  if (state.stage !== "cover") return;
  for (const form of document.querySelectorAll("#bench form[data-area-work]"))
    sendAlso(form, () => {
      const { cover, ...area } = state.area;
      return { ...area, ...(cover ? { covered_by: cover } : {}) };
    });
});
document.body.addEventListener("fern:area-worked", (event) => {
  const { posts, left } = /** @type {CustomEvent} */ (event).detail;
  if (state.stage !== "cover" || posts === undefined) return;
  const flecks = left ? `; ${left.toLocaleString("en")} still show what was to go` : "";
  say(`${posts.toLocaleString("en")} posts changed${flecks}.`, "calm");
});
