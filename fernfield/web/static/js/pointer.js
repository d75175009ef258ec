// The hand on the plan: left works, right does the opposite, space or the middle button pans.
import { pan, spotAt, zoomAt } from "./plan.js";
import * as sites from "./sites.js";
import * as outline from "./outline.js";
import { addToStroke, beginStroke, endStroke, pressOf } from "./strokes.js";
import { brush, HOLD_MS, state, tell } from "./state.js";
import { openMenu } from "./menu.js";

const pane = document.getElementById("flat");

/** What the pressed button does: null, "pan", "stroke", "sites" or "wait" (right button, not yet decided). */
let doing = null;
let lastAt = [0, 0];
let waitTimer = 0;
let downAt = [0, 0];
export const held = { space: false };

function place(event) {
  const rect = pane.getBoundingClientRect();
  return [event.clientX - rect.left, event.clientY - rect.top];
}

function point(event) {
  const [px, py] = place(event);
  state.cursor = spotAt(px, py);
  tell("cursor");
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
  if (outline.down(state.cursor)) return;
  if (sites.down(px, py, state.cursor)) doing = "sites";
  else if (state.stage === "trial") tell("walk", state.cursor);
  else if (brush()) doing = beginStroke(state.cursor, false, pressOf(event)) ? "stroke" : null;
  else doing = "pan";
});

function opposite() {
  clearTimeout(waitTimer);
  doing = beginStroke(state.cursor, true) ? "stroke" : null;
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
  if (doing === "sites") sites.move(px, py, state.cursor);
  if (doing === "wait" && brush() && Math.hypot(px - downAt[0], py - downAt[1]) > 4) opposite();
  lastAt = [px, py];
});

function release(event) {
  clearTimeout(waitTimer);
  if (doing === "stroke") endStroke(event.type !== "pointercancel");
  if (doing === "sites") sites.up();
  if (doing === "wait" && event.type === "pointerup") openMenu(event.clientX, event.clientY, state.cursor);
  doing = null;
  pane.classList.remove("moving");
}
pane.addEventListener("pointerup", release);
pane.addEventListener("pointercancel", release);
pane.addEventListener("pointerleave", () => {
  if (doing) return;
  state.cursor = null;
  tell("cursor");
});

pane.addEventListener("wheel", (event) => {
  event.preventDefault();
  const [px, py] = place(event);
  const delta = event.deltaMode === 1 ? event.deltaY * 30 : event.deltaY;
  zoomAt(2 ** (-delta / 300), px, py);
}, { passive: false });
