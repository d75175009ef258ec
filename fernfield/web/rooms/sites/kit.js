// The kit on the bench: entries with their small models, found as one types, kept as favourites, and those used last.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, reach } from "/static/js/kernel/say.js";
import { paintModel, paintPerson, PERSON_M } from "/static/js/seen/drawn/model.js";
import { fetchRows, row, rows } from "/static/js/seen/rows.js";
import { boot, state, watch } from "/static/js/seen/state.js";

/** @typedef {import("/static/js/types.js").Answers["EntryTold"]} Entry */

const base = `/api/worlds/${state.world.id}`;
const CORNER = 9;
/** How many entries were used last and are remembered. */
const MOST_LAST = 6;
const kept = JSON.parse(localStorage.getItem("fern.kit") || "{}");

/** Every entry by its key; what is typed to find some; favourites, and those used last. */
export const kit = Alpine.reactive({
  all: /** @type {Record<string, Entry>} */ (boot.kit),
  find: "",
  folder: "",
  liked: /** @type {string[]} */ (kept.liked ?? []),
  last: /** @type {string[]} */ (kept.last ?? []),
  /** Counts up whenever the kit is another. */
  turns: 0,
});
const keepKit = () => localStorage.setItem("fern.kit", JSON.stringify({ liked: kit.liked, last: kit.last }));

/** @param {string | null | undefined} key @returns {Entry | undefined} */
export const entryOf = (key) => kit.all[key ?? ""];
/** The same for what goes through thousands: nothing is asked again when the kit changes. @param {string | null | undefined} key @returns {Entry | undefined} */
export const drawnEntry = (key) => Alpine.raw(Alpine.raw(kit).all)[key ?? ""];

// What people made of the kit comes and goes with revisions; so does how placed assemblies are told.
watch(
  () => [state.at.kit, state.at.assemblies],
  async () => {
    const found = await ask(`${base}/kit`);
    if (found) kit.all = Object.fromEntries(found.map((/** @type {Entry} */ one) => [one.key, one]));
    kit.turns += 1;
    await fetchRows("things");
  },
);

/** An entry was used. @param {string} key */
export function used(key) {
  kit.last = [key, ...kit.last.filter((one) => one !== key)].slice(0, MOST_LAST);
  keepKit();
}

/** How large it is, in words that can be found. @param {Entry} one */
const sizeWords = (one) => {
  const largest = Math.max(one.width, one.depth, one.height);
  return largest < 2 ? "small" : largest < 6 ? "middling" : "large";
};
/** What stands in an entry to be found. @param {Entry} one */
const toldOf = (one) =>
  [
    one.label,
    one.key,
    one.folder,
    ...one.tags,
    [one.width, one.depth, one.height].map((side) => side.toFixed(0)).join("x"),
    sizeWords(one),
  ]
    .join(" ")
    .toLowerCase();

/** Entries in which every word stands. @param {string} words @param {string} folder */
export function found(words, folder) {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  return Object.values(kit.all).filter(
    (one) => (!folder || one.folder === folder) && wanted.every((word) => toldOf(one).includes(word)),
  );
}

// Small models

/** Triangles by their paths. @type {Map<string, Promise<Float32Array | null>>} */
const shapes = new Map();

/** @param {string} path @returns {Promise<Float32Array | null>} */
export function shapeOf(path) {
  let asked = shapes.get(path);
  if (!asked) {
    asked = reach(path, {}, { calm: true }).then(async (answer) =>
      answer?.ok ? new Float32Array(await answer.arrayBuffer()) : null,
    );
    shapes.set(path, asked);
    asked.then((shape) => shape ?? shapes.delete(path));
  }
  return asked;
}

/** The path of an entry's triangles. @param {string} key @param {{detail?: number, look?: string | null, tint?: string | null}} [how] */
export function shapePath(key, { detail = 2, look = null, tint = null } = {}) {
  const query = new URLSearchParams({ detail: String(detail) });
  if (look) query.set("look", look);
  if (tint) query.set("tint", tint);
  // What people made may change: its path does then.
  const own = entryOf(key);
  if (own && !own.shipped) query.set("of", `${own.width}-${own.depth}-${own.height}-${own.colour}-${own.looks.length}`);
  return `${base}/kit/${key}/shape?${query}`;
}

/** What is painted: its size, and its triangles. @typedef {{entry: {width: number, depth: number, height: number}, corners: Float32Array}} Model */

/** How an entry looks, or the first way of an assembly. @param {string} key with a + before that of an assembly @param {{look?: string | null, tint?: string | null}} [how] @returns {Promise<Model | null>} */
async function modelOf(key, how) {
  if (!key.startsWith("+")) {
    const [entry, corners] = [entryOf(key), await shapeOf(shapePath(key, { detail: 1, ...how }))];
    return entry && corners ? { entry, corners } : null;
  }
  /** @type {any[]} */
  const members = row("assemblies", key.slice(1))?.ways[0].members ?? [];
  const parts = await Promise.all(
    members.map(({ kit, look, tint }) => shapeOf(shapePath(kit, { detail: 0, look, tint }))),
  );
  const own = members.map((one, k) => ({ one, corners: parts[k] ?? new Float32Array() }));
  const corners = new Float32Array(own.reduce((sum, part) => sum + part.corners.length, 0));
  const [low, high] = [
    [Infinity, Infinity, 0],
    [-Infinity, -Infinity, 0],
  ];
  let at = 0;
  for (const { one, corners: from } of own) {
    const angle = (one.turn_deg * Math.PI) / 180;
    const [cos, sin] = [Math.cos(angle), Math.sin(angle)];
    for (let i = 0; i < from.length; i += CORNER, at += CORNER) {
      const [x, y, z, east, north] = from.subarray(i, i + 5);
      corners.set(from.subarray(i, i + CORNER), at);
      corners.set([one.x + (x * cos + y * sin) * one.size, one.y + (y * cos - x * sin) * one.size], at);
      corners.set([one.over_m + z * one.size, east * cos + north * sin, north * cos - east * sin], at + 2);
      for (const k of [0, 1, 2]) {
        low[k] = Math.min(low[k], corners[at + k]);
        high[k] = Math.max(high[k], corners[at + k]);
      }
    }
  }
  // About its middle.
  for (let i = 0; i < corners.length; i += CORNER) for (const k of [0, 1]) corners[i + k] -= (low[k] + high[k]) / 2;
  const [width, depth, height] = high.map((most, k) => most - low[k]);
  return corners.length ? { entry: { width, depth, height }, corners } : null;
}

const THREE_QUARTERS = 0.62;
const ABOVE = 0.42;

/** Draw an entry into a canvas, turned, beside a person where there is room. @param {HTMLCanvasElement} canvas @param {Model} model @param {number} turn */
function paint(canvas, { entry, corners }, turn) {
  const pen = canvas.getContext("2d");
  if (!pen) return;
  const ratio = window.devicePixelRatio || 1;
  const [width, height] = [canvas.clientWidth || canvas.width, canvas.clientHeight || canvas.height];
  if (canvas.width !== width * ratio) Object.assign(canvas, { width: width * ratio, height: height * ratio });
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  pen.clearRect(0, 0, width, height);
  const round = Math.hypot(entry.width, entry.depth);
  const tall = Math.max(entry.height, PERSON_M) * Math.cos(ABOVE) + round * Math.sin(ABOVE);
  const scale = Math.min((height - 5) / tall, (width - 4) / (round + 1.4));
  const ground = height - 3 - (round / 2) * Math.sin(ABOVE) * scale;
  const middle = 2 + (round / 2) * scale + 2;
  paintModel(pen, corners, { stride: CORNER, scale, middle, ground, turn, above: ABOVE });
  paintPerson(pen, Math.min(middle + (round / 2 + 0.7) * scale, width - 3), ground + 2, scale);
}

/** @type {Map<HTMLCanvasElement, {model: Model, turn: number}>} */
const turning = new Map();
let frame = 0;
let before = 0;
const still = window.matchMedia("(prefers-reduced-motion: reduce)");

/** @param {number} now */
function turnAll(now) {
  frame = 0;
  const step = Math.min(now - before, 100) / 1000;
  before = now;
  for (const [canvas, one] of turning) {
    if (!canvas.isConnected) {
      turning.delete(canvas);
      continue;
    }
    one.turn += step * 1.1;
    paint(canvas, one.model, one.turn);
  }
  if (turning.size) frame = requestAnimationFrame(turnAll);
}

/** Show an entry in a canvas. @param {HTMLCanvasElement} canvas @param {string} key @param {{look?: string | null, tint?: string | null}} [how] */
export async function showModel(canvas, key, how) {
  const shows = JSON.stringify([key, how]);
  canvas.dataset.shows = shows;
  const model = await modelOf(key, how);
  if (!model || canvas.dataset.shows !== shows) return;
  const own = turning.get(canvas);
  if (own) own.model = model;
  else paint(canvas, model, THREE_QUARTERS);
  canvas.dataset.drawn = key;
}

/** Turn a model while it is pointed at, or has the focus. @param {HTMLCanvasElement | null} canvas @param {boolean} on */
export async function turnModel(canvas, on) {
  const key = canvas?.dataset.kit;
  if (!canvas || !key) return;
  const model = await modelOf(key);
  if (!model) return;
  if (on && !still.matches) {
    turning.set(canvas, { model, turn: turning.get(canvas)?.turn ?? THREE_QUARTERS });
    before = performance.now();
    frame ||= requestAnimationFrame(turnAll);
  } else {
    turning.delete(canvas);
    paint(canvas, model, THREE_QUARTERS);
  }
}

/** A line of the library. @typedef {{key: string, place: string, label: string, words: string, resource: boolean, liked: boolean, like: string, model: string}} Line */

Alpine.data("kit", () => ({
  get find() {
    return kit.find;
  },
  get folder() {
    return kit.folder;
  },
  get folders() {
    return [...new Set(Object.values(kit.all).map((one) => one.folder))].sort();
  },
  /** What is found: favourites first, then those used last, then by folder. @returns {Line[]} */
  get lines() {
    const rank = (/** @type {Entry} */ one) =>
      kit.liked.includes(one.key)
        ? 0
        : kit.last.includes(one.key) && !kit.find
          ? 1 + kit.last.indexOf(one.key) / 10
          : 2;
    const some = found(kit.find, kit.folder);
    some.sort((a, b) => rank(a) - rank(b) || a.folder.localeCompare(b.folder) || a.label.localeCompare(b.label));
    return some.map((one) => ({
      key: one.key,
      place: one.key,
      label: one.label,
      words: `${tidy(one.width)} × ${tidy(one.depth)} × ${tidy(one.height)} m`,
      resource: one.resource,
      liked: kit.liked.includes(one.key),
      like: `${kit.liked.includes(one.key) ? "No favourite any more" : "A favourite"}: ${one.label}`,
      model: `${one.key}/${one.width}/${one.height}/${one.colour}`,
    }));
  },
  get assemblies() {
    const wanted = kit.find.toLowerCase().split(/\s+/).filter(Boolean);
    return rows("assemblies")
      .filter((one) => {
        const told = [one.name, one.folder, ...one.tags].join(" ").toLowerCase();
        return (!kit.folder || one.folder === kit.folder) && wanted.every((word) => told.includes(word));
      })
      .map((one) => ({
        key: one.key,
        place: `+${one.key}`,
        model: `+${one.key}/${JSON.stringify(one.ways[0].members)}`,
        label: one.name,
        words: `${one.ways[0].members.length} pieces${one.ways.length > 1 ? `, ${one.ways.length} ways` : ""}`,
      }));
  },
  get counted() {
    const count = this.lines.length + this.assemblies.length;
    return count === 1 ? "1 entry" : `${count} entries`;
  },
  /** @param {Event} event */
  type(event) {
    kit.find = /** @type {HTMLInputElement} */ (event.target).value;
  },
  /** @param {Event} event */
  openFolder(event) {
    kit.folder = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  /** @param {Event} event */
  like(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.like || "";
    kit.liked = kit.liked.includes(key) ? kit.liked.filter((one) => one !== key) : [...kit.liked, key];
    keepKit();
  },
  /** @param {Event} event */
  take(event) {
    const name = /** @type {HTMLElement} */ (event.currentTarget).dataset.place || null;
    state.place = state.place === name ? null : name;
    if (state.place) used(state.place);
  },
  /** A canvas of a line shows its model. */
  model() {
    const canvas = /** @type {HTMLCanvasElement} */ (/** @type {any} */ (this).$el);
    const key = canvas.dataset.kit;
    void kit.all;
    if (key) showModel(canvas, key);
  },
  /** @param {Event} event */
  turn(event) {
    const on = event.type === "pointerenter" || event.type === "focusin";
    turnModel(/** @type {HTMLElement} */ (event.currentTarget).querySelector("canvas"), on);
  },
}));

/** @param {number} value */
const tidy = (value) => Number(value.toPrecision(value < 10 ? 2 : 3));
