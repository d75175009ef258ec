// The map's own menu: what can be done at this spot. Bootstrap's dropdown, opened where the pointer is.
import { id } from "../../kernel/shapes.js";
import { actions, state, watch } from "../state.js";

const list = id("menu");
const toggle = id("map-menu-toggle");

/** @type {[string, string, any][]} words, action, what it is told besides the spot */
const ENTRIES = [
  ["Trial: walk from here", "walk", {}],
  ["Place a start here", "place-start", {}],
  ["Flatten to this elevation", "take-here", {}],
  ["Remember this elevation", "level-here", {}],
  ["Stand a person here", "figure", { sort: "person" }],
  ["Stand a vehicle here", "figure", { sort: "vehicle" }],
  ["Take people and vehicles away", "figure-none", {}],
  ["Sea level to this elevation", "sea-here", {}],
  ["Show the whole tract", "fit", {}],
];

/** @type {any} */
let shown = null;
/** Open the menu at a place of the window for a spot of the land. @param {number} x @param {number} y @param {{x: number, y: number} | null} spot */
export function openMenu(x, y, spot) {
  if (!spot || state.walking) return;
  close();
  list.replaceChildren(
    ...ENTRIES.map(([words, name, also]) => {
      const item = document.createElement("li");
      const button = Object.assign(document.createElement("button"), {
        type: "button",
        className: "dropdown-item",
        textContent: words,
      });
      button.addEventListener("click", () => actions[name]({ ...spot, ...also }));
      item.append(button);
      return item;
    }),
  );
  const at = new DOMRect(x, y, 0, 0);
  shown = new window.bootstrap.Dropdown(toggle, {
    reference: { getBoundingClientRect: () => at },
    popperConfig: {
      strategy: "fixed",
      // On a low screen it moves up until all of it is in reach.
      modifiers: [{ name: "preventOverflow", options: { altAxis: true, padding: 6 } }],
    },
  });
  shown.show();
  list.querySelector("button")?.focus();
}

export function close() {
  shown?.hide();
  shown?.dispose();
  shown = null;
}
watch(() => state.stage, close);
