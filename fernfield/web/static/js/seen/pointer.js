// The hand on the plan: left works, right does the opposite, space or the middle button pans.
import { pan, spotAt, zoomAt } from "./plan.js";
import * as outline from "./outline.js";
import { addToStroke, beginStroke, endStroke, pressOf } from "./strokes.js";
import { actions, brush, HOLD_MS, state } from "./state.js";
import { openMenu } from "./menu.js";

const pane = /** @type {HTMLElement} */ (document.getElementById("flat"));

/** What the pressed button does: null, "pan", "stroke", "room" or "wait" (right button, not yet decided). */
/** @type {string | null} */
let doing = null;
let lastAt = [0, 0];
let waitTimer = 0;
let downAt = [0, 0];
export const held = { space: false };

/** Hands of the rooms: each may take a press on the map before the tools do. @type {{down: (px: number, py: number, spot: any) => boolean, move: (px: number, py: number, spot: any) => void, up: () => void}[]} */
const hands = [];
/** @param {(typeof hands)[number]} hand */
export const addHand = (hand) => hands.push(hand);

/** @param {any} event */
function place(event) {
  const rect = pane.getBoundingClientRect();
  return [event.clientX - rect.left, event.clientY - rect.top];
}

/** @param {any} event */
function point(event) {
  const [px, py] = place(event);
  state.cursor = spotAt(px, py);

  return [px, py];
}

pane.addEventListener("contextmenu", (event) => event.preventDefault());

pane.addEventListener("pointerdown", (event) => {
  pane.focus({ preventScroll: true });
  pane.setPointerCapture(event.pointerId);
  const [px, py] = point(event);
  lastAt = downAt = [px, py];
  if (doing) return;
  if (event.button === 1 || held.space) {
    event.preventDefault();
    doing = "pan";
    pane.classList.add("moving");
    return;
  }
  if (event.button === 2) {
    // A short right click opens the menu; holding or moving works the opposite tool.
    if (outline.active()) return;
    doing = "wait";
    if (brush()) waitTimer = setTimeout(() => doing === "wait" && opposite(), HOLD_MS);
    return;
  }
  if (event.button !== 0) return;
  if (outline.down(/** @type {import("./state.js").Spot} */ (state.cursor))) return;
  if (hands.some((hand) => hand.down(px, py, state.cursor))) doing = "room";
  else if (state.stage === "trial") actions.walk(state.cursor);
  else if (brush())
    doing = beginStroke(/** @type {import("./state.js").Spot} */ (state.cursor), false, pressOf(event))
      ? "stroke"
      : null;
  else doing = "pan";
});

function opposite() {
  clearTimeout(waitTimer);
  doing = beginStroke(/** @type {import("./state.js").Spot} */ (state.cursor), true) ? "stroke" : null;
}

pane.addEventListener("pointermove", (event) => {
  if (doing === "stroke") {
    const rect = pane.getBoundingClientRect();
    const events = event.getCoalescedEvents?.() || [];
    for (const part of events.length ? events : [event]) {
      addToStroke(spotAt(part.clientX - rect.left, part.clientY - rect.top), part.timeStamp, pressOf(part));
    }
  }
  const [px, py] = point(event);
  if (doing === "pan") pan(px - lastAt[0], py - lastAt[1]);
  if (doing === "room") for (const hand of hands) hand.move(px, py, state.cursor);
  outline.move(/** @type {import("./state.js").Spot} */ (state.cursor));
  if (doing === "wait" && brush() && Math.hypot(px - downAt[0], py - downAt[1]) > 4) opposite();
  lastAt = [px, py];
});

/** @param {any} event */
function release(event) {
  clearTimeout(waitTimer);
  if (doing === "stroke") endStroke(event.type !== "pointercancel");
  if (doing === "room") for (const hand of hands) hand.up();
  outline.up();
  if (doing === "wait" && event.type === "pointerup") openMenu(event.clientX, event.clientY, state.cursor);
  doing = null;
  pane.classList.remove("moving");
}
pane.addEventListener("pointerup", release);
pane.addEventListener("pointercancel", release);
pane.addEventListener("pointerleave", () => {
  if (doing) return;
  state.cursor = null;
});

pane.addEventListener(
  "wheel",
  (event) => {
    event.preventDefault();
    const [px, py] = place(event);
    const delta = event.deltaMode === 1 ? event.deltaY * 30 : event.deltaY;
    zoomAt(2 ** (-delta / 300), px, py);
  },
  { passive: false },
);
