// Sites: what is placed from the kit, chosen, moved, turned and deleted.
import Alpine from "/static/js/kernel/alpine.js";
import { sendAlso } from "/static/js/kernel/forms.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { addPlaced, choose, removeChosen } from "/static/js/seen/placed.js";
import { heed, state } from "/static/js/seen/state.js";

addPlaced({
  stage: "sites",
  name: "things",
  form: "chosen",
  turns: true,
  make: (what) => ({ sort: what === "start" ? "start" : "piece", kit: what === "start" ? null : what }),
});

Alpine.data("sites", () => ({
  get chosen() {
    return chosenOf("things");
  },
  letGo: () => choose("things", null),
  remove: removeChosen,
  /** @param {Event} event */
  choose(event) {
    choose("things", /** @type {HTMLElement} */ (event.currentTarget).dataset.thing || null);
  },
  /** @param {Event} event */
  take(event) {
    const name = /** @type {HTMLElement} */ (event.currentTarget).dataset.place || null;
    state.place = state.place === name ? null : name;
  },
}));

heed("panel", () => {
  const form = /** @type {HTMLFormElement | null} */ (document.getElementById("chosen"));
  if (!form || state.stage !== "sites") return;
  chosenForm(form, "things");
  sendAlso(form, () => (chosenOf("things")?.sort === "start" ? {} : { default: false }));
});
