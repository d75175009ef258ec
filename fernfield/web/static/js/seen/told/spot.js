// The facts of the spot under the cursor: the line below the map.
import { figure, id, signed } from "../../kernel/shapes.js";
import { hears, send } from "../live.js";
import { paneSize, spotAt } from "../drawn/plan.js";
import { announce, grid, heed, state, watch, onlyLight } from "../state.js";

const line = id("spot");

let asked = false;
let again = false;
let askedAt = -1e9;
/** @typedef {import("../../types.js").Answers} Answers */

/** The newest facts.
 * @type {{spot: Answers["SpotTold"] | null, section: Answers["Section"] | null, line: Answers["LineSection"] | null,
 *   levels: Answers["Levels"] | null, volume: string}} */
export const facts = { spot: null, section: null, line: null, levels: null, volume: "" };

/** Where the cursor is or was last: what is shown of it stays true when the pointer has left the map. @type {import("../state.js").Spot | null} */
let last = null;

/** Ask for the facts of the cursor's spot; one question is under way at a time. */
export function askSpot() {
  // Before the pointer has been anywhere, the middle of the map is told of.
  last = state.cursor ?? last ?? spotAt(paneSize()[0] / 2, paneSize()[1] / 2);
  const early = askedAt + (state.drawing || state.walking ? 200 : 25) - performance.now();
  if (asked || early > 0) {
    again = true;
    if (!asked) setTimeout(() => again && askSpot(), early);
    return;
  }
  again = false;
  askedAt = performance.now();
  const whole = state.view === "overlook" || state.view === "eye";
  const left = whole ? grid.west : spotAt(0, 0).x;
  const right = whole ? grid.east : spotAt(paneSize()[0], 0).x;
  asked = send({
    is: "spot",
    x: last.x,
    y: last.y,
    x0: left,
    x1: right,
    section: state.section && !state.section_line,
    tide: state.show.tide || null,
  });
  if (asked) setTimeout(() => (asked = false), 1000);
}

hears("spot", (message) => {
  asked = false;
  facts.spot = message.spot;
  if (message.section) facts.section = message.section;
  showSpot();
  announce("facts");
  if (again) {
    again = false;
    askSpot();
  }
});
watch(() => [state.cursor, state.show.tide], askSpot);
hears("connection", (up) => up && askSpot());
heed("stale", (message) => onlyLight(message) || askSpot());
// Whether there is a ghost in the section is known once the revision is made.
hears("revised", askSpot);
heed("moved", () => state.section && askSpot());

/** What is known of a spot, in words. @param {Answers["SpotTold"]} s @returns {string[]} */
export function spotWords(s) {
  return [
    `East ${figure(s.x, 1)}, north ${figure(s.y, 1)}`,
    `${figure(s.elevation_m, 2)} metres, ${signed(s.over_sea_m)} over the sea`,
    s.water_depth_m > 0 ? `under ${s.water_depth_m.toFixed(2)} metres of water` : "",
    `slope ${s.slope_deg.toFixed(1)} degrees`,
    coversOf(s).join(" "),
    s.growth_within_10_m ? `${s.growth_within_10_m} plants within 10 metres` : "",
    s.plots.length ? `in ${s.plots.join(", ")}` : "",
  ].filter(Boolean);
}

/** @param {Answers["SpotTold"]} s @returns {string[]} */
const coversOf = (s) =>
  Object.entries(s.covers)
    .filter(([, share]) => share >= 0.005)
    .sort((a, b) => b[1] - a[1])
    .map(([name, share]) => `${name} ${Math.round(share * 100)}`);

function showSpot() {
  const s = facts.spot;
  const em = (/** @type {string} */ text) => Object.assign(document.createElement("em"), { textContent: text });
  if (!s) {
    line.replaceChildren(em("Move over the map to read a spot."));
    return;
  }
  const spans = [
    ["", `E ${figure(s.x, 1)} N ${figure(s.y, 1)}`, ""],
    ["", `${figure(s.elevation_m, 2)} m`, `(${signed(s.over_sea_m)} over sea)`],
    s.water_depth_m > 0 ? ["depth", `${s.water_depth_m.toFixed(2)} m`, ""] : null,
    ["slope", `${s.slope_deg.toFixed(1)}° ${s.slope_percent.toFixed(0)} %`, s.walk],
    ["cover", coversOf(s).join(" "), ""],
    ["growth", `${s.growth_within_10_m} within 10 m`, ""],
    s.plots.length ? ["in", s.plots.map((/** @type {string} */ name) => `“${name}”`).join(", "), ""] : null,
  ];
  line.replaceChildren(
    ...spans.flatMap((found) => {
      if (!found) return [];
      const [before, words, after] = found;
      const span = document.createElement("span");
      span.append(...(before ? [em(`${before} `)] : []), words, ...(after ? [em(` ${after}`)] : []));
      return [span];
    }),
  );
  const depth = /** @type {HTMLElement | null} */ (document.querySelector("[data-depth]"));
  if (depth) {
    depth.hidden = s.water_depth_m <= 0;
    depth.textContent = `Depth under the cursor: ${s.water_depth_m.toFixed(2)} m`;
  }
}
