// The map without a mouse: the arrows move a crosshair, Space holds the tool down, Enter sets and chooses.
import { cameByKeys } from "../../kernel/focus.js";
import { tell } from "../../kernel/tell.js";
import { id } from "../../kernel/shapes.js";
import { meantBy } from "../../kernel/shortcuts.js";
import { go, heldByKeys, holds, letGo, take } from "./hand.js";
import { openMenu } from "./menu.js";
import { active, grasped } from "./outline.js";
import { facts, spotWords } from "../told/spot.js";
import { actions, brush, grid, heed, inShown, state } from "../state.js";

/** @typedef {import("../state.js").Spot} Spot */
/**
 * What a pane shows, for the keyboard. Places are pixels of the pane.
 * @typedef {object} Steered
 * @property {() => Spot | null} middle what lies in its middle
 * @property {() => number} screen how much of the land it shows across [m]
 * @property {(spot: Spot) => [number, number]} pixel where a spot is
 * @property {(spot: Spot) => void} reveal brings a spot into view
 * @property {() => number} [bearing] which way is up on the screen, where that is not north [°]
 * @property {() => boolean} [away] whether nobody may work here just now
 */

/** Without a brush, Shift moves by so many posts. */
const STRIDE_POSTS = 10;
/** A crosshair that rests so long is read out. [ms] */
const REST_MS = 450;
/** East and north of each way. @type {Record<string, [number, number]>} */
const WAYS = { west: [-1, 0], east: [1, 0], north: [0, 1], south: [0, -1] };

/** @type {{pane: HTMLElement, sight: Steered} | null} */
let steered = null;
let timer = 0;
/** Set while Enter holds the tool down until it is pressed again. */
let latched = false;
/** Where an outline was ended by Enter last. @type {Spot | null} */
let atEnd = null;

/** What lies at the crosshair is read out once it rests. */
function readOut() {
  clearTimeout(timer);
  timer = setTimeout(() => {
    const [spot, at] = [facts.spot, state.cursor];
    if (!at || !state.byKeys) return;
    // The facts come from the server: until they do, only the place is known.
    if (spot && Math.hypot(spot.x - at.x, spot.y - at.y) < grid.spacing) tell(spotWords(spot).join(", "));
    else tell(`East ${at.x.toFixed(1)}, north ${at.y.toFixed(1)}`);
  }, REST_MS);
}
heed("facts", () => state.byKeys && readOut());

/** Bring the crosshair to a spot. @param {Spot} spot */
export function moveTo(spot) {
  const at = inShown(spot);
  state.byKeys = true;
  state.cursor = at;
  steered?.sight.reveal(at);
  go(at, performance.now());
  readOut();
}

/** Where the crosshair is; it begins in the middle of what is seen. */
const here = () => state.cursor ?? steered?.sight.middle() ?? { x: grid.west, y: grid.south };

/** @param {string} way @param {number} metres */
function step(way, metres) {
  const turned = (((Math.round((steered?.sight.bearing?.() ?? 0) / 90) % 4) + 4) % 4) * (Math.PI / 2);
  const [east, north] = WAYS[way];
  const [dx, dy] = [
    east * Math.cos(turned) + north * Math.sin(turned),
    -east * Math.sin(turned) + north * Math.cos(turned),
  ];
  const from = here();
  moveTo({ x: from.x + dx * metres, y: from.y + dy * metres });
}

/** @param {boolean} turned */
function hold(turned) {
  if (holds() || !state.cursor) return;
  latched = false;
  take(state.cursor, { turned, byKeys: true });
}

function lift() {
  latched = false;
  letGo();
}

/** What each key of the map does. @type {Record<string, (event: KeyboardEvent) => void>} */
const KEYS = {
  ...Object.fromEntries(
    Object.keys(WAYS).flatMap((way) => [
      [`crosshair-post:${way}`, () => step(way, grid.spacing)],
      [`crosshair-radius:${way}`, () => step(way, brush()?.radius ?? STRIDE_POSTS * grid.spacing)],
      [`crosshair-screen:${way}`, () => step(way, /** @type {any} */ (steered).sight.screen() * 0.8)],
    ]),
  ),
  "hold-tool": (event) => event.repeat || hold(false),
  "hold-opposite": (event) => event.repeat || hold(true),
  "set-here": (event) => {
    if (event.repeat) return;
    if (holds()) return lift();
    if (!state.cursor) return moveTo(here());
    const drew = active();
    if (!drew && brush() && atEnd && Math.hypot(state.cursor.x - atEnd.x, state.cursor.y - atEnd.y) < 0.5) {
      // One Enter too many is no stroke.
      tell("What was drawn is closed. Move the crosshair to work with the tool, or hold Space here");
      return;
    }
    take(state.cursor, { byKeys: true });
    atEnd = drew && !active() ? { ...state.cursor } : null;
    // A brush, and a shape that was grasped, stay in the hand until the next Enter; a corner or a choice is done at once.
    if (state.drawing || grasped()) latched = true;
    else lift();
  },
  "menu-here": () => {
    const { pane, sight } = /** @type {NonNullable<typeof steered>} */ (steered);
    const spot = here();
    if (!state.cursor) moveTo(spot);
    const [px, py] = sight.pixel(spot);
    const rect = pane.getBoundingClientRect();
    openMenu(rect.left + px, rect.top + py, spot);
  },
};

/** Let the keyboard work on a pane. @param {HTMLElement} pane @param {Steered} sight */
export function steer(pane, sight) {
  pane.addEventListener("focus", () => {
    steered = { pane, sight };
    if (!cameByKeys() || sight.away?.()) return;
    if (!state.cursor) moveTo(here());
  });
  pane.addEventListener("blur", () => {
    if (heldByKeys()) lift();
  });
  pane.addEventListener("keydown", (event) => {
    if (event.target !== pane || sight.away?.()) return;
    steered = { pane, sight };
    const name = meantBy(event, ["map"])?.name;
    if (!name) return;
    // While a pointer is at work, Space holds the map and Enter ends what is drawn.
    if (!state.byKeys && !name.startsWith("crosshair") && name !== "menu-here") return;
    event.preventDefault();
    KEYS[name](event);
  });
  pane.addEventListener("keyup", (event) => {
    if (event.key === " " && heldByKeys() && !latched) letGo();
  });
}

/** The form in which a place is typed. @type {HTMLFormElement} */
const form = id("jump-form");
form.addEventListener("submit", (event) => {
  event.preventDefault();
  const [x, y] = ["jump-x", "jump-y"].map((name) => Number(id(name).value));
  window.bootstrap.Modal.getInstance(id("jump"))?.hide();
  goThere({ x, y });
});
id("jump").addEventListener("show.bs.modal", () => {
  const at = here();
  for (const [name, value, low, high] of /** @type {[string, number, number, number][]} */ ([
    ["jump-x", at.x, grid.west, grid.east],
    ["jump-y", at.y, grid.south, grid.north],
  ]))
    Object.assign(id(name), { value: String(Math.round(value * 10) / 10), min: String(low), max: String(high) });
});
id("jump").addEventListener("shown.bs.modal", () => id("jump-x").select());
actions.jump = () => window.bootstrap.Modal.getOrCreateInstance(id("jump")).show();

/** The crosshair goes to a spot, and the focus with it. @param {Spot} spot */
export function goThere(spot) {
  const pane = id(state.view === "overlook" ? "look" : "flat");
  // A dialog that closes gives the focus back first.
  setTimeout(() => {
    pane.focus();
    moveTo(spot);
  });
}
