// What lies on the map as a list: tracts, and whatever of the world has a place. Choosing one brings the crosshair there.
import { capital } from "../../kernel/shapes.js";
import Alpine from "../../kernel/alpine.js";
import { goThere } from "../hands/cursor.js";
import { rows } from "../rows.js";
import { boot, seenTracts, state } from "../state.js";

/** How many rows of a sort are listed. */
const MOST = 60;

/** The middle of a row that has a place, or null. @param {import("../rows.js").Row} row @returns {import("../state.js").Spot | null} */
function middleOf(row) {
  if (typeof row.x === "number" && typeof row.y === "number") return row;
  const points = row.points;
  if (!Array.isArray(points) || !points.length) return null;
  const mean = (/** @type {number} */ k) =>
    points.reduce((/** @type {number} */ sum, /** @type {number[]} */ p) => sum + p[k], 0) / points.length;
  return { x: mean(0), y: mean(1) };
}

/** Every place by its key. @type {Map<string, import("../state.js").Spot>} */
const spots = new Map();

/** @param {string} title @param {{key: string, name: string, spot: import("../state.js").Spot}[]} found */
function group(title, found) {
  for (const one of found) spots.set(`${title}/${one.key}`, one.spot);
  return {
    title,
    rows: found.slice(0, MOST).map(({ key, name, spot }) => ({
      key: `${title}/${key}`,
      name,
      at: `E ${Math.round(spot.x)} N ${Math.round(spot.y)}`,
    })),
    more: Math.max(0, found.length - MOST),
  };
}

Alpine.data("places", () => ({
  get groups() {
    const tracts = seenTracts.map((t) => ({
      key: t.id,
      name: t.name,
      spot: { x: t.x + ((t.cols - 1) * t.spacing_m) / 2, y: t.y + ((t.rows - 1) * t.spacing_m) / 2 },
    }));
    const others = boot.collections
      .filter((one) => !one.only && one.name !== "tracts")
      .map((one) =>
        group(
          capital(one.name),
          rows(one.name).flatMap((row) => {
            const spot = row.name || row.text ? middleOf(row) : null;
            return spot ? [{ key: row.key, name: row.name || row.text.split("\n")[0], spot }] : [];
          }),
        ),
      );
    return [group("Tracts", tracts), ...others].filter((one) => one.rows.length > 0);
  },
  /** @param {Event} event */
  visit(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.placeOf || "";
    const [title, of] = key.split("/");
    if (title.toLowerCase() in state.at) state.chosen = `${title.toLowerCase()}/${of}`;
    const spot = spots.get(key);
    if (spot) goThere(spot);
  },
}));
