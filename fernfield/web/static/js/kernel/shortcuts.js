// The register of shortcuts, as the server has it: what each key does and where. A person may change single letters.
import Alpine from "./alpine.js";
import { cameByKeys, FIELDS } from "./focus.js";
import { actions, boot, state } from "../seen/state.js";

/** @typedef {import("../types.js").Shortcut} Shortcut */

const PLACES = {
  map: "With the focus on the map",
  view: "Anywhere but in a field",
  stage: "The stage",
  outline: "While something is drawn",
  walk: "At eye level",
};
const SHOWN = {
  " ": "Space",
  ArrowLeft: "←",
  ArrowRight: "→",
  ArrowUp: "↑",
  ArrowDown: "↓",
  Escape: "Esc",
  Delete: "Del",
};

/** @param {Shortcut} one */
const idOf = (one) => `${one.stage}/${one.place}/${one.name}`;

/** The keys of a shortcut as a person has set them. @param {Shortcut} one */
function keysOf(one) {
  const own = state.keys[idOf(one)];
  if (one.single && state.keysOff) return one.keys.filter((key) => key.length > 1);
  if (own === undefined || !one.single) return one.keys;
  return own === "" ? [] : [own.toLowerCase(), ...one.keys.filter((key) => key.length > 1)];
}

/** What the browser calls the key that was pressed, as the register writes it. @param {KeyboardEvent} event */
function nameOf(event) {
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  const ctrl = event.ctrlKey || event.metaKey;
  // A sign that is typed with Shift is a key of its own; others are held with it.
  const shift = event.shiftKey && (ctrl || key.length > 1 || key === " ") && key !== "Shift";
  return (ctrl ? "Ctrl+" : "") + (shift ? "Shift+" : "") + key;
}

/** The shortcut that a key means now, in one of these places. @param {KeyboardEvent} event @param {string[]} places @returns {Shortcut | undefined} */
export function meantBy(event, places) {
  if (event.altKey) return undefined;
  const name = nameOf(event);
  const means = (/** @type {string} */ name) =>
    boot.shortcuts.find(
      (one) =>
        places.includes(one.place) &&
        (one.stage === "" || one.stage === state.stage || one.place === "walk") &&
        keysOf(one).includes(name),
    );
  return means(name) ?? (places.includes("walk") ? means(name.replace("Shift+", "")) : undefined);
}

/** Whether keys belong to a field or dialog just now. @param {Event} event */
export const typing = (event) =>
  Boolean(/** @type {Element} */ (event.target).closest?.(`${FIELDS}, .modal, .dropdown-menu`));

/** The field that was written in since it got the focus: there the browser takes back letters. @type {EventTarget | null} */
let written = null;
for (const done of ["focusin", "change"])
  document.addEventListener(done, () => {
    written = null;
  });
document.addEventListener("input", (event) => {
  written = event.target;
});

/** Whether a key writes in a field, or takes back what was written there. @param {KeyboardEvent} event */
function writesOf(event) {
  if (/^F\d+$/.test(event.key)) return false;
  const back = ["Ctrl+z", "Ctrl+y", "Ctrl+Shift+z"].includes(nameOf(event));
  return !back || written === event.target;
}

document.addEventListener("keydown", (event) => {
  if (state.walking || event.defaultPrevented) return;
  // Keys that write nothing mean the same in a field.
  const writes = writesOf(event);
  if (writes ? typing(event) : /** @type {Element} */ (event.target).closest?.(".modal")) return;
  const found = meantBy(event, ["view", "stage"]);
  if (!found) return;
  const target = /** @type {Element} */ (event.target);
  // Space presses the button that has the focus. Whoever comes to one by keys does not mean the map by a letter.
  const on = target.closest?.("button, a, summary, input, [role=slider], [role=tab]");
  if (on && (event.key === " " || ((found.single || event.key === "Delete") && cameByKeys()))) {
    if (found.name !== "keys") return;
  }
  const [sort, what] = found.name.split(":");
  if (what === undefined) actions[found.name]?.();
  else actions[sort]?.(what);
  event.preventDefault();
});

const words = (/** @type {string} */ key) =>
  key
    .split("+")
    .map((part) => SHOWN[/** @type {keyof typeof SHOWN} */ (part)] || (part.length === 1 ? part.toUpperCase() : part))
    .join(" ") || "+";

Alpine.data("keys", () => ({
  get groups() {
    const found = boot.shortcuts.map((one) => ({
      id: idOf(one),
      words: one.words,
      single: one.single,
      title:
        one.stage && one.place === "stage"
          ? `On ${one.stage[0].toUpperCase()}${one.stage.slice(1)}`
          : PLACES[/** @type {keyof typeof PLACES} */ (one.place)],
      now: one.single
        ? (keysOf(one)[0] ?? "").toUpperCase()
        : keysOf(one)
            .map((key) => (key === "+" ? "+" : words(key)))
            .join(" or "),
    }));
    const titles = [...new Set(found.map((one) => one.title))];
    return titles.map((title) => ({ title, keys: found.filter((one) => one.title === title) }));
  },
  /** @param {Event} event */
  change(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    const id = field.dataset.keyOf || "";
    const own = field.value.trim().toLowerCase();
    const mine = boot.shortcuts.find((one) => idOf(one) === id);
    const other =
      own &&
      boot.shortcuts.find(
        (one) =>
          idOf(one) !== id &&
          ["view", "stage"].includes(one.place) &&
          (one.stage === "" || mine?.stage === "" || one.stage === mine?.stage) &&
          keysOf(one).includes(own),
      );
    field.setCustomValidity(other ? `${own.toUpperCase()} means “${other.words}” already.` : "");
    if (!field.reportValidity()) return;
    state.keys = { ...state.keys, [id]: own };
    localStorage.setItem("fern.keys", JSON.stringify(state.keys));
  },
  get off() {
    return state.keysOff;
  },
  turnOff() {
    state.keysOff = !state.keysOff;
    localStorage.setItem("fern.keys-off", state.keysOff ? "yes" : "");
  },
  reset() {
    state.keys = {};
    state.keysOff = false;
    localStorage.removeItem("fern.keys");
    localStorage.removeItem("fern.keys-off");
  },
}));
