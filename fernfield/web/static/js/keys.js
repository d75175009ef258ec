// The keys, in one list: what each does, and the page that shows them.
import { goTo, setBrush, take } from "./bench.js";
import { pan, zoomAt, paneSize } from "./plan.js";
import { held } from "./pointer.js";
import { choose, remove } from "./sites.js";
import { endStroke } from "./strokes.js";
import { brush, state, tell } from "./state.js";

const STAGES = ["ground", "cover", "growth", "water", "light", "sites", "trial", "handover"];
const VIEWS = ["plan", "overlook", "both"];
const PAN = 60;

const WORDS = [
  ["1 – 8", "go to a stage"],
  ["letter", "take the tool it is printed on"],
  ["[ ]", "smaller, larger radius"],
  ["Shift [ ]", "harder, softer edge"],
  ["arrows", "move the map"],
  ["+ −", "zoom in, out; 0 shows the whole tract"],
  ["Space drag", "move the map (or the middle button)"],
  ["V", "plan, overlook, both"],
  ["Ctrl Z", "undo; takes back the stroke under way"],
  ["Ctrl Y", "redo"],
  ["Enter", "end the plot or line that is being drawn"],
  ["Del", "delete what is chosen"],
  ["Esc", "let go; take back the stroke under way; back from a walk"],
  ["?", "this list"],
];

export function showKeys() {
  const list = document.getElementById("key-list");
  list.replaceChildren(
    ...WORDS.flatMap(([key, words]) => [
      Object.assign(document.createElement("dt"), { textContent: key }),
      Object.assign(document.createElement("dd"), { textContent: words }),
    ]),
  );
  document.getElementById("keys").showModal();
}

const centre = () => paneSize().map((v) => v / 2);

const ACTIONS = {
  "[": () => setBrush({ radius: (brush()?.radius || 1) / 1.15 }),
  "]": () => setBrush({ radius: (brush()?.radius || 1) * 1.15 }),
  "{": () => setBrush({ softness: (brush()?.softness || 0) - 5 }),
  "}": () => setBrush({ softness: (brush()?.softness || 0) + 5 }),
  ArrowLeft: () => pan(PAN, 0),
  ArrowRight: () => pan(-PAN, 0),
  ArrowUp: () => pan(0, PAN),
  ArrowDown: () => pan(0, -PAN),
  "+": () => zoomAt(1.25, ...centre()),
  "=": () => zoomAt(1.25, ...centre()),
  "-": () => zoomAt(0.8, ...centre()),
  0: () => tell("fit"),
  v: () => tell("view", VIEWS[(VIEWS.indexOf(state.view) + 1) % VIEWS.length]),
  Delete: () => remove(),
  "?": () => showKeys(),
  Escape: () => {
    endStroke(false);
    choose(null);
    tell("escape");
    state.place = null;
    tell("place");
  },
};

document.addEventListener("keydown", (event) => {
  if (state.walking || event.target.closest?.("input, select, textarea, dialog")) return;
  if (event.ctrlKey || event.metaKey) {
    const key = event.key.toLowerCase();
    const turn = key === "z" && !event.shiftKey ? "undo" : key === "y" || (key === "z" && event.shiftKey) ? "redo" : null;
    if (turn) {
      event.preventDefault();
      tell("turn", turn);
    }
    return;
  }
  if (event.altKey) return;
  if (event.key === " ") {
    if (event.target.closest?.("button, a, summary")) return;
    held.space = true;
    event.preventDefault();
    return;
  }
  const digit = Number(event.key);
  if (digit >= 1 && digit <= 8) {
    goTo(STAGES[digit - 1]);
    return;
  }
  const act = ACTIONS[event.key] || (event.key.length === 1 ? ACTIONS[event.key.toLowerCase()] : null);
  const button = document.querySelector(`#bench [data-tool][data-key="${CSS.escape(event.key.toUpperCase())}"]`);
  if (button) take(button.dataset.tool);
  else if (act) act();
  else return;
  event.preventDefault();
});
document.addEventListener("keyup", (event) => {
  if (event.key === " ") held.space = false;
});
