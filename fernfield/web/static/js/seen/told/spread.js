// How values are spread over the land: a histogram as the path of an SVG, and where a limit stands in it.

/** How wide and how tall the picture is. */
export const SPREAD = { wide: 240, tall: 40 };

/** @typedef {{low: number, high: number, counts: number[]}} Values */

/** The outline of a histogram; small counts are seen beside large ones. @param {Values} values */
export function spreadPath({ counts }) {
  if (!counts.length) return "";
  const most = Math.max(1, ...counts);
  const { wide, tall } = SPREAD;
  // A step goes up before it goes along.
  const steps = counts.map(
    (count, k) => `V${tall - Math.sqrt(count / most) * (tall - 2)}H${((k + 1) / counts.length) * wide}`,
  );
  return `M0 ${tall}${steps.join("")}V${tall}Z`;
}

/** Where a value stands, from 0 to the width of the picture. @param {Values} values @param {number} value */
export const spreadAt = ({ low, high }, value) =>
  Math.min(SPREAD.wide, Math.max(0, ((value - low) / (high - low)) * SPREAD.wide));

/** A figure at an end of it. @param {number} value */
export const spreadFigure = (value) => Number(value.toPrecision(3)).toLocaleString("en");
