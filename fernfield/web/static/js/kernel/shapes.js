// Small things that many scripts draw with.
import { closed, opened } from "./layers.js";

/**
 * A part of an SVG.
 * @param {string} name @param {Record<string, string | number>} [values] @param {string} [words] @param {Element[]} [parts]
 * @returns {SVGElement}
 */
export function svg(name, values = {}, words = "", parts = []) {
  const found = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [key, value] of Object.entries(values)) found.setAttribute(key, String(value));
  if (words) found.textContent = words;
  found.append(...parts);
  return found;
}

/** Words that begin a sentence. @param {string} words */
export const capital = (words) => words.slice(0, 1).toUpperCase() + words.slice(1);

/** An element by its id, which the page has. @param {string} name @returns {any} */
export const id = (name) => document.getElementById(name);

/** The next lower of one, two and five times a power of ten. @param {number} value */
export function roundDown(value) {
  const power = 10 ** Math.floor(Math.log10(value));
  return [5, 2, 1].map((step) => step * power).find((step) => step <= value * (1 + 1e-9)) || power;
}

/** The next higher of them. @param {number} value */
export function roundUp(value) {
  const power = 10 ** Math.floor(Math.log10(value));
  return [1, 2, 5, 10].map((step) => step * power).find((step) => step >= value * (1 - 1e-9)) || power;
}

/** A number with a true minus sign. @param {number} value @param {number} digits */
export const figure = (value, digits) =>
  (Number(value.toFixed(digits)) < 0 ? "−" : "") + Math.abs(value).toFixed(digits);

/** With its sign in any case. @param {number} value */
export const signed = (value) => (value >= 0 ? "+" : "−") + Math.abs(value).toFixed(2);

/** Cut and fill in words; nothing where nothing moved. @param {{cut_m3: number, fill_m3: number}} volumes */
export function volumeWords({ cut_m3, fill_m3 }) {
  return [
    ["cut", cut_m3],
    ["fill", fill_m3],
  ]
    .filter(([, v]) => Number(v) >= 0.5)
    .map(([n, v]) => `${n} ${Math.round(Number(v)).toLocaleString("en")} m³`)
    .join(" · ");
}

/**
 * Follow a pointer from when it goes down until it is let go. `begin` may refuse by giving nothing.
 * @template T
 * @param {Element} surface
 * @param {(event: PointerEvent) => T | null | undefined} begin
 * @param {{move?: (what: T, event: PointerEvent) => void, end?: (what: T, event: PointerEvent, moved: boolean) => void, drop?: (what: T) => void}} hand
 */
export function drag(surface, begin, { move, end, drop }) {
  /** @type {{what: T, x: number, y: number, moved: boolean} | null} */
  let held = null;
  function letGo() {
    if (!held) return;
    const { what } = held;
    held = null;
    closed("drag");
    drop?.(what);
  }
  surface.addEventListener("pointerdown", (found) => {
    const event = /** @type {PointerEvent} */ (found);
    if (event.button !== 0 || held) return;
    const what = begin(event);
    if (what === null || what === undefined) return;
    event.preventDefault();
    if (surface instanceof HTMLElement || surface instanceof SVGElement) surface.focus({ preventScroll: true });
    surface.setPointerCapture(event.pointerId);
    held = { what, x: event.clientX, y: event.clientY, moved: false };
  });
  surface.addEventListener("pointermove", (found) => {
    const event = /** @type {PointerEvent} */ (found);
    if (!held) return;
    if (!held.moved && Math.hypot(event.clientX - held.x, event.clientY - held.y) >= 3) {
      held.moved = true;
      // Escape lets it go where it was.
      if (drop) opened("drag", letGo);
    }
    if (held.moved) move?.(held.what, event);
  });
  surface.addEventListener("pointerup", (found) => {
    if (!held) return;
    const { what, moved } = held;
    held = null;
    closed("drag");
    end?.(what, /** @type {PointerEvent} */ (found), moved);
  });
  surface.addEventListener("pointercancel", letGo);
}

/**
 * Keys that move something on a surface: each press and repetition is a step, and letting go ends them all at once.
 * @param {Element} surface
 * @param {(event: KeyboardEvent) => boolean} step says whether the key was one of its own
 * @param {() => void} end
 */
export function heldKeys(surface, step, end) {
  let held = false;
  const letGo = () => {
    if (held) end();
    held = false;
  };
  surface.addEventListener("keydown", (found) => {
    const event = /** @type {KeyboardEvent} */ (found);
    if (!step(event)) return;
    event.preventDefault();
    event.stopPropagation();
    if (held) return;
    held = true;
    // The surface may be drawn anew under the finger, and the window may go away: either way it is let go once.
    for (const what of ["keyup", "blur"]) window.addEventListener(what, letGo, { once: true });
  });
}
