// The focus is never lost: where what had it goes away, it goes to what took its place, else to what stands next to it.

/** Whatever may have the focus. */
const MAY =
  "a[href], button:not(:disabled), input:not(:disabled):not([type=hidden]), select:not(:disabled), textarea:not(:disabled), [tabindex]:not([tabindex='-1'])";

/** What had the focus last, and where it stood. @type {{element: Element, marks: string, line: Element[], at: number} | null} */
let last = null;
/** Whether the focus is moved by keys: until a pointer is pressed. */
let came = false;
export const cameByKeys = () => came;
/** @param {boolean} now */
function comes(now) {
  came = now;
  // The map takes the focus by a press too, and shows it only to whoever moves it by keys.
  document.documentElement.toggleAttribute("data-by-keys", now);
}
/** Set while a press beside everything lets the focus go on purpose. */
let letGo = false;

/** @param {Element} element */
const seen = (element) => element.getClientRects().length > 0;
/** @param {Element} element */
const able = (element) => element.matches(MAY) && seen(element);

/** A selector by which what takes an element's place is known again. @param {Element} element */
function marksOf(element) {
  if (element.id) return `#${CSS.escape(element.id)}`;
  const marks = [...element.attributes]
    .filter((one) => one.name.startsWith("data-") || one.name === "name" || one.name === "href")
    .filter((one) => !one.name.startsWith("data-bs-"))
    .map((one) => `[${one.name}="${CSS.escape(one.value)}"]`);
  if (!marks.length) return "";
  const form = element.closest("form[id]");
  return `${form ? `#${CSS.escape(form.id)} ` : ""}${element.tagName.toLowerCase()}${marks.join("")}`;
}

/** What can have the focus around an element, and which of it this is. @param {Element} element @param {Element} around */
const placeIn = (element, around) => [...around.querySelectorAll(MAY)].indexOf(element);

document.addEventListener("focusin", (event) => {
  const element = /** @type {Element} */ (event.target);
  const line = [];
  for (let at = element.parentElement; at && at !== document.body; at = at.parentElement) line.push(at);
  last = { element, marks: marksOf(element), line, at: line.length ? placeIn(element, line[0]) : 0 };
});
document.addEventListener("pointerdown", () => {
  letGo = true;
  comes(false);
});
document.addEventListener("keydown", (event) => {
  letGo = false;
  if (event.key === "Tab") comes(true);
});

/** Give the focus to what took the place of what had it, or to its neighbour. */
function restore() {
  if (!last || document.activeElement !== document.body || !document.hasFocus()) return;
  if (last.element.isConnected && able(last.element) && letGo) return;
  back(last);
}

/** Where the focus is now: what is given brings it back there, or to what took its place. */
export function remember() {
  const was = last;
  return () => was && back(was);
}

/** @param {NonNullable<typeof last>} was */
function back({ element, marks, line, at }) {
  if (element.isConnected && able(element)) return give(element);
  const same = marks && [...document.querySelectorAll(marks)].find(able);
  if (same) return give(same);
  for (const around of line) {
    if (!around.isConnected || !seen(around)) continue;
    const near = [...around.querySelectorAll(MAY)].filter(seen);
    const next = near[Math.min(Math.max(at, 0), near.length - 1)];
    if (next) return give(next);
  }
  const home = document.querySelector("main [tabindex='0'], main a[href], main button");
  if (home) give(home);
}

/** @param {Element} element */
const give = (element) => /** @type {HTMLElement} */ (element).focus({ preventScroll: true });

/** What took the place of what went away in one drawing has the focus before the next key comes. */
function atOnce() {
  if (!last || last.element.isConnected || !last.marks || !document.hasFocus()) return;
  const same = [...document.querySelectorAll(last.marks)].find(able);
  if (same) give(same);
}

let asked = false;
function soon() {
  if (document.activeElement !== document.body || !last) return;
  atOnce();
  if (asked || document.activeElement !== document.body) return;
  asked = true;
  // After the frame in which what took its place has been drawn.
  requestAnimationFrame(() =>
    requestAnimationFrame(() => {
      asked = false;
      restore();
    }),
  );
}
new MutationObserver(soon).observe(document.body, {
  childList: true,
  subtree: true,
  attributes: true,
  attributeFilter: ["hidden", "disabled", "style", "class"],
});
document.addEventListener("focusout", soon);
