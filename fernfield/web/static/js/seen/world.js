// The world's page: puts the parts together.
import Alpine from "../kernel/alpine.js";
import "../kernel/forms.js";
import { ask, asked, say } from "../kernel/say.js";
import "../kernel/focus.js";
import { closeDrawers, closed, layer, opened } from "../kernel/layers.js";
import { id } from "../kernel/shapes.js";
import { meantBy, typing } from "../kernel/shortcuts.js";
import { waitFor } from "../kernel/waits.js";
import "./area.js";
import { askLevels, setSea } from "./told/altitude.js";
import { fetchPanel, goTo, setBrush, take } from "./bench.js";
import { steer } from "./hands/cursor.js";
import { connect, hears } from "./live.js";
import { active as outlining } from "./hands/outline.js";
import { drawScale } from "./drawn/overlay.js";
import { washed } from "./drawn/wash.js";
import { nearer, request, showOverlook, turnBy } from "./drawn/overlook.js";
import { lookAt } from "./past.js";
import {
  camera,
  counts,
  draw,
  fit,
  level,
  metresPerPixel,
  pan,
  paneSize,
  screenAt,
  spotAt,
  tellView,
  zoomAt,
} from "./drawn/plan.js";
import { follow, held } from "./hands/pointer.js";
import { each, fetchAll, fetchRows, only, patch, row, rows } from "./rows.js";
import "./told/answers.js";
import "./told/first.js";
import "./told/help.js";
import "./told/places.js";
import "./told/section.js";
import "./told/telling.js";
import { facts } from "./told/spot.js";
import {
  actions,
  announce,
  boot,
  brush,
  coloured,
  colourBy,
  heed,
  keep,
  showAnew,
  state,
  watch,
  landApi,
} from "./state.js";
import { endStroke, strokesKept } from "./hands/strokes.js";

const base = `/api/worlds/${state.world.id}`;

// Views

function setView() {
  keep();
  tellView();
  showOverlook(state.view !== "plan");
  draw();
}
watch(
  () => state.view,
  (view) => (view === "eye" ? showOverlook(true) : setView()),
);
const VIEWS = ["plan", "overlook", "both"];
actions["next-view"] = () => {
  if (!state.walking) state.view = VIEWS[(VIEWS.indexOf(state.view) + 1) % VIEWS.length];
};

// What is shown

Alpine.data("shown", () => ({
  get still() {
    void state.at.water;
    return only("water").tide_low_m == null;
  },
  /** @param {Event} event */
  set(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    const value =
      field.type === "checkbox"
        ? field.checked
        : field.name === "contour_m" && field.value !== "auto"
          ? Number(field.value)
          : field.value;
    Object.assign(state.show, { [field.name]: value });
    showAnew();
  },
  /** The overlay that colours the land: one at a time. */
  get chosen() {
    return boot.overlays.find((one) => one.name === coloured());
  },
  get hint() {
    return this.chosen?.help ?? "";
  },
  get help() {
    return this.chosen ? `overlay.${this.chosen.name}` : null;
  },
  /** Those that were looked at last, the latest first. */
  get last() {
    return state.lastOverlays.map((name) => boot.overlays.find((one) => one.name === name)).filter(Boolean);
  },
  init() {
    const field = /** @type {HTMLSelectElement} */ (id("overlay-choice"));
    // Its options are put there by Alpine: what is chosen is said after them.
    Alpine.effect(() => {
      void state.lastOverlays.length;
      const now = coloured();
      queueMicrotask(() => Object.assign(field, { value: now }));
    });
  },
  /** @param {Event} event */
  colour(event) {
    const name = /** @type {HTMLSelectElement} */ (event.target).value;
    colourBy(name);
    if (name) state.lastOverlays = [name, ...state.lastOverlays.filter((one) => one !== name)].slice(0, MOST_LAST);
    showAnew();
  },
  /** @param {Event} event */
  keep(event) {
    const left = state.show.overlays.filter((name) => name !== "kept");
    state.show.overlays = /** @type {HTMLInputElement} */ (event.target).checked ? [...left, "kept"] : left;
    showAnew();
  },
}));
const MOST_LAST = 4;

// The trail

/** @param {"undo" | "redo"} which */
async function turn(which) {
  // While the button is down, undo takes back the stroke that is being drawn.
  if (state.drawing && which === "undo") {
    endStroke(false);
    return;
  }
  await strokesKept();
  await ask(`${base}/${which}`, "POST", undefined, which === "undo" ? "Taking it back" : "Making it again");
}
actions.undo = () => turn("undo");
actions.redo = () => turn("redo");
id("undo").addEventListener("click", actions.undo);
id("redo").addEventListener("click", actions.redo);
actions.fit = fit;

/** @typedef {{collection: string, key: string, row: Record<string, any> | null}} RowChange */

hears("revised", async (message) => {
  Object.assign(state, { can_undo: message.can_undo, can_redo: message.can_redo });
  state.world.revision = message.number;
  if (!state.drawing) state.line = "kept";
  await patch(message);
  document.title = `${state.world.name} · Fern Field`;
  if (id("logbook-sheet").classList.contains("show")) showSteps();
  const moved = message.rows.filter(
    (/** @type {RowChange} */ one) => one.collection === "tracts" || one.collection === "joins",
  );
  if (moved.length > 0) {
    const gone = moved.some((/** @type {RowChange} */ one) => one.key === state.world.tract && !one.row);
    say("Tracts were added, moved, joined or taken away: opening the world anew …", "calm");
    const to = gone ? "" : `?tract=${state.world.tract}`;
    setTimeout(() => location.assign(`/worlds/${state.world.id}${to}`), 1200);
  }
});
hears("ended", (message) => {
  state.line = "kept";
  state.world.revision = Math.max(state.world.revision, message.revision);
});
hears("error", (message) => {
  if (state.line === "drawing" && !state.drawing) state.line = message.lost ? "unkept" : "kept";
  say(message.message);
  // What was drawn is taken back: nothing may go on showing it.
  if (message.lost) announce("all-stale");
});
hears("room", (message) => {
  state.room_mib = message.free_mib;
});
/** Ends the line about what is compiled. @type {(() => void) | null} */
let compiled = null;
hears("compiling", ({ done, of }) => {
  compiled?.();
  compiled =
    done < of ? waitFor(`Getting the tools ready, the first time on this machine: ${done} of ${of}`, null, 0) : null;
});
hears("gone", () => {
  say("This world was deleted. Going back to the list …");
  setTimeout(() => location.assign("/"), 1500);
});
heed("all-stale", fetchAll);

document.body.addEventListener("fern:renamed", () =>
  window.bootstrap.Dropdown.getInstance(document.querySelector("#world-menu [data-bs-toggle]"))?.hide(),
);
id("tract-choice")?.addEventListener("change", (/** @type {any} */ event) =>
  location.assign(`/worlds/${state.world.id}?tract=${event.target.value}`),
);

// The logbook and the keys

const steps = /** @type {Element} */ (document.querySelector("#logbook-sheet .offcanvas-body"));
const showSteps = () => window.htmx.trigger(steps, "fern:opened");
id("logbook-sheet").addEventListener("show.bs.offcanvas", showSteps);
actions.keys = () => window.bootstrap.Modal.getOrCreateInstance(id("keys")).show();

// The hand and the keyboard on the plan, and what moves it

const flat = id("flat");
follow(flat, { spot: spotAt, move: pan, zoom: zoomAt });
steer(flat, {
  middle: () => spotAt(...centre()),
  screen: () => paneSize()[0] * metresPerPixel(),
  pixel: ({ x, y }) => screenAt(x, y),
  reveal: ({ x, y }) => {
    const [[px, py], [width, height]] = [screenAt(x, y), paneSize()];
    if (px < EDGE || py < EDGE || px > width - EDGE || py > height - EDGE) pan(width / 2 - px, height / 2 - py);
  },
});

/** @returns {[number, number]} */
const centre = () => [paneSize()[0] / 2, paneSize()[1] / 2];
const PAN = 60;
/** A crosshair that comes nearer to the edge brings the map along. [px] */
const EDGE = 24;
const TURN_DEG = 15;
/** What is seen is zoomed: of two panes the one that has the focus. @param {number} factor */
const zoom = (factor) =>
  state.view === "overlook" || (state.view === "both" && document.activeElement === id("look"))
    ? nearer(factor)
    : zoomAt(factor, ...centre());
Object.assign(actions, {
  "pan-west": () => pan(PAN, 0),
  "pan-east": () => pan(-PAN, 0),
  "pan-north": () => pan(0, PAN),
  "pan-south": () => pan(0, -PAN),
  "zoom-in": () => zoom(1.25),
  "zoom-out": () => zoom(0.8),
  "turn-left": () => state.view !== "plan" && turnBy(TURN_DEG, 0),
  "turn-right": () => state.view !== "plan" && turnBy(-TURN_DEG, 0),
  "tilt-up": () => state.view !== "plan" && turnBy(0, TURN_DEG / 2),
  "tilt-down": () => state.view !== "plan" && turnBy(0, -TURN_DEG / 2),
  "hold-pan": () => {
    held.space = true;
  },
});
for (const button of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-action]")))
  button.addEventListener("click", () => actions[button.dataset.action || ""]?.());

// From the bench to the map and back

/** What of the bench had the focus last. @type {HTMLElement | null} */
let onBench = null;
id("bench-side").addEventListener("focusin", (/** @type {FocusEvent} */ event) => {
  onBench = /** @type {HTMLElement} */ (event.target);
});
actions["map-or-bench"] = () => {
  if (!document.activeElement?.closest(".pane")) {
    closeDrawers();
    id(state.view === "overlook" ? "look" : "flat").focus();
    return;
  }
  const side = id("bench-side");
  // On a narrow screen the bench is a drawer.
  if (side.getClientRects().length === 0 || getComputedStyle(side).visibility === "hidden")
    window.bootstrap.Offcanvas.getOrCreateInstance(side).show();
  const first = /** @type {HTMLElement | null} */ (
    document.querySelector("#bench button, #bench input, #bench select")
  );
  (onBench?.isConnected && onBench.getClientRects().length ? onBench : first)?.focus();
};

// What is done on the map needs the map
watch(
  () => `${state.walking} ${state.place}`,
  () => (state.walking || state.place !== null) && closeDrawers(),
);

// What Escape closes, besides what the kernel knows: what was opened last, and only that.
layer(
  "chosen",
  () => Boolean(state.chosen),
  () => {
    state.chosen = null;
  },
);
// What is in the hand lies over what was chosen meanwhile: putting it down comes first.
watch(
  () => (state.place === null ? "" : `${state.place} ${state.chosen}`),
  (held) => (held ? opened("place", () => (state.place = null)) : closed("place")),
);
layer(
  "past",
  () => state.past !== null,
  () => lookAt(null),
);
layer(
  "stroke",
  () => Boolean(state.drawing),
  () => endStroke(false),
);
document.addEventListener("keyup", (event) => {
  if (event.key === " ") held.space = false;
});
// Before the page's own keys: Enter and Esc mean the outline while one is drawn.
document.addEventListener(
  "keydown",
  (event) => {
    if (!outlining() || typing(event)) return;
    // Where the keyboard draws, Enter sets the next corner; the same place twice ends it.
    if (state.byKeys && /** @type {Element} */ (event.target).closest(".pane")) return;
    const found = meantBy(event, ["outline"]);
    if (!found) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    actions[found.name]();
  },
  { capture: true },
);

// What can be done at a spot

/** @param {{x: number, y: number}} spot */
const elevationAt = async (spot) => (await ask(`${landApi}/spot?x=${spot.x}&y=${spot.y}`))?.elevation_m;

/** Flatten works towards an elevation. @param {number} elevation */
async function takeLevel(elevation) {
  if (state.stage !== "ground") await goTo("ground");
  take("flatten");
  setBrush({ own: { ...brush()?.own, target_m: Math.round(elevation * 100) / 100 } });
  say(`Flatten works towards ${elevation.toFixed(2)} m.`, "calm");
}
Object.assign(actions, {
  "take-level": (/** @type {number} */ elevation) => state.stage === "ground" && takeLevel(elevation),
  "sea-here": async (/** @type {import("./state.js").Spot} */ spot) => {
    const found = await elevationAt(spot);
    if (found !== undefined) setSea(found);
  },
  "take-here": async (/** @type {import("./state.js").Spot} */ spot) => {
    const found = await elevationAt(spot);
    if (found !== undefined) takeLevel(found);
  },
  "level-here": async (/** @type {import("./state.js").Spot} */ spot) => {
    const found = await elevationAt(spot);
    if (found !== undefined)
      await ask(`${base}/levels`, "POST", {
        name: `E ${Math.round(spot.x)} N ${Math.round(spot.y)}`,
        elevation_m: Math.round(found * 100) / 100,
      });
  },
  figure: (/** @type {any} */ figure) => {
    state.figures = [...state.figures, figure];
    keep();
  },
  "figure-none": () => {
    state.figures = [];
    keep();
  },
  "place-start": (/** @type {import("./state.js").Spot} */ spot) =>
    ask(`${base}/things?in=world`, "POST", { sort: "start", x: spot.x, y: spot.y, tract: state.world.tract }),
});
document.addEventListener("fern:theme", () => draw());

// Beginning

/** For tests and the bench: what the page knows and how often it drew. */
window.fern = {
  state,
  facts,
  camera,
  counts,
  level,
  screenAt,
  spotAt,
  lookAt,
  rows,
  row,
  only,
  each,
  actions,
  washed,
  asked,
};

for (const unread of boot.world.unread)
  say(`A row of ${unread.collection} (${unread.key}) cannot be read, and is left as it is stored: ${unread.why}`);
await Promise.all(boot.scripts.map((stage) => import(`/rooms/${stage}/panel.js`)));
if (state.view === "eye") state.view = "plan";
Alpine.start();
connect();
setView();
await fetchPanel();
await fetchRows("things");
askLevels();
drawScale();
request();
