// The altitude bar: a histogram of the elevations in view, the sea, remembered levels, and the cursor's elevation.
import { ask } from "../kernel/say.js";
import { drag, figure, id, roundUp, svg } from "../kernel/shapes.js";
import { postsInView } from "./plan.js";
import { expect, row, rows } from "./rows.js";
import { facts } from "./spot.js";
import { actions, clamp, heed, landApi, state, watch } from "./state.js";

const bar = id("altitude");
const TOP = 26;
const FOOT = 14;
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

const tallness = () => Math.max(60, bar.clientHeight - TOP - FOOT);
const yOfLevel = (/** @type {number} */ z) => {
  const l = facts.levels;
  return TOP + (1 - (z - l.bottom_m) / (l.top_m - l.bottom_m)) * tallness();
};
const levelOf = (/** @type {MouseEvent} */ event) => {
  const l = facts.levels;
  const y = event.clientY - bar.getBoundingClientRect().top;
  return l.bottom_m + (1 - (y - TOP) / tallness()) * (l.top_m - l.bottom_m);
};

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
    svg("g", { class: "sea-mark", ...slider("Sea level", sea), transform: `translate(36 ${seaY})` }, "", [
      svg("rect", { x: -36, y: -10, width, height: 20, fill: "transparent" }),
      svg("path", { d: `M0-1H${width - 36}V1H0Z` }),
      svg("path", { d: `M0 0L6 -8H${width - 38}V8H6Z` }),
      svg("text", { x: width - 41, y: 4, "text-anchor": "end" }, figure(sea, sea % 1 ? 1 : 0)),
    ]),
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
          svg("text", { x: 2, y: -3 }, level.name.length > 9 ? `${level.name.slice(0, 8)}…` : level.name),
        ],
      ),
    );
  }
  parts.push(svg("g", { class: "flag", id: "flag" }));
  bar.replaceChildren(...parts);
  drawFlag();
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

/** Set the sea level: one revision. @param {number} level */
export async function setSea(level) {
  const rounded = Math.round(level * 100) / 100;
  state.world.sea_level_m = rounded;
  await ask(`/api/worlds/${state.world.id}/water`, "PATCH", { sea_level_m: rounded });
}

drag(
  bar,
  (event) => {
    const mark = /** @type {Element} */ (event.target).closest(".level, .sea-mark");
    if (!mark || !facts.levels) return null;
    const key = /** @type {SVGElement} */ (mark).dataset.level || "sea";
    moving = { key, z: key === "sea" ? state.world.sea_level_m : row("levels", key)?.elevation_m };
    return moving;
  },
  {
    move(mark, event) {
      mark.z = Math.round(levelOf(event) * 10) / 10;
      drawBar();
    },
    end(mark, _event, moved) {
      moving = null;
      letGoAt = performance.now();
      if (mark.key === "sea") {
        if (moved) setSea(mark.z);
      } else if (moved) {
        expect("levels", mark.key, { elevation_m: mark.z });
        ask(`/api/worlds/${state.world.id}/levels/${mark.key}`, "PATCH", { elevation_m: mark.z });
      } else actions["take-level"](mark.z);
    },
    drop() {
      moving = null;
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
bar.addEventListener("keydown", (/** @type {KeyboardEvent} */ event) => {
  const step = { ArrowUp: 0.5, ArrowDown: -0.5, PageUp: 5, PageDown: -5 }[event.key];
  if (!step || !(/** @type {Element} */ (event.target).closest(".sea-mark"))) return;
  event.preventDefault();
  event.stopPropagation();
  setSea(state.world.sea_level_m + step).then(() => bar.querySelector(".sea-mark")?.focus());
});
watch(() => `${state.at.levels} ${state.world.sea_level_m}`, drawBar);
new ResizeObserver(drawBar).observe(bar);
for (const what of ["moved", "stale", "all-stale"]) heed(what, () => !state.drawing && askLevels());
watch(
  () => state.drawing,
  (name) => !name && askLevels(),
);
watch(() => state.at.water, askLevels);
