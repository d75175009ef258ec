// The brush's outline, in metres around its middle, and what is said beside it.
import { boot, brush, lays, state, tool, unitOf } from "../state.js";

/** A bar is this part as wide as it is long; the server says the same. */
const BAR_PART = 1 / 3;

/** East and north of points around a brush; `part` of its full size. @param {Pick<import("../../types.js").Brush, "radius" | "softness" | "shape" | "turn_deg">} own @param {number} part */
export function ringPoints(own, part) {
  const reach = own.radius * part;
  if (own.shape === "round") {
    return Array.from({ length: 72 }, (_, i) => [
      Math.cos((i / 72) * 2 * Math.PI) * reach,
      Math.sin((i / 72) * 2 * Math.PI) * reach,
    ]);
  }
  const wide = own.shape === "bar" ? BAR_PART : 1;
  // Without a fixed turn the outline is drawn as it lies at first.
  const turn = (own.turn_deg * Math.PI) / 180;
  const corners = [
    [-wide, 1],
    [wide, 1],
    [wide, -1],
    [-wide, -1],
    [-wide, 1],
  ];
  const points = [];
  for (let k = 0; k < 4; k += 1) {
    for (let i = 0; i < 18; i += 1) {
      const across = (corners[k][0] + ((corners[k + 1][0] - corners[k][0]) * i) / 18) * reach;
      const ahead = (corners[k][1] + ((corners[k + 1][1] - corners[k][1]) * i) / 18) * reach;
      points.push([
        across * Math.cos(turn) + ahead * Math.sin(turn),
        -across * Math.sin(turn) + ahead * Math.cos(turn),
      ]);
    }
  }
  return points;
}

const round = (/** @type {number} */ value) => String(Math.round(value * 10) / 10);
/** Who climbs a grade that is drawn, in words. @param {string} name */
const climbWords = (name) => `${boot.walkers[name]?.who ?? "nobody"} climbs it`;

/** Radius and strength; while a grade is drawn, its slope and who climbs it. */
export function ringWords() {
  const own = /** @type {import("../../types.js").Brush} */ (brush());
  const done = state.drawing ? state.progress : null;
  const volumes = done
    ? [
        ["cut", done.cut_m3],
        ["fill", done.fill_m3],
      ]
        .filter(([, v]) => v >= 0.5)
        .map(([n, v]) => `${n} ${Math.round(v).toLocaleString("en")} m³`)
    : [];
  const words = [];
  if (done?.percent !== undefined)
    words.push(`${done.percent.toFixed(1)} % over ${Math.round(done.length_m)} m`, climbWords(done.climbs));
  else if (tool() === "grade") words.push(`width ${round(own.own.width_m)} m · drag from end to end`);
  else if (tool() === "imprint") words.push(`${round(own.own.size_m)} m wide · ${round(own.own.height_m)} m`);
  else if (!lays())
    words.push(`r ${round(own.radius)} m`, ...(state.timed ? [`${round(own.strength)} ${unitOf(tool())}`] : []));
  return [...words, ...volumes].join(" · ");
}

/** Colour of a grade by who climbs it: fern, ochre, rust. */
export const climbColour = (/** @type {string} */ climbs) => boot.walkers[climbs]?.colour ?? "#a2431f";
