// Mice, pens and fingers on a pane: the left button or one finger works, the right button or a pen's other end does the
// opposite; space, the middle button or two fingers move the map, and never draw; a long press opens the map's menu.
import { go, heldByKeys, letGo, take } from "./hand.js";
import { active } from "./outline.js";
import { brush, HOLD_MS, state } from "../state.js";
import { openMenu } from "./menu.js";
import { pressOf } from "./strokes.js";

/** @typedef {import("../state.js").Spot} Spot */
/**
 * What a pane shows, and how it is moved. Places are pixels of the pane.
 * @typedef {object} Sight
 * @property {(px: number, py: number) => Spot | null} spot what lies under a pixel
 * @property {(dx: number, dy: number) => void} move
 * @property {(factor: number, px: number, py: number) => void} zoom
 * @property {(dx: number, dy: number) => void} [turn] a drag that turns the view
 * @property {(degrees: number) => void} [twist] two fingers that turn it
 * @property {() => boolean} [away] whether nobody may work here just now
 */

/** Held this long in one place, a finger asks for the menu. [ms] */
const LONG_MS = 550;
/** A press that moves so far is a drag. [px] */
const SLACK = { touch: 10, other: 4 };
/** A pen's other end, among the buttons that are pressed. */
const OTHER_END = 32;

export const held = { space: false };

/** @param {HTMLElement} pane @param {Sight} sight */
export function follow(pane, sight) {
  /** Null, "hand", "pan", "turn", "wait" (the right button, not yet decided), "tap" (a finger, not yet decided), "two" or "spent". @type {string | null} */
  let doing = null;
  let last = [0, 0];
  let downAt = [0, 0];
  let since = 0;
  let timer = 0;
  let pressedLong = false;
  /** @type {Map<number, number[]>} */
  const fingers = new Map();
  let pair = { middle: [0, 0], span: 1, angle: 0 };

  /** @param {PointerEvent | WheelEvent} event */
  const place = (event) => {
    const rect = pane.getBoundingClientRect();
    return [event.clientX - rect.left, event.clientY - rect.top];
  };
  /** @param {number[]} at */
  const point = (at) => {
    state.byKeys = false;
    state.cursor = sight.spot(at[0], at[1]);
    return state.cursor;
  };

  /** @param {boolean} turned @param {number} press @param {Spot | null} spot */
  function grip(turned, press, spot = state.cursor) {
    clearTimeout(timer);
    // A button that was held to see what it means begins to work now; a tap has worked as long as it lasted.
    const from = doing === "wait" ? performance.now() : since;
    if (spot && take(spot, { turned, press, since: from })) doing = "hand";
    else doing = sight.turn ? "turn" : brush() || turned ? null : "pan";
    if (doing === "pan") pane.classList.add("moving");
  }

  function two() {
    clearTimeout(timer);
    letGo(false);
    doing = "two";
    pair = measured();
  }
  function measured() {
    const [[ax, ay], [bx, by]] = fingers.values();
    return {
      middle: [(ax + bx) / 2, (ay + by) / 2],
      span: Math.max(Math.hypot(bx - ax, by - ay), 1),
      angle: (Math.atan2(by - ay, bx - ax) * 180) / Math.PI,
    };
  }
  function pinch() {
    const now = measured();
    sight.move(now.middle[0] - pair.middle[0], now.middle[1] - pair.middle[1]);
    sight.zoom(now.span / pair.span, now.middle[0], now.middle[1]);
    sight.twist?.(((now.angle - pair.angle + 540) % 360) - 180);
    pair = now;
  }

  pane.addEventListener("contextmenu", (event) => event.preventDefault());
  pane.addEventListener("pointerdown", (event) => {
    if (sight.away?.() || heldByKeys() || /** @type {Element} */ (event.target).closest("button, .hud")) return;
    const menu = document.querySelector(".dropdown-menu.show");
    pane.focus({ preventScroll: true });
    pane.setPointerCapture(event.pointerId);
    const at = place(event);
    if (menu && event.pointerType === "touch" && fingers.size === 0) {
      // A tap beside an open menu closes it, and does nothing else.
      fingers.set(event.pointerId, at);
      doing = "spent";
      for (const toggle of document.querySelectorAll("[data-bs-toggle=dropdown].show"))
        window.bootstrap.Dropdown.getInstance(toggle)?.hide();
      return;
    }
    if (event.pointerType === "touch") {
      fingers.set(event.pointerId, at);
      if (fingers.size > 1) {
        if (fingers.size === 2) two();
        return;
      }
    } else if (doing) return;
    last = downAt = at;
    pressedLong = false;
    since = event.timeStamp;
    point(at);
    if (event.pointerType === "touch") {
      doing = "tap";
      timer = setTimeout(() => {
        doing = "spent";
        pressedLong = true;
        openMenu(event.clientX, event.clientY, state.cursor);
      }, LONG_MS);
    } else if (event.button === 1 || held.space) {
      event.preventDefault();
      doing = "pan";
      pane.classList.add("moving");
    } else if (event.buttons & OTHER_END) grip(true, pressOf(event));
    else if (event.button === 2) {
      // A short right click opens the menu; holding or moving works the opposite tool.
      if (active()) return;
      doing = "wait";
      if (brush()) timer = setTimeout(() => doing === "wait" && grip(true, 1), HOLD_MS);
    } else if (event.button === 0) {
      if (event.shiftKey && sight.turn) doing = "turn";
      else grip(false, pressOf(event));
    }
  });

  pane.addEventListener("pointermove", (event) => {
    if (sight.away?.() || heldByKeys()) return;
    const at = place(event);
    const [dx, dy] = [at[0] - last[0], at[1] - last[1]];
    if (fingers.has(event.pointerId)) {
      fingers.set(event.pointerId, at);
      if (doing === "two" && fingers.size === 2) pinch();
      if (doing === "two" || doing === "spent") return;
    }
    const slack = event.pointerType === "touch" ? SLACK.touch : SLACK.other;
    const far = Math.hypot(at[0] - downAt[0], at[1] - downAt[1]) > slack;
    if (doing === "hand") {
      const events = event.getCoalescedEvents?.() || [];
      for (const part of events.length ? events : [event]) {
        const [px, py] = place(part);
        const spot = sight.spot(px, py);
        if (spot) go(spot, part.timeStamp, pressOf(part));
      }
    }
    if (doing === "tap" && far) {
      // A finger that moves in the trial moves the map; a tap begins the walk.
      const from = sight.spot(downAt[0], downAt[1]);
      if (state.stage === "trial") doing = sight.turn ? "turn" : "pan";
      else grip(false, 1, from);
      clearTimeout(timer);
    } else if (doing === "wait" && brush() && far) grip(true, 1);
    if (doing === "pan") sight.move(dx, dy);
    else if (doing === "turn") sight.turn?.(dx, dy);
    last = at;
    if (doing === "turn") return;
    const spot = sight.spot(at[0], at[1]);
    if (!spot && doing === "hand") return;
    point(at);
    if (spot && doing !== "hand") go(spot, event.timeStamp);
  });

  /** @param {PointerEvent} event */
  function release(event) {
    clearTimeout(timer);
    if (fingers.delete(event.pointerId) && (doing === "two" || doing === "spent")) {
      doing = fingers.size ? "spent" : null;
      // It comes at once or not at all; the next click is meant.
      setTimeout(() => {
        pressedLong = false;
      }, 60);
      return;
    }
    const well = event.type === "pointerup";
    if (doing === "tap" && well) {
      grip(false, 1);
      letGo();
    } else if (doing === "hand") letGo(well);
    else if (doing === "wait" && well) openMenu(event.clientX, event.clientY, state.cursor);
    doing = null;
    pane.classList.remove("moving");
  }
  // What the browser makes of a long press when the finger is lifted would close the menu that it opened.
  const swallow = (/** @type {Event} */ event) => pressedLong && event.stopPropagation();
  window.addEventListener("click", swallow, { capture: true });
  pane.addEventListener("pointerup", release);
  pane.addEventListener("pointercancel", release);
  pane.addEventListener("pointerleave", (event) => {
    // A finger that is lifted stays where it was: there is no hovering.
    if (!doing && !state.byKeys && event.pointerType !== "touch") state.cursor = null;
  });
  pane.addEventListener(
    "wheel",
    (event) => {
      event.preventDefault();
      if (sight.away?.()) return;
      const [px, py] = place(event);
      const delta = event.deltaMode === 1 ? event.deltaY * 30 : event.deltaY;
      sight.zoom(2 ** (-delta / 300), px, py);
    },
    { passive: false },
  );
}
