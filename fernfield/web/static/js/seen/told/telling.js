// What is read out of the world, and what its pictures are called: strokes, undo, stages, tools, jobs, and what is in view.
import { capital, figure, id, volumeWords } from "../../kernel/shapes.js";
import { tell } from "../../kernel/tell.js";
import { hears } from "../live.js";
import { postsInView } from "../drawn/plan.js";
import { facts } from "./spot.js";
import { row } from "../rows.js";
import { boot, brush, grid, heed, lays, state, TOOLS, unitOf, watch } from "../state.js";

// What was done

/** Strokes of this page that have ended, and whose volumes are still to come. */
let ownStrokes = 0;
watch(
  () => state.drawing,
  (name) => name === "" && state.line !== "kept" && (ownStrokes += 1),
);
hears("revised", (message) => {
  // A stroke of one's own is told with its volumes, once.
  if (ownStrokes === 0) tell(`${capital(message.words)}: r${message.number} kept`);
});
hears("ended", (message) => {
  ownStrokes = Math.max(0, ownStrokes - 1);
  const volumes = volumeWords(message);
  tell(`${TOOLS[lastTool]?.label ?? "Stroke"}: r${message.revision} kept${volumes ? `, ${volumes}` : ""}`);
});
hears("error", () => {
  ownStrokes = 0;
});
let lastTool = "";
watch(
  () => state.drawing,
  (name) => {
    if (!name) return;
    lastTool = name;
    tell(`${TOOLS[name].label} is down`);
  },
);

// Where one is

heed("panel", () => tell(`${capital(state.stage)} stage${state.tool ? `, tool ${TOOLS[state.tool].label}` : ""}`));
watch(
  () => `${state.stage} ${state.tool}`,
  () => state.shows === state.stage && state.tool && tell(`${TOOLS[state.tool].label}: ${TOOLS[state.tool].words}`),
);
/** What a person calls a row. @param {string} chosen */
function titleOf(chosen) {
  const [name, key] = chosen.split("/");
  const own = row(name, key);
  const one = boot.collections.find((each) => each.name === name)?.one ?? "";
  const words = own?.name || own?.text?.split("\n")[0] || own?.title || key;
  return `${words}${one && !words.toLowerCase().includes(one) ? `, ${one},` : ""}`;
}
watch(
  () => state.chosen,
  (now) => tell(now ? `${titleOf(now)} is chosen` : "Nothing is chosen"),
);
watch(
  () => state.place,
  (now) => now && tell("A click, or Enter, puts it on the map; Esc lets go"),
);
watch(
  () => state.view,
  (view) => view !== "eye" && tell(`${capital(view === "both" ? "plan and overlook" : view)} shown`),
);
watch(
  () => state.past,
  (number) => tell(number === null ? "The present is shown" : `Revision ${number} is shown`),
);
watch(
  () => state.line,
  (line) => line === "lost" && tell("The line to the server is lost"),
);

// What the pictures show, in words

/** What the tool would do now. */
function toolWords() {
  const own = brush();
  if (!own || !state.tool) return "no tool";
  const tool = `tool ${TOOLS[state.tool].label}`;
  if (lays()) return tool;
  const strength = state.timed ? `, ${Math.round(own.strength * 10) / 10} ${unitOf(state.tool)}` : "";
  return `${tool}, radius ${Math.round(own.radius * 10) / 10} metres${strength}`;
}

/** The elevations in view, as far as the bars of the histogram tell them. */
export function levelWords() {
  const levels = facts.levels;
  if (!levels) return "";
  const step = (levels.top_m - levels.bottom_m) / levels.counts.length;
  const first = levels.counts.findIndex((count) => count > 0);
  const last = levels.counts.findLastIndex((/** @type {number} */ count) => count > 0);
  return `, elevations from ${figure(levels.bottom_m + first * step, 1)} to ${figure(levels.bottom_m + (last + 1) * step, 1)} metres`;
}

function describe() {
  const [row0, col0, row1, col1] = postsInView();
  const [wide, deep] = [(col1 - col0) * grid.spacing, (row1 - row0) * grid.spacing];
  const range = levelWords();
  const seen = `${Math.round(wide)} by ${Math.round(deep)} metres in view${range}; sea at ${figure(state.world.sea_level_m, 2)} metres; ${toolWords()}`;
  id("flat").setAttribute(
    "aria-description",
    `${seen}. Arrows move the crosshair, Space holds the tool down, Enter sets.`,
  );
  id("look").setAttribute("aria-description", `${seen}. Arrows move the crosshair, comma and full stop turn the view.`);
}
let timer = 0;
function soon() {
  clearTimeout(timer);
  timer = setTimeout(describe, 200);
}
for (const what of ["moved", "stale", "all-stale", "levels"]) heed(what, soon);
watch(() => `${state.tool} ${JSON.stringify(brush())} ${state.world.sea_level_m}`, soon);
soon();
