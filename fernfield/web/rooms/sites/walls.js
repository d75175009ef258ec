// Walls: lines of an entry of the kit, drawn on the plan, with gates and posts.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { openTab } from "/static/js/seen/bench.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { row } from "/static/js/seen/rows.js";
import { state } from "/static/js/seen/state.js";
import { choice, choose, path } from "./choosing.js";
import { entryOf, kit } from "./kit.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */

const rounded = (/** @type {number} */ value) => Math.round(value * 1000) / 1000;

/** Draw a wall of the entry in the hand. */
export function drawWall() {
  const entry = entryOf(state.place);
  if (!entry) {
    say("Take an entry of the kit first: the wall is made of that.", "calm");
    return;
  }
  drawOutline("line", async (points) => {
    const [x, y] = points[0];
    const own = points.map(([east, north]) => [rounded(east - x), rounded(north - y)]);
    const said = { sort: "wall", kit: entry.key, x, y, points: own, tract: state.world.tract };
    const made = await ask(`${path}?in=world`, "POST", said);
    if (!made) return;
    state.place = null;
    choose([made.key]);
    openTab("sites", "chosen");
  });
}

/** How far along a wall the place is that lies nearest to a spot. [m] @param {Row} wall @param {number[]} spot */
function farAlong(wall, [x, y]) {
  const turn = (wall.turn_deg * Math.PI) / 180;
  const [east, north] = [x - wall.x, y - wall.y];
  const [right, ahead] = [
    east * Math.cos(turn) - north * Math.sin(turn),
    east * Math.sin(turn) + north * Math.cos(turn),
  ];
  const ends = wall.closed ? [...wall.points, wall.points[0]] : wall.points;
  let [best, nearest, before] = [0, Number.POSITIVE_INFINITY, 0];
  for (let k = 1; k < ends.length; k += 1) {
    const [[ax, ay], [bx, by]] = [ends[k - 1], ends[k]];
    const long = Math.hypot(bx - ax, by - ay);
    if (!long) continue;
    const on = Math.min(1, Math.max(0, ((right - ax) * (bx - ax) + (ahead - ay) * (by - ay)) / long ** 2));
    const away = Math.hypot(right - ax - on * (bx - ax), ahead - ay - on * (by - ay));
    if (away < nearest) [best, nearest] = [before + on * long, away];
    before += long;
  }
  return best;
}

/** @returns {any} the wall that is chosen alone */
const chosen = () => {
  const own = choice.keys.length === 1 ? row("things", choice.keys[0]) : null;
  return own?.sort === "wall" ? own : null;
};
const set = (/** @type {Record<string, any>} */ said) => ask(`${path}/${chosen().key}?in=world`, "PATCH", said);

Alpine.data("wall", () => ({
  gate: "gateway",
  get entries() {
    return Object.values(kit.all)
      .filter((one) => one.meets !== "pad")
      .map((one) => ({ key: one.key, label: one.label }));
  },
  get corner() {
    return chosen()?.corner ?? "";
  },
  get gates() {
    const own = /** @type {{at_m: number, kit: string}[]} */ (chosen()?.gates ?? []);
    return own.map((one, at) => {
      const words = `${entryOf(one.kit)?.label ?? one.kit} at ${one.at_m.toFixed(1)} m`;
      return { at, words, drop: `Take away: ${words}` };
    });
  },
  get length() {
    const own = chosen();
    return own ? `${own.members.length} pieces` : "";
  },
  /** @param {Event} event */
  setCorner(event) {
    set({ corner: /** @type {HTMLSelectElement} */ (event.target).value || null });
  },
  /** @param {Event} event */
  setGate(event) {
    this.gate = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  addGate() {
    const own = chosen();
    if (!own) return;
    drawOutline("place", ([spot]) => {
      const now = chosen();
      if (now?.key !== own.key) return;
      set({ gates: [...now.gates, { at_m: rounded(farAlong(now, spot)), kit: this.gate }] });
    });
  },
  /** @param {Event} event */
  dropGate(event) {
    const at = Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.at);
    set({ gates: chosen().gates.toSpliced(at, 1) });
  },
}));
