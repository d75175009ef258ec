// Sites: what is placed from the kit or pinned to a place, chosen, moved, turned and deleted.
import Alpine from "/static/js/kernel/alpine.js";
import { sendAlso } from "/static/js/kernel/forms.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { addPlaced, choose, removeChosen } from "/static/js/seen/hands/placed.js";
import { addMark, inView, name } from "/static/js/seen/drawn/overlay.js";
import { addDrawn } from "/static/js/seen/drawn/placed3d.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { each } from "/static/js/seen/rows.js";
import { heed, state } from "/static/js/seen/state.js";

addPlaced({
  stage: "sites",
  name: "things",
  form: "chosen",
  turns: true,
  make: (what) =>
    what === "note" ? null : { sort: what === "start" ? "start" : "piece", kit: what === "start" ? null : what },
});
addPlaced({ stage: "sites", name: "notes", form: "note", make: (what) => (what === "note" ? { text: "Note" } : null) });

addDrawn("things", (thing) =>
  thing.kit ? `/api/kit/${thing.kit}/shape` : `/api/kit/start/shape?team=${thing.team ?? 0}`,
);

// Notes on the plan: a pin in its colour, open at the top once it is done, with its first line.
addMark((context) => {
  if (state.stage !== "sites") return;
  for (const note of each("notes")) {
    if (!inView(note)) continue;
    const [x, y] = screenAt(note.x, note.y);
    context.beginPath();
    context.moveTo(x, y);
    context.lineTo(x, y - 12);
    context.moveTo(x + 5, y - 17);
    context.arc(x, y - 17, 5, 0, 7);
    context.lineWidth = `notes/${note.key}` === state.chosen ? 3 : 1.6;
    context.strokeStyle = note.colour;
    context.fillStyle = note.done ? "#faf8f1" : note.colour;
    context.fill();
    context.stroke();
    name(note.text.split("\n")[0].slice(0, 40), x + 9, y - 13);
  }
});

Alpine.data("sites", () => ({
  get chosen() {
    return chosenOf("things");
  },
  get note() {
    return chosenOf("notes");
  },
  /** @param {Event} event */
  chooseNote(event) {
    choose("notes", /** @type {HTMLElement} */ (event.currentTarget).dataset.note || null);
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
  chosenForm(/** @type {HTMLFormElement} */ (document.getElementById("note")), "notes");
  sendAlso(form, () => (chosenOf("things")?.sort === "start" ? {} : { default: false }));
});
