// The map's own menu: what can be done at this spot.
import { on, state, tell } from "./state.js";

const menu = document.getElementById("menu");

const ENTRIES = [
  ["Trial: walk from here", (spot) => tell("walk", spot)],
  ["Place a start here", (spot) => tell("place-start", spot)],
  ["Flatten to this elevation", (spot) => tell("take-here", spot)],
  ["Remember this elevation", (spot) => tell("level-here", spot)],
  ["Stand a person here", (spot) => tell("figure", { sort: "person", ...spot })],
  ["Stand a vehicle here", (spot) => tell("figure", { sort: "vehicle", ...spot })],
  ["Take people and vehicles away", () => tell("figure", null)],
  ["Sea level to this elevation", (spot) => tell("sea-here", spot)],
  ["Show the whole tract", () => tell("fit")],
];

/** Open the menu at a place of the window for a spot of the land. */
export function openMenu(clientX, clientY, spot) {
  if (!spot || state.walking) return;
  menu.replaceChildren(
    ...ENTRIES.map(([words, act]) => {
      const button = document.createElement("button");
      button.type = "button";
      button.setAttribute("role", "menuitem");
      button.textContent = words;
      button.addEventListener("click", () => {
        close();
        act(spot);
      });
      return button;
    }),
  );
  menu.hidden = false;
  const box = menu.parentElement.getBoundingClientRect();
  menu.style.left = `${Math.min(clientX - box.left, box.width - menu.offsetWidth - 4)}px`;
  menu.style.top = `${Math.min(clientY - box.top, box.height - menu.offsetHeight - 4)}px`;
  menu.firstElementChild.focus();
}

export function close() {
  menu.hidden = true;
}

document.addEventListener("pointerdown", (event) => {
  if (!menu.hidden && !event.target.closest("#menu")) close();
});
menu.addEventListener("keydown", (event) => {
  event.stopPropagation();
  if (event.key === "Escape") close();
  const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
  if (!step) return;
  const all = [...menu.children];
  all[(all.indexOf(document.activeElement) + step + all.length) % all.length].focus();
});
on("stage", close);
