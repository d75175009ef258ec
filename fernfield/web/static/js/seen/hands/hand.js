// The hand on the land, whether a mouse, a pen, a finger or the keyboard moves it: what is being drawn comes first,
// then what a room takes hold of, then the tool of the stage.
import { closed, opened } from "../../kernel/layers.js";
import * as outline from "./outline.js";
import { screenAt } from "../drawn/plan.js";
import { actions, brush, state } from "../state.js";
import { addToStroke, beginStroke, endStroke } from "./strokes.js";

/** @typedef {import("../state.js").Spot} Spot */
/** What the hand does: "outline", "room", "stroke", or nothing. @type {string | null} */
let doing = null;
let keys = false;
let dragging = false;

/** Hands of the rooms: each may take a press on the map before the tools do. @type {{down: (px: number, py: number, spot: any) => boolean, move: (px: number, py: number, spot: any) => void, up: (keep: boolean) => void}[]} */
const hands = [];
/** @param {(typeof hands)[number]} hand */
export const addHand = (hand) => hands.push(hand);

/**
 * Press on a spot; whether the hand has hold of something, or did all that was to be done.
 * @param {Spot} spot
 * @param {{turned?: boolean, press?: number, since?: number, byKeys?: boolean}} [how] the opposite tool; how hard a pen is pressed; when, on the clock of events; whether it is the keyboard
 */
export function take(spot, { turned = false, press = 1, since = performance.now(), byKeys = false } = {}) {
  letGo(false);
  keys = byKeys;
  if (!turned && outline.down(spot)) doing = "outline";
  else if (outline.active()) return false;
  else if (!turned && hands.some((hand) => hand.down(...screenAt(spot.x, spot.y), spot))) doing = "room";
  else if (!turned && state.stage === "trial") {
    actions.walk(spot);
    return true;
  } else if (brush()) {
    doing = beginStroke(spot, turned, press, since) ? "stroke" : null;
    return true;
  }
  return doing !== null;
}

/** The hand goes on to a spot. @param {Spot} spot @param {number} time on the clock of events @param {number} [press] */
export function go(spot, time, press = 1) {
  if (doing === "stroke") addToStroke(spot, time, press);
  if (doing === "room") {
    // Escape lets what is dragged go where it was.
    if (!dragging) opened("hand", () => letGo(false));
    dragging = true;
    for (const hand of hands) hand.move(...screenAt(spot.x, spot.y), spot);
  }
  outline.move(spot);
}

/** Let go. @param {boolean} [keep] false takes back what can be taken back */
export function letGo(keep = true) {
  if (doing === "stroke") endStroke(keep);
  if (doing === "room") for (const hand of hands) hand.up(keep);
  if (doing === "outline") outline.up(keep);
  doing = null;
  if (dragging) closed("hand");
  dragging = false;
}

/** Whether the hand has hold of something; a stroke may have been taken back meanwhile. */
export const holds = () => doing !== null && (doing !== "stroke" || state.drawing !== "");
/** Whether it is the keyboard that has: a pointer that passes by meanwhile changes nothing. */
export const heldByKeys = () => keys && holds();
