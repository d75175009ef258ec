// Looking at an earlier revision without leaving the present, and bringing ground back from it.
import { ask, say } from "./say.js";
import { on, state, tell } from "./state.js";

const banner = document.getElementById("past");
const part = (name) => /** @type {any} */ (banner.querySelector(`[data-past="${name}"]`));

/** Look at a revision, or with null at the present again. @param {number | null} number */
export function lookAt(number) {
  state.past = number;
  banner.hidden = number === null;
  if (number !== null) {
    part("words").textContent = `You look at r${number}`;
    part("plot").replaceChildren(
      ...[["", "the whole tract"], ...state.world.plots.map((plot) => [plot.key, plot.name])].map(([value, words]) => new Option(words, value)),
    );
  }
  tell("show");
  tell("past");
}

part("leave").addEventListener("click", () => lookAt(null));
part("bring").addEventListener("click", async () => {
  const body = { to: "revision", revision: state.past };
  if (part("plot").value) body.plot = part("plot").value;
  if (state.sheet) body.sheet = state.sheet;
  const done = await ask(`/api/tracts/${state.world.tract}/reset`, "POST", body);
  if (!done) return;
  lookAt(null);
  say(done.window[2] > done.window[0] ? `The ground is back, as r${done.revision}.` : "That ground is the same now as then.", "calm");
});
on("escape", () => state.past !== null && lookAt(null));

// The logbook's buttons

const sheet = document.getElementById("logbook-sheet");
sheet.addEventListener("click", (event) => {
  const button = event.target.closest("[data-look]");
  if (button) lookAt(Number(button.dataset.look));
});
sheet.addEventListener("submit", async (event) => {
  const form = event.target.closest("[data-keepsake]");
  if (!form) return;
  event.preventDefault();
  const name = form.elements.name.value.trim() || null;
  const done = await ask(`/api/worlds/${state.world.id}/revisions/${form.dataset.keepsake}/keepsake`, "PUT", { name });
  if (done) tell("keepsake");
});
