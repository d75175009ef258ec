// The altitude bar: a histogram of the elevations in view, the sea, remembered levels, and the cursor's elevation.
import { ask } from "../../kernel/say.js";
import { drag, figure, heldKeys, id, roundUp, svg } from "../../kernel/shapes.js";
import { postsInView } from "../drawn/plan.js";
import { expect, row, rows, settle } from "../rows.js";
import { facts } from "./spot.js";
import { actions, announce, boot, clamp, heed, landApi, state, watch, onlyLight } from "../state.js";

const bar = id("altitude");
const TOP = 26;
const FOOT = 14;
const ONLY_WATER = boot.collections.find((one) => one.name === "water")?.only || "";
let timer = 0;
/** What is dragged: the sea or a level by its key, and where it is now. @type {{key: string, z: number} | null} */
let moving = null;
let letGoAt = -1e9;

export function askLevels() {
  clearTimeout(timer);
  timer = setTimeout(async () => {
    const [row0, col0, row1, col1] = postsInView();
    const found = await ask(`${landApi}/levels?row0=${row0}&col0=${col0}&row1=${row1}&col1=${col1}`);
    if (!found) return;
    facts.levels = found;
    drawBar();
  }, 150);
}

/** @typedef {import("../../types.js").Answers["Levels"]} Levels */

const tallness = () => Math.max(60, bar.clientHeight - TOP - FOOT);
const yOfLevel = (/** @type {number} */ z) => {
  const l = /** @type {Levels} */ (facts.levels);
  return TOP + (1 - (z - l.bottom_m) / (l.top_m - l.bottom_m)) * tallness();
};
const levelOf = (/** @type {MouseEvent} */ event) => {
  const l = /** @type {Levels} */ (facts.levels);
  const y = event.clientY - bar.getBoundingClientRect().top;
  return l.bottom_m + (1 - (y - TOP) / tallness()) * (l.top_m - l.bottom_m);
};

/** As much of some words as fits. @param {SVGTextElement} text @param {number} width [px] */
function fit(text, width) {
  let left = text.textContent || "";
  while (left && text.getComputedTextLength() > width) {
    left = left.slice(0, -1);
    text.textContent = `${left.trimEnd()}…`;
  }
}

function drawBar() {
  const l = facts.levels;
  if (!l) return;
  const width = bar.clientWidth || 84;
  const most = Math.max(...l.counts, 1);
  const tall = tallness() / l.counts.length;
  const sea = moving?.key === "sea" ? moving.z : state.world.sea_level_m;
  const seaY = clamp(yOfLevel(sea), TOP, TOP + tallness());
  const step = roundUp((l.top_m - l.bottom_m) / 10);
  const parts = [
    svg("text", { x: width / 2, y: 15, "text-anchor": "middle" }, "m"),
    svg("rect", { class: "water", x: 36, y: seaY, width: width - 36, height: Math.max(0, TOP + tallness() - seaY) }),
  ];
  l.counts.forEach((/** @type {number} */ count, /** @type {number} */ i) => {
    if (count)
      parts.push(
        svg("rect", {
          class: "bar",
          x: 36,
          y: TOP + tallness() - (i + 1) * tall,
          width: (Math.sqrt(count / most) * (width - 42)).toFixed(1),
          height: tall.toFixed(2),
        }),
      );
  });
  parts.push(svg("path", { class: "axis", d: `M36 ${TOP}V${TOP + tallness()}` }));
  for (let z = Math.ceil(l.bottom_m / step) * step; z <= l.top_m; z += step) {
    const y = yOfLevel(z);
    parts.push(
      svg("path", { class: "axis", d: `M31 ${y}H36` }),
      svg("text", { x: 28, y: y + 3.5, "text-anchor": "end" }, figure(z, step < 1 ? 1 : 0)),
    );
  }
  const slider = (/** @type {string} */ name, /** @type {number} */ z) => ({
    role: "slider",
    tabindex: 0,
    "aria-label": name,
    "aria-valuemin": l.bottom_m,
    "aria-valuemax": l.top_m,
    "aria-valuenow": z,
    "aria-valuetext": `${z.toFixed(2)} metres`,
  });
  parts.push(
    svg(
      "g",
      { class: "sea-mark", "data-level": "sea", ...slider("Sea level", sea), transform: `translate(36 ${seaY})` },
      "",
      [
        svg("rect", { x: -36, y: -10, width, height: 20, fill: "transparent" }),
        svg("path", { d: `M0-1H${width - 36}V1H0Z` }),
        svg("path", { d: `M0 0L6 -8H${width - 38}V8H6Z` }),
        svg("text", { x: width - 41, y: 4, "text-anchor": "end" }, figure(sea, sea % 1 ? 1 : 0)),
      ],
    ),
  );
  for (const level of rows("levels")) {
    const z = moving?.key === level.key ? moving.z : level.elevation_m;
    if (z < l.bottom_m || z > l.top_m) continue;
    parts.push(
      svg(
        "g",
        {
          class: "level",
          "data-level": level.key,
          ...slider(`Level ${level.name}`, z),
          transform: `translate(36 ${yOfLevel(z)})`,
        },
        "",
        [
          svg("title", {}, `${level.name}, ${figure(z, 2)} m: click to flatten to it, drag to change it`),
          svg("rect", { x: -36, y: -7, width, height: 14, fill: "transparent" }),
          svg("path", { d: `M-6 -1H${width - 36}V1H-6Z` }),
          svg("text", { x: 2, y: -3, class: "called" }, level.name),
        ],
      ),
    );
  }
  parts.push(svg("g", { class: "flag", id: "flag" }));
  bar.replaceChildren(...parts);
  for (const words of bar.querySelectorAll(".called")) fit(words, width - 38);
  bar.setAttribute(
    "aria-label",
    `Altitude bar: ${figure(l.bottom_m, 0)} to ${figure(l.top_m, 0)} metres, sea at ${figure(sea, 2)}, ${rows("levels").length} levels remembered`,
  );
  drawFlag();
  announce("levels");
}

function drawFlag() {
  const flag = document.getElementById("flag");
  if (!flag || !facts.levels) return;
  const s = facts.spot;
  if (!s) {
    flag.replaceChildren();
    return;
  }
  const width = bar.clientWidth || 84;
  flag.setAttribute("transform", `translate(36 ${clamp(yOfLevel(s.elevation_m), TOP, TOP + tallness())})`);
  flag.replaceChildren(
    svg("path", { d: `M0 0L7 -7H${width - 38}V7H7Z` }),
    svg("text", { x: width - 40, y: 3.5, "text-anchor": "end" }, figure(s.elevation_m, 1)),
  );
}
heed("facts", drawFlag);

/** @param {string} key of a level, or "sea" @returns {number} */
const elevationOf = (key) => (key === "sea" ? state.world.sea_level_m : row("levels", key)?.elevation_m);

/** A mark stands somewhere else: one revision. @param {string} key of a level, or "sea" @param {number} z [m] */
function putMark(key, z) {
  const [name, which, field, path] =
    key === "sea" ? ["water", ONLY_WATER, "sea_level_m", "water"] : ["levels", key, "elevation_m", `levels/${key}`];
  const said = { [field]: Math.round(z * 100) / 100 };
  expect(name, which, said);
  settle(name, which, ask(`/api/worlds/${state.world.id}/${path}`, "PATCH", said));
}

actions["put-level"] = ({ key, z }) => putMark(key, z);

/** Set the sea level: one revision. @param {number} level */
export const setSea = (level) => putMark("sea", level);

drag(
  bar,
  (event) => {
    const mark = /** @type {Element} */ (event.target).closest(".level, .sea-mark");
    if (!mark || !facts.levels) return null;
    const key = /** @type {SVGElement} */ (mark).dataset.level || "sea";
    moving = { key, z: elevationOf(key) };
    return moving;
  },
  {
    move(mark, event) {
      mark.z = Math.round(levelOf(event) * 10) / 10;
      if (mark.key === "sea") announce("sea-held", mark.z);
      drawBar();
    },
    end(mark, _event, moved) {
      moving = null;
      letGoAt = performance.now();
      if (mark.key === "sea") announce("sea-held", null);
      if (moved) putMark(mark.key, mark.z);
      else if (mark.key !== "sea") actions["take-level"](mark.z);
    },
    drop() {
      moving = null;
      announce("sea-held", null);
      drawBar();
    },
  },
);
/** A click on the bare bar takes the level there. */
bar.addEventListener("click", (/** @type {MouseEvent} */ event) => {
  // A mark that was dragged lets go with a click of its own.
  if (
    /** @type {Element} */ (event.target).closest(".level, .sea-mark") ||
    !facts.levels ||
    performance.now() - letGoAt < 80
  )
    return;
  actions["take-level"](levelOf(event));
});
/** How far each key moves a mark. [m] @type {Record<string, number>} */
const STEPS = { ArrowUp: 0.5, ArrowRight: 0.5, ArrowDown: -0.5, ArrowLeft: -0.5, PageUp: 5, PageDown: -5 };
heldKeys(
  bar,
  (event) => {
    const key = /** @type {Element} */ (event.target).closest("[data-level]")?.getAttribute("data-level");
    if (!key) return false;
    const step = STEPS[event.key];
    if (step) {
      moving ??= { key, z: elevationOf(key) };
      moving.z += step;
      drawBar();
    } else if (event.key === "Enter" || event.key === " ") actions["take-level"](elevationOf(key));
    else return false;
    return true;
  },
  () => {
    if (!moving) return;
    const { key, z } = moving;
    moving = null;
    putMark(key, z);
  },
);
watch(() => `${state.at.levels} ${state.world.sea_level_m}`, drawBar);
new ResizeObserver(drawBar).observe(bar);
for (const what of ["moved", "stale", "all-stale"])
  heed(what, (message) => !state.drawing && !onlyLight(message) && askLevels());
watch(
  () => state.drawing,
  (name) => !name && askLevels(),
);
watch(() => state.at.water, askLevels);
