// The first steps: five small things on the real land, each done by doing it. They can be left and taken up again.
import Alpine from "../../kernel/alpine.js";
import { tell } from "../../kernel/tell.js";
import { hears } from "../live.js";
import { state, watch } from "../state.js";

/** In the browser: how many steps are done, or "left". */
const KEY = "fern.first";

/** @type {{title: string, words: string}[]} */
const STEPS = [
  {
    title: "Raise the ground",
    words:
      "On Ground, with Raise in the hand, hold the left button on the map and move. A finger does the same; so do Space and the arrows, with the focus on the map.",
  },
  {
    title: "Look at it",
    words:
      "Choose Overlook above the map, or press V. Turn it with Shift and a drag, with the keys comma and full stop, or with two fingers.",
  },
  { title: "Take it back", words: "Press Undo, or Ctrl Z. Nothing is ever lost: Redo brings it back." },
  {
    title: "Lay a cover on",
    words: "Go to Cover, choose one in the list, and paint it over the land. The right button takes it away.",
  },
  {
    title: "Walk on it",
    words: "Go to Trial and walk from the start, or click the map to begin there. Esc brings you back.",
  },
];

const kept = localStorage.getItem(KEY);
const known = Alpine.reactive({ step: kept === "left" ? STEPS.length : Number(kept || 0), shown: kept !== "left" });
known.shown = known.step < STEPS.length;

/** @param {number} step */
function put(step) {
  known.step = step;
  localStorage.setItem(KEY, step < STEPS.length ? String(step) : "left");
  if (!known.shown) return;
  if (step < STEPS.length) tell(`Done. Next: ${STEPS[step].title}. ${STEPS[step].words}`);
  else tell("That was all. F1 helps with whatever has the focus.");
}
/** A step was done. @param {number} step */
const done = (step) => known.shown && known.step === step && put(step + 1);

let last = "";
watch(
  () => state.drawing,
  (name) => {
    if (name) last = state.stage;
  },
);
hears("ended", () => {
  if (last === "ground") done(0);
  if (last === "cover") done(3);
});
watch(
  () => `${state.view} ${JSON.stringify(state.camera)}`,
  () => state.view !== "plan" && state.view !== "eye" && done(1),
);
watch(
  () => state.can_redo,
  (can) => can && done(2),
);
watch(
  () => state.walking,
  (walks) => walks && done(4),
);

Alpine.data("first", () => ({
  get shown() {
    return known.shown;
  },
  get over() {
    return known.step >= STEPS.length;
  },
  get title() {
    return this.over ? "That was all" : STEPS[known.step].title;
  },
  get words() {
    return this.over
      ? "The land is yours. F1 helps with whatever has the focus, ? lists all keys, and the manual is in the world's menu."
      : STEPS[known.step].words;
  },
  get count() {
    return this.over ? "" : `${known.step + 1} of ${STEPS.length}`;
  },
  leave() {
    localStorage.setItem(KEY, "left");
    known.shown = false;
  },
  skip: () => put(known.step + 1),
}));
document.querySelector("[data-first-walk]")?.addEventListener("click", () => {
  known.shown = true;
  put(0);
});
