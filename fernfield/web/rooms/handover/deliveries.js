// Deliveries: what each would hold, made, and whether what is kept of them is still what is on the map.
import Alpine from "/static/js/kernel/alpine.js";
import { ask } from "/static/js/kernel/say.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { addMark, drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { choose } from "/static/js/seen/hands/placed.js";
import { rows } from "/static/js/seen/rows.js";
import { actions, heed, seenTracts, state, watch } from "/static/js/seen/state.js";

/** @typedef {import("/static/js/api.js").components["schemas"]} Told */

const base = `/api/worlds/${state.world.id}`;
const known = Alpine.reactive({
  every: /** @type {Told["DeliveryTold"][]} */ ([]),
  key: "",
  summary: /** @type {Told["SummaryTold"] | null} */ (null),
  packages: /** @type {any[]} */ ([]),
  changed: "",
  since: /** @type {Told["SinceTold"] | null} */ (null),
});

async function fetchAll() {
  const [every, packages] = await Promise.all([ask(`${base}/deliveries`, "GET"), ask(`${base}/packages`, "GET")]);
  known.every = /** @type {Told["DeliveryTold"][]} */ (every ?? []);
  known.packages = /** @type {any[]} */ (packages ?? []);
}
async function look() {
  const { key } = known;
  known.summary = null;
  if (!key) return;
  const told = /** @type {Told["SummaryTold"] | null} */ (await ask(`${base}/deliveries/${key}/summary`, "GET"));
  if (known.key === key) known.summary = told;
}
const shows = () => state.stage === "handover" && state.tabs.handover === "deliveries";
// They follow what is done to the world, as long as they are looked at.
watch(
  () => (shows() ? state.world.revision + 1 : 0),
  async (revision) => {
    if (!revision) return;
    await fetchAll();
    if (known.key && !known.every.some((one) => one.key === known.key)) known.key = "";
    await look();
  },
);
document.body.addEventListener("htmx:afterSwap", () => {
  const card = /** @type {HTMLElement | null} */ (document.querySelector("#bench [data-job-kind='delivery']"));
  if (card?.dataset.jobState !== "done" || card.dataset.seen) return;
  card.dataset.seen = "yes";
  fetchAll();
});

// What has changed since a package, as a tint on the plan.
addMark((context) => {
  if (!shows() || !known.since) return;
  context.fillStyle = "rgba(162, 67, 31, 0.22)";
  for (const [tract, layers] of Object.entries(known.since.layers)) {
    const own = seenTracts.find((one) => one.id === tract);
    if (!own) continue;
    const tiles = new Set(Object.values(layers).flatMap((windows) => windows.map((one) => one.join())));
    for (const tile of tiles) {
      const [row0, col0, row1, col1] = tile.split(",").map(Number);
      const [east, north] = [
        (/** @type {number} */ col) => own.x + Math.min(col, own.cols - 1) * own.spacing_m,
        (/** @type {number} */ row) => own.y + (own.rows - 1 - Math.min(row, own.rows - 1)) * own.spacing_m,
      ];
      const [x0, y0] = screenAt(east(col0), north(row0));
      const [x1, y1] = screenAt(east(col1), north(row1));
      context.fillRect(x0, y0, x1 - x0, y1 - y0);
    }
  }
});

/** @param {number} bytes */
const sized = (bytes) =>
  bytes >= 1e6 ? `${(bytes / 1e6).toFixed(1)} MB` : bytes ? `${Math.max(1, Math.round(bytes / 1e3))} kB` : "";
const chosen = () => known.every.find((one) => one.key === known.key);

Alpine.data("deliveries", () => ({
  get list() {
    return known.every.map((one) => ({
      key: one.key,
      name: one.name,
      words: one.shipped ? "" : "own",
      chosen: one.key === known.key,
    }));
  },
  get told() {
    return known.summary !== null;
  },
  get files() {
    return (known.summary?.files ?? []).map((one) => ({
      key: one.format,
      words: one.words,
      loses: one.loses,
      count: `${one.files} file${one.files === 1 ? "" : "s"}`,
      size: one.bytes ? `about ${sized(one.bytes)}` : "",
    }));
  },
  get also() {
    const words = (known.summary?.also ?? []).join(", ");
    return words ? `${words[0].toUpperCase()}${words.slice(1)}; and a manifest.` : "";
  },
  get kept() {
    const [first, ...rest] = known.summary?.kept_from ?? [];
    return first ? `It is made only without findings: ${first}${rest.length ? ` And ${rest.length} more.` : ""}` : "";
  },
  get waits() {
    return (known.summary?.kept_from ?? []).length > 0;
  },
  get own() {
    return Boolean(chosenOf("deliveries"));
  },
  /** Every format, and whether this delivery has it: the panel says which there are. */
  get formats() {
    const every = JSON.parse(document.getElementById("delivery-formats")?.dataset.every ?? "{}");
    const own = new Set(/** @type {string[]} */ (chosen()?.formats ?? []));
    return Object.entries(every).map(([key, words]) => ({ key, words, id: `delivery-${key}`, has: own.has(key) }));
  },
  get packages() {
    return known.packages.map((one) => ({
      key: one.key,
      name: `${known.every.find((of) => of.key === one.delivery)?.name ?? one.delivery}, r${one.revision}`,
      href: `${base}/packages/${one.key}.zip`,
      size: sized(one.bytes),
      stale: one.stale,
      words: one.stale ? `The world is at r${state.world.revision}.` : "What is on the map.",
    }));
  },
  get changed() {
    return known.changed;
  },
  /** @param {Event} event */
  choose(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.deliveryKey ?? "";
    known.key = key;
    if (rows("deliveries").some((one) => one.key === key)) choose("deliveries", key);
    else if (chosenOf("deliveries")) state.chosen = null;
    look();
  },
  make() {
    window.htmx.ajax("POST", `${base}/deliveries/${known.key}/make`, { target: "#delivery-job", swap: "afterbegin" });
  },
  /** A new one, as the one that is looked at is. */
  async add() {
    const like = chosen();
    if (!like) return;
    const { key: _key, shipped: _shipped, ...fields } = like;
    const made = await ask(`${base}/deliveries`, "POST", { ...fields, name: `${like.name} 2` });
    if (!made) return;
    known.key = made.key;
    choose("deliveries", made.key);
  },
  /** @param {Event} event */
  async tick(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    const of = /** @type {any} */ (field.dataset.format);
    const formats = (chosen()?.formats ?? []).filter((one) => one !== of);
    if (field.checked) formats.push(of);
    if (!(await ask(`${base}/deliveries/${known.key}`, "PATCH", { formats }))) field.checked = !field.checked;
  },
  /** @param {Event} event */
  async since(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.since;
    known.since = /** @type {Told["SinceTold"] | null} */ (await ask(`${base}/packages/${key}/since`, "GET"));
    const told = known.since;
    if (!told) return;
    const layers = [...new Set(Object.values(told.layers).flatMap((one) => Object.keys(one)))];
    const touched = Object.entries(told.rows).map(([name, keys]) => `${keys.length} of ${name}`);
    known.changed = `Since r${told.revision}: ${[...layers, ...touched].join(", ") || "nothing that is handed over"}.`;
    drawOverlay();
  },
  remove: () => actions.remove(),
}));
heed("panel", () => {
  const form = /** @type {HTMLFormElement | null} */ (document.getElementById("own-delivery"));
  if (form) chosenForm(form, "deliveries");
});
