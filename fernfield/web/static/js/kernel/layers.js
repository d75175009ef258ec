// What is open over the page, in the order in which it was opened: Escape closes the last, and only that.
import { watch } from "./alpine.js";

/** @type {{of: any, close: () => void}[]} */
const open = [];

/** Something was opened. @param {any} of what it is known by @param {() => void} close */
export function opened(of, close) {
  closed(of);
  open.push({ of, close });
}

/** It was closed, whichever way. @param {any} of */
export function closed(of) {
  const at = open.findIndex((one) => one.of === of);
  if (at >= 0) open.splice(at, 1);
}

/** A part of the page's state that counts as open while `is` says so. @param {string} of @param {() => boolean} is @param {() => void} close */
export const layer = (of, is, close) => watch(is, (now) => (now ? opened(of, close) : closed(of)));

// Before anything else hears of it: Bootstrap's own parts close only where the focus is within them.
window.addEventListener(
  "keydown",
  (event) => {
    const last = open.at(-1);
    if (event.key !== "Escape" || event.isComposing || !last) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    open.pop();
    last.close();
  },
  { capture: true },
);

/** @type {[string, (element: Element) => void][]} */
const PARTS = [
  ["dropdown", (element) => window.bootstrap.Dropdown.getInstance(element)?.hide()],
  ["offcanvas", (element) => window.bootstrap.Offcanvas.getInstance(element)?.hide()],
  ["modal", (element) => window.bootstrap.Modal.getInstance(element)?.hide()],
];
/** On a narrow screen the map comes out from under its drawers. */
export function closeDrawers() {
  for (const drawer of document.querySelectorAll(".offcanvas-lg.show"))
    window.bootstrap.Offcanvas.getInstance(drawer)?.hide();
}

for (const [sort, hide] of PARTS) {
  // From its first moment on: whoever presses Escape while it still comes in means it.
  document.addEventListener(`show.bs.${sort}`, (event) => {
    const element = /** @type {HTMLElement} */ (event.target);
    opened(element, () => hide(element));
  });
  document.addEventListener(`shown.bs.${sort}`, (event) => {
    const element = /** @type {HTMLElement} */ (event.target);
    // A sheet beside the map takes the focus, though it holds nothing back.
    if (sort === "offcanvas" && !element.contains(document.activeElement)) element.focus();
    // What lies beside it can be used: it is no modal dialog, whatever Bootstrap says of each.
    if (element.dataset.bsBackdrop === "false") element.removeAttribute("aria-modal");
  });
  document.addEventListener(`hidden.bs.${sort}`, (event) => closed(event.target));
}
