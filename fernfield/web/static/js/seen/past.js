// Looking at an earlier revision without leaving the present, and bringing ground back from it.
import { ask, say } from "../kernel/say.js";
import { rows } from "./rows.js";
import { landApi, showAnew, state } from "./state.js";

const banner = /** @type {HTMLElement} */ (document.getElementById("past"));
const part = (/** @type {string} */ name) => /** @type {any} */ (banner.querySelector(`[data-past="${name}"]`));

/** Look at a revision, or with null at the present again. @param {number | null} number */
export function lookAt(number) {
  state.past = number;
  banner.hidden = number === null;
  if (number !== null) {
    part("words").textContent = `You look at r${number}`;
    part("plot").replaceChildren(
      ...[["", "the whole tract"], ...rows("plots").map((plot) => [plot.key, plot.name])].map(
        ([value, words]) => new Option(words, value),
      ),
    );
  }
  showAnew();
}

part("leave").addEventListener("click", () => lookAt(null));
part("bring").addEventListener("click", async () => {
  /** @type {Record<string, any>} */
  const body = { to: "revision", revision: state.past };
  if (part("plot").value) body.plot = part("plot").value;
  if (state.sheet) body.sheet = state.sheet;
  const done = await ask(`${landApi}/reset`, "POST", body);
  if (!done) return;
  lookAt(null);
  say(
    done.window[2] > done.window[0]
      ? `The ground is back, as r${done.revision}.`
      : "That ground is the same now as then.",
    "calm",
  );
});

// The logbook's buttons

const sheet = /** @type {HTMLElement} */ (document.getElementById("logbook-sheet"));
sheet.addEventListener("click", (event) => {
  const button = /** @type {HTMLElement | null} */ (/** @type {Element} */ (event.target).closest("[data-look]"));
  if (button) lookAt(Number(button.dataset.look));
});
