// The register of shortcuts, as the server has it: what each key does and where. A person may change single letters.
import Alpine from "./alpine.js";
import { actions, boot, state } from "../seen/state.js";

/** @typedef {import("../types.js").Shortcut} Shortcut */

const PLACES = { view: "The map", stage: "The stage", outline: "While something is drawn", walk: "At eye level" };
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
  if (own === undefined || !one.single) return one.keys;
  return own === "" ? [] : [own.toLowerCase(), ...one.keys.filter((key) => key.length > 1)];
}

/** What the browser calls the key that was pressed, as the register writes it. @param {KeyboardEvent} event */
function nameOf(event) {
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  const held = event.ctrlKey || event.metaKey ? `Ctrl+${event.shiftKey ? "Shift+" : ""}` : "";
  return held + key;
}

/** The shortcut that a key means now, in one of these places. @param {KeyboardEvent} event @param {string[]} places @returns {Shortcut | undefined} */
export function meantBy(event, places) {
  if (event.altKey) return undefined;
  const name = nameOf(event);
  return boot.shortcuts.find(
    (one) =>
      places.includes(one.place) &&
      (one.stage === "" || one.stage === state.stage || one.place === "walk") &&
      keysOf(one).includes(name),
  );
}

/** Whether keys belong to a field or dialog just now. @param {Event} event */
export const typing = (event) =>
  Boolean(
    /** @type {Element} */ (event.target).closest?.(
      "input:not([type=range]):not([type=checkbox]), select, textarea, .modal, .dropdown-menu",
    ),
  );

document.addEventListener("keydown", (event) => {
  if (state.walking || typing(event) || event.defaultPrevented) return;
  const found = meantBy(event, ["view", "stage"]);
  if (!found) return;
  // Space presses the button that has the focus.
  if (event.key === " " && /** @type {Element} */ (event.target).closest?.("button, a, summary")) return;
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
  reset() {
    state.keys = {};
    localStorage.removeItem("fern.keys");
  },
}));
