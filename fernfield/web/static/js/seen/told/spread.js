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

/** By what a value is multiplied to be shown: shares of 1 are shown, and typed, in percent. @param {{percent?: boolean} | undefined} what */
export const scaleOf = (what) => (what?.percent ? 100 : 1);
/** What is typed, as the API has it; null for nothing. @param {number | null} typed @param {{percent?: boolean} | undefined} what */
export const unscaled = (typed, what) => (typed === null ? null : typed / scaleOf(what));
/** A value as it is shown; empty for none. @param {unknown} value @param {{percent?: boolean} | undefined} what */
export const scaled = (value, what) =>
  value === null || value === undefined || value === "" ? "" : Math.round(Number(value) * scaleOf(what) * 1e6) / 1e6;
