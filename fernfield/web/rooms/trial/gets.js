// Who gets where: overlays for a walker, and ways between two places, drawn on the plan with their figures.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { each } from "/static/js/seen/rows.js";
import { coloured, colourBy, showAnew, state, watch } from "/static/js/seen/state.js";

/** @typedef {{points: [number, number][], seconds: number, length_m: number, climb_m: number, steepest_deg: number, steepest_at: [number, number]}} Way */

/** @typedef {import("/static/js/api.js").components["schemas"]["NarrowsTold"]} Narrows */

const known = Alpine.reactive({
  way: /** @type {Way | null} */ (null),
  by: "time",
  narrows: /** @type {Narrows | null} */ (null),
});
const RUST = "#a2431f";

const walkerOf = () => state.show.walker ?? "person";
const clock = (/** @type {number} */ seconds) =>
  `${Math.floor(seconds / 60)} min ${String(Math.round(seconds % 60)).padStart(2, "0")} s`;

addMark((context) => {
  const { way } = known;
  if (state.stage !== "trial" || !way) return;
  context.beginPath();
  for (const [x, y] of way.points) context.lineTo(...screenAt(x, y));
  context.lineWidth = 4;
  context.strokeStyle = "#faf8f1";
  context.stroke();
  context.lineWidth = 2.2;
  context.strokeStyle = RUST;
  context.stroke();
  const [x, y] = screenAt(...way.steepest_at);
  context.beginPath();
  context.moveTo(x, y - 7);
  context.lineTo(x + 6, y + 4);
  context.lineTo(x - 6, y + 4);
  context.closePath();
  context.fillStyle = "#faf8f1";
  context.fill();
  context.stroke();
});

// Each passage with a bar across it.
addMark((context) => {
  const { narrows } = known;
  if (state.stage !== "trial" || !narrows || narrows.open) return;
  for (const { line } of narrows.passages) {
    const [[ax, ay], [bx, by]] = line.map(([x, y]) => screenAt(x, y));
    const long = Math.hypot(bx - ax, by - ay) || 1;
    const [dx, dy] = long > 1 ? [(6 * (bx - ax)) / long, (6 * (by - ay)) / long] : [6, 0];
    for (const [width, ink] of /** @type {[number, string][]} */ ([
      [6, "#faf8f1"],
      [3, "#5a1f3d"],
    ])) {
      context.beginPath();
      context.moveTo(ax - dx, ay - dy);
      context.lineTo(bx + dx, by + dy);
      context.lineWidth = width;
      context.strokeStyle = ink;
      context.stroke();
    }
  }
});

/** Overlays that say something else everywhere when something changes anywhere. */
const EVERYWHERE = ["minutes", "cut_off"];
watch(
  () => (EVERYWHERE.includes(coloured()) ? state.world.revision : 0),
  (revision) => revision && showAnew(),
);

async function sought(/** @type {number[]} */ from, /** @type {number[]} */ to) {
  const body = { walker: walkerOf(), from, to, by: known.by };
  known.way = await ask(`/api/lands/${state.world.tract}/ways`, "POST", body);
  drawOverlay();
}

Alpine.data("gets", () => ({
  get walker() {
    return walkerOf();
  },
  get shown() {
    return coloured();
  },
  get words() {
    void state.at.things;
    if (![...each("things")].some((one) => one.sort === "start"))
      return "There is no start yet: place one on the Sites stage.";
    if (this.shown === "minutes") return "Plum where it takes ten minutes or more; without colour where nobody gets.";
    if (this.shown === "cut_off") return "Plum is ground that is not reached; half of it a trap.";
    return "From the default start, laid over the plan.";
  },
  get way() {
    return known.way !== null;
  },
  get figures() {
    const { way } = known;
    if (!way) return [];
    return [
      { name: "Takes", words: clock(way.seconds) },
      { name: "Runs", words: `${way.length_m.toFixed(0)} m` },
      { name: "Climbs", words: `${way.climb_m.toFixed(1)} m` },
      { name: "Steepest ▵", words: `${way.steepest_deg.toFixed(1)}°` },
    ];
  },
  /** @param {Event} event */
  setWalker(event) {
    state.show.walker = /** @type {HTMLSelectElement} */ (event.target).value;
    showAnew();
  },
  /** @param {Event} event */
  setBy(event) {
    known.by = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  /** @param {Event} event */
  show(event) {
    const name = /** @type {HTMLElement} */ (event.currentTarget).dataset.gets || "";
    colourBy(coloured() === name ? "" : name);
    showAnew();
  },
  seek() {
    say("Click where it begins, then where it ends.", "calm");
    drawOutline("place", ([from]) => drawOutline("place", ([to]) => sought(from, to)));
  },
  async keep() {
    const { way } = known;
    if (!way) return;
    const points =
      way.points.length > 200 ? way.points.filter((_, k) => k % Math.ceil(way.points.length / 199) === 0) : way.points;
    if (await ask(`/api/worlds/${state.world.id}/lines?in=world`, "POST", { name: "Way", points }))
      say("It is kept as a line of the section.", "calm");
  },
  get narrow() {
    return known.narrows !== null;
  },
  get narrowWords() {
    const { narrows } = known;
    if (!narrows) return "";
    if (narrows.open)
      return `Nowhere: the land between is wider than the ${narrows.width_m.toFixed(0)} m around its two ends.`;
    const [first, ...rest] = narrows.passages;
    const many = rest.length
      ? ` at the widest of ${rest.length + 1} passages, ${narrows.width_m.toFixed(1)} m together`
      : " at one passage";
    const closing = narrows.closed_by
      ? ` ${narrows.closed_by.name} (${narrows.closed_by.size_m.toFixed(1)} m) would close it.`
      : "";
    return `${first.width_m.toFixed(1)} m${many}; ${narrows.posts} ways that share nothing.${closing}`;
  },
  seekNarrows() {
    say("Click the two places between which it is sought.", "calm");
    drawOutline("place", ([from]) =>
      drawOutline("place", async ([to]) => {
        known.narrows = await ask(`/api/lands/${state.world.tract}/narrows`, "POST", { walker: walkerOf(), from, to });
        drawOverlay();
      }),
    );
  },
  letGoNarrows() {
    known.narrows = null;
    drawOverlay();
  },
  letGo() {
    known.way = null;
    drawOverlay();
  },
}));
