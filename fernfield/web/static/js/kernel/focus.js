// The focus is never lost. All that may take it away passes here: what had it goes, is hidden or drawn anew (then it goes
// to what took its place, else to what stands next to it), or a dialog, sheet or menu closes (then it goes back to where
// it was when that opened).

/** Whatever may have the focus. */
const MAY =
  "a[href], button:not(:disabled), input:not(:disabled):not([type=hidden]), select:not(:disabled), textarea:not(:disabled), [tabindex]:not([tabindex='-1'])";

/** Where keys are letters. */
export const FIELDS = "input:not([type=range]):not([type=checkbox]), select, textarea";

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
  if (event.key === "Tab" || event.key === "F6") comes(true);
});

/** Whether nothing has the focus, or nothing that can be seen: a browser takes it away from what is hidden only later. */
function lost() {
  const now = document.activeElement;
  return !now || now === document.body || !seen(now);
}

/** Give the focus to what took the place of what had it, or to its neighbour. */
function restore() {
  if (!last || !lost() || !document.hasFocus()) return;
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
    // Beside a button that went stands a button: in a field the keys of the map would be letters.
    const alike = element.matches(FIELDS) ? near : near.filter((one) => !one.matches(FIELDS));
    const next = (alike.length ? alike : near).sort(nearer(near, at))[0];
    if (next) return give(next);
  }
  const home = document.querySelector("main [tabindex='0'], main a[href], main button");
  if (home) give(home);
}

/** The order by nearness to the place `at` of a line; of two as near, the later one stands where the lost one did. @param {Element[]} line @param {number} at */
const nearer = (line, at) => (/** @type {Element} */ a, /** @type {Element} */ b) =>
  Math.abs(line.indexOf(a) - at) - Math.abs(line.indexOf(b) - at) || line.indexOf(b) - line.indexOf(a);

/** @param {Element} element */
function give(element) {
  /** @type {HTMLElement} */ (element).focus({ preventScroll: true });
  // In sight, with as little moved as can be.
  if (!element.closest(".pane")) element.scrollIntoView({ block: "nearest", inline: "nearest" });
}

/** What took the place of what went away in one drawing has the focus before the next key comes. */
function atOnce() {
  if (!last || last.element.isConnected || !last.marks || !document.hasFocus()) return;
  const same = [...document.querySelectorAll(last.marks)].find(able);
  if (same) give(same);
}

/** For so many frames it is looked whether what took the place has come. */
const PATIENCE_FRAMES = 120;
let left = 0;
let asked = false;
function soon() {
  if (!last) return;
  // What takes the place of what went has the focus before the next key comes.
  if (document.activeElement === document.body) atOnce();
  if (asked) return;
  asked = true;
  // After the frame in which it has been drawn: whether the focus can be seen is known then, and costs nothing.
  requestAnimationFrame(() =>
    setTimeout(() => {
      asked = false;
      if (!lost()) return;
      const looking = left > 0;
      left = PATIENCE_FRAMES;
      if (!looking) requestAnimationFrame(look);
    }),
  );
}
function look() {
  if (left <= 0) return;
  restore();
  left = lost() ? left - 1 : 0;
  if (left > 0) requestAnimationFrame(look);
}
new MutationObserver(soon).observe(document.body, {
  childList: true,
  subtree: true,
  attributes: true,
  attributeFilter: ["hidden", "disabled", "style", "class"],
});
document.addEventListener("focusout", soon);
window.addEventListener("focus", soon);

/** Where the focus was when each of what is open was opened. @type {WeakMap<EventTarget, () => void>} */
const openers = new WeakMap();
for (const sort of ["modal", "offcanvas", "dropdown"]) {
  document.addEventListener(`show.bs.${sort}`, (event) => {
    const element = /** @type {Element} */ (event.target);
    if (last && (sort === "dropdown" || !element.contains(last.element))) openers.set(element, remember());
  });
  document.addEventListener(`hidden.bs.${sort}`, (event) => {
    const element = /** @type {Element} */ (event.target);
    // What a menu opened by is beside it.
    const around = sort === "dropdown" ? element.parentElement : element;
    if (lost() || around?.contains(document.activeElement)) openers.get(element)?.();
  });
}
