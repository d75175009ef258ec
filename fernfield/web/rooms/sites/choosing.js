// Choosing what is placed, one or by the hundred, and what is done to all of it: moved, turned, sized, lined up, copied.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { openTab } from "/static/js/seen/bench.js";
import { addMark, drawOverlay, HANDLE } from "/static/js/seen/drawn/overlay.js";
import { metresPerPixel, paneSize, screenAt, spotAt } from "/static/js/seen/drawn/plan.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { drawOutline, within } from "/static/js/seen/hands/outline.js";
import { each, expect, row, rows, settle } from "/static/js/seen/rows.js";
import { actions, inShown, state, watch } from "/static/js/seen/state.js";
import { drawnEntry, entryOf, kit } from "./kit.js";
import { handle, holding, isHidden, placeOf, turningPoint } from "./marks.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */

const path = `/api/worlds/${state.world.id}/things`;
const NEAR = 14;
/** So many are chosen at most. */
const MOST = 20_000;
/** A list shows so many. */
const MOST_LISTED = 60;

/** What is chosen, the last one last; what a choice does to it; about what all is turned; how the list is found and sorted. */
export const choice = Alpine.reactive({
  keys: /** @type {string[]} */ ([]),
  adds: "new",
  about: /** @type {"each" | "last" | "middle" | "point"} */ ("middle"),
  point: /** @type {{x: number, y: number} | null} */ (null),
  find: "",
  sort: "name",
  busy: false,
});
const CHOSEN = "things/";
window.fern.choice = choice;
/** What is chosen as rows, and of which choice and which rows that is. */
const known = { keys: /** @type {string[]} */ ([]), at: -1, rows: /** @type {Row[]} */ ([]) };
/** What is chosen as rows; what has gone is left out. Many ask, of as many as there are. @returns {readonly Row[]} */
export function chosenRows() {
  const keys = Alpine.raw(choice.keys);
  if (known.keys !== keys || known.at !== state.at.things) {
    const some = keys.map((key) => row("things", key)).filter(Boolean);
    Object.assign(known, { keys, at: state.at.things, rows: some });
  }
  return known.rows;
}

/** Choose these and no others. @param {string[]} keys */
export function choose(keys) {
  choice.keys = keys.slice(0, MOST);
  holding.keys = new Set(keys.slice(0, MOST));
  holding.turns += 1;
  const last = choice.keys.at(-1);
  state.chosen = last ? CHOSEN + last : null;
  drawOverlay();
}

/** Add to what is chosen, take from it, or choose anew. @param {string[]} keys @param {string} [adds] @param {boolean} [told] */
export function pick(keys, adds = choice.adds, told = true) {
  const now = new Set(adds === "new" ? [] : Alpine.raw(choice.keys));
  for (const key of keys) {
    // The one that is chosen again is the last one.
    now.delete(key);
    if (adds !== "less") now.add(key);
  }
  choose([...now]);
  if (told && keys.length > 1) say(`${choice.keys.length.toLocaleString("en")} things are chosen.`, "calm");
}

/** Things that have been there. @type {Set<string>} */
const seen = new Set();
// What is chosen elsewhere, or by a finding, is chosen here; what has gone is not any more.
watch(
  () => [state.chosen, state.at.things],
  () => {
    const [name, key] = (state.chosen || "/").split("/");
    const own = name === "things" ? key : "";
    // One that was just placed is told of a moment later: it has not gone.
    const keys = Alpine.raw(choice.keys);
    for (const one of keys) if (row("things", one)) seen.add(one);
    const there = keys.filter((one) => row("things", one) || !seen.has(one));
    if (own && there.at(-1) !== own) choose([own]);
    else if (!own && keys.length && name !== "things") choose([]);
    else if (there.length !== keys.length) choose(there);
  },
);

/** The middle of the box around what is chosen. @param {readonly Row[]} some */
function middleOf(some) {
  const [xs, ys] = [some.map((one) => one.x), some.map((one) => one.y)];
  return { x: (Math.min(...xs) + Math.max(...xs)) / 2, y: (Math.min(...ys) + Math.max(...ys)) / 2 };
}
/** The point that all is turned about. @param {readonly Row[]} some @returns {{x: number, y: number} | null} */
function aboutOf(some) {
  if (!some.length) return null;
  const last = some[some.length - 1];
  if (some.length === 1 || choice.about === "last") return { x: last.x, y: last.y };
  if (choice.about === "point" && choice.point) return choice.point;
  return choice.about === "each" ? { x: last.x, y: last.y } : middleOf(some);
}
/** The same as the API has it. */
const aboutSaid = () =>
  choice.about === "point" ? (choice.point ? [choice.point.x, choice.point.y] : "middle") : choice.about;

/** Change what is chosen. @param {Record<string, any>} said @param {Record<string, any>} [also] */
export async function change(said, also = {}) {
  if (!choice.keys.length || choice.busy) return null;
  choice.busy = true;
  const made = await ask(`${path}?in=world`, "PATCH", { ids: [...choice.keys], change: said, ...also });
  choice.busy = false;
  if (made && said.copied) choose(made.ids);
  return made;
}

// The hand on the plan

/** What the hand has hold of. @type {{how: "move" | "turn", from: {x: number, y: number}, px: number, py: number, moved: boolean} | null} */
let held = null;
let keysDown = { shift: false, alt: false };
window.addEventListener(
  "pointerdown",
  (event) => {
    keysDown = { shift: event.shiftKey, alt: event.altKey || event.ctrlKey || event.metaKey };
  },
  { capture: true },
);

/** Whether a spot lies on a thing, and how near to its middle it is. [px] @param {Row} thing @param {number} px @param {number} py */
function awayFrom(thing, px, py) {
  const [x, y] = screenAt(thing.x, thing.y);
  const away = Math.hypot(px - x, py - y);
  const entry = drawnEntry(thing.kit);
  const reach = entry ? (Math.min(entry.width, entry.depth) / 2) * (thing.size ?? 1) : 0;
  return Math.max(0, away - Math.min(reach / metresPerPixel(), 60));
}

/** @param {number} px @param {number} py @returns {string | null} */
function hit(px, py) {
  let best = null;
  let nearest = NEAR;
  for (const thing of each("things")) {
    if (isHidden(thing)) continue;
    const [x, y] = screenAt(thing.x, thing.y);
    if (Math.abs(px - x) > 120 || Math.abs(py - y) > 120) continue;
    const away = awayFrom(thing, px, py) + Math.hypot(px - x, py - y) / 1000;
    if (away < nearest) [best, nearest] = [thing.key, away];
  }
  return best;
}

/** Whether a pixel is on the handle that turns. @param {number} px @param {number} py */
function onHandle(px, py) {
  const some = chosenRows();
  const about = aboutOf(some);
  if (!about) return false;
  const [x, y] = screenAt(about.x, about.y);
  const turn = ((some.length === 1 ? some[0].turn_deg : 0) * Math.PI) / 180;
  return Math.hypot(px - x - Math.sin(turn) * HANDLE, py - y + Math.cos(turn) * HANDLE) < 9;
}

addHand({
  down(px, py, spot) {
    if (state.stage !== "sites" || state.place) return false;
    if (onHandle(px, py)) {
      held = { how: "turn", from: spot, px, py, moved: false };
      return true;
    }
    const found = hit(px, py);
    if (!found) {
      if (choice.keys.length && choice.adds === "new" && !keysDown.shift) choose([]);
      return false;
    }
    if (keysDown.shift) pick([found], choice.keys.includes(found) ? "less" : "more", false);
    else if (keysDown.alt) pick([found], "less", false);
    else if (choice.adds !== "new") pick([found], choice.adds, false);
    else if (!choice.keys.includes(found)) choose([found]);
    else pick([found], "more", false);
    openTab("sites", "chosen");
    held = { how: "move", from: spot, px, py, moved: false };
    return true;
  },
  move(px, py, spot) {
    if (!held || (!held.moved && Math.hypot(px - held.px, py - held.py) < 4)) return;
    const some = chosenRows();
    const last = some[some.length - 1];
    if (!last) return;
    held.moved = true;
    delete document.getElementById("chosen")?.dataset.typed;
    if (held.how === "move") {
      const to = inShown(snapped({ x: last.x + spot.x - held.from.x, y: last.y + spot.y - held.from.y }));
      Object.assign(holding, { dx: to.x - last.x, dy: to.y - last.y });
    } else {
      const about = aboutOf(some);
      if (!about) return;
      const [x, y] = screenAt(about.x, about.y);
      const bearing = (Math.round((Math.atan2(px - x, y - py) * 180) / Math.PI) + 360) % 360;
      const was = some.length === 1 ? some[0].turn_deg : 0;
      Object.assign(holding, { turn: bearing - was, about, each: choice.about === "each" });
    }
    if (some.length === 1) {
      const place = placeOf(last);
      tellTyped({ x: place.x, y: place.y, turn_deg: ((place.turn % 360) + 360) % 360 });
    }
    drawOverlay();
  },
  async up(keep) {
    const was = held;
    held = null;
    const now = { ...holding };
    const said = was?.how === "turn" ? { turn_by_deg: now.turn, about: aboutSaid() } : { dx_m: now.dx, dy_m: now.dy };
    const some = chosenRows();
    const placed = was?.moved && keep ? some.map((thing) => ({ thing, place: placeOf(thing) })) : [];
    Object.assign(holding, { dx: 0, dy: 0, turn: 0, about: null });
    drawOverlay();
    if (!placed.length) return;
    const asking = change(said);
    for (const { thing, place } of placed) {
      expect("things", thing.key, { x: place.x, y: place.y, turn_deg: ((place.turn % 360) + 360) % 360 });
      settle("things", thing.key, asking);
    }
  },
});

/** The form of the one that is chosen shows where the hand has it. @param {Record<string, number>} said */
function tellTyped(said) {
  const form = document.getElementById("chosen");
  for (const [name, value] of Object.entries(said)) {
    const field = /** @type {HTMLInputElement | null} */ (form?.querySelector(`[name=${name}]`));
    if (field) field.value = String(Math.round(value * 1000) / 1000);
  }
}

/** What the hand snaps to. Set by the placing. @type {{step: number}} */
export const snap = Alpine.reactive({ step: 0 });
/** A spot on the grid that the hand snaps to. @param {{x: number, y: number}} spot */
export const snapped = ({ x, y }) =>
  snap.step > 0 ? { x: Math.round(x / snap.step) * snap.step, y: Math.round(y / snap.step) * snap.step } : { x, y };

addMark((context) => {
  if (state.stage !== "sites" || !choice.keys.length) return;
  const some = chosenRows();
  const about = aboutOf(some);
  if (!about) return;
  const at = { x: about.x + holding.dx, y: about.y + holding.dy };
  handle(context, at, (some.length === 1 ? some[0].turn_deg : 0) + holding.turn);
  if (some.length > 1) turningPoint(context, at);
});
watch(
  () => [choice.about, choice.point, choice.keys.length],
  () => drawOverlay(),
);

// Which are chosen, by what they have in common

/** @param {(thing: Row) => boolean} test */
const those = (test) => [...each("things")].filter((thing) => !isHidden(thing) && test(thing)).map((one) => one.key);
/** What two things of a sort have in common. @param {Row} thing */
const sortOf = (thing) => thing.kit ?? thing.assembly ?? thing.sort;

/** Choose in a box or an outline. @param {"box" | "freehand"} sort */
function chooseIn(sort) {
  drawOutline(sort, (points) => {
    const [xs, ys] = [points.map(([x]) => x), points.map(([, y]) => y)];
    const [x0, y0, x1, y1] = [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
    const inBox = (/** @type {Row} */ { x, y }) => x >= x0 && x <= x1 && y >= y0 && y <= y1;
    pick(those((thing) => inBox(thing) && (sort === "box" || within(points, [thing.x, thing.y]))));
    if (choice.keys.length) openTab("sites", "chosen");
  });
}
actions["choose-box"] = () => chooseIn("box");
actions["drop-things"] = () => change({ drop: true });

/** What is said of a thing that may be sought. @param {Row} thing */
function wordsOf(thing) {
  const entry = drawnEntry(thing.kit);
  const group = thing.group ? row("groups", thing.group)?.name : "";
  const team = thing.team ? `team ${thing.team}` : "";
  return [thing.name, entry?.label, ...(entry?.tags ?? []), thing.sort, team, group].join(" ").toLowerCase();
}
/** @type {Record<string, ((thing: Row) => string) | undefined>} */
const SORTS = {
  name: (one) => one.name,
  kind: (one) => `${sortOf(one)} ${one.name}`,
  team: (one) => `${one.team ?? 9} ${one.name}`,
};
/** All things in their order with their words, of the rows as they were; and those that were found of them. */
const list = {
  of: "",
  all: /** @type {{thing: Row, words: string}[]} */ ([]),
  find: "",
  found: /** @type {Row[]} */ ([]),
};
/** The lines of the list: what is found, sorted. Made while the list is seen. @returns {Row[]} */
function listed() {
  const of = [state.at.things, state.at.groups, kit.turns, choice.sort].join(" ");
  const find = choice.find.toLowerCase();
  if (state.stage !== "sites" || state.tabs.sites !== "list") return [];
  if (list.of !== of) {
    const by = SORTS[choice.sort];
    const order = new Intl.Collator("en", { numeric: true }).compare;
    const all = [...each("things")].map((thing) => ({ thing, words: wordsOf(thing), by: by?.(thing) ?? "" }));
    Object.assign(list, { of, all: by ? all.sort((a, b) => order(a.by, b.by)) : all, find: null });
  }
  if (list.find !== find) {
    const words = find.split(/\s+/).filter(Boolean);
    const found = list.all.filter((one) => words.every((word) => one.words.includes(word)));
    Object.assign(list, { find, found: found.map((one) => one.thing) });
  }
  return list.found;
}
actions["choose-listed"] = () =>
  pick(
    listed().map((one) => one.key),
    "new",
  );

/** Delete all that is chosen. */
async function removeAll() {
  const keys = [...choice.keys];
  if (!keys.length || !(await ask(path, "DELETE", { ids: keys }))) return;
  choose([]);
  const words =
    keys.length === 1
      ? "It is deleted. Undo brings it back."
      : `${keys.length} things are deleted. Undo brings them back.`;
  say(words, "calm");
}
const removeOne = actions.remove;
actions.remove = () => (state.stage === "sites" && choice.keys.length ? removeAll() : removeOne());

const dataOf = (/** @type {Event} */ event, /** @type {string} */ name) =>
  /** @type {HTMLElement} */ (event.currentTarget).dataset[name] || "";

Alpine.data("chosen", () => ({
  get count() {
    void state.at.things;
    return choice.keys.length;
  },
  get none() {
    return !choice.keys.length;
  },
  get several() {
    return choice.keys.length > 1;
  },
  /** The one that is chosen, where it is one. @returns {any} */
  get one() {
    return choice.keys.length === 1 ? row("things", choice.keys[0]) : null;
  },
  get sort() {
    return this.one?.sort ?? "";
  },
  get words() {
    const some = chosenRows();
    if (!some.length) return "Nothing is chosen.";
    if (some.length === 1) return some[0].name;
    const by = new Map();
    for (const thing of some) by.set(sortOf(thing), (by.get(sortOf(thing)) ?? 0) + 1);
    const label = (/** @type {string} */ key) => entryOf(key)?.label ?? row("assemblies", key)?.name ?? key;
    const most = [...by].sort((a, b) => b[1] - a[1]).slice(0, 3);
    return `${some.length.toLocaleString("en")}: ${most.map(([key, count]) => `${count} ${label(key)}`).join(", ")}${by.size > 3 ? " …" : ""}`;
  },
  /** How far the last two that were chosen are from each other. */
  get between() {
    const some = chosenRows();
    if (some.length < 2) return "";
    const [a, b] = some.slice(-2);
    const bearing = ((Math.atan2(b.x - a.x, b.y - a.y) * 180) / Math.PI + 360) % 360;
    return `From ${a.name} to ${b.name}: ${Math.hypot(b.x - a.x, b.y - a.y).toFixed(2)} m at ${bearing.toFixed(1)}°, ${(b.z - a.z).toFixed(2)} m up`;
  },
  get entry() {
    return entryOf(this.one?.kit);
  },
  get looks() {
    return this.entry?.looks ?? [];
  },
  get look() {
    return this.one?.look ?? this.looks[0]?.name;
  },
  get tints() {
    return this.entry?.tints ?? [];
  },
  get fields() {
    const data = this.one?.data ?? {};
    return (this.entry?.fields ?? []).map((one) => ({
      ...one,
      id: `data-${one.name}`,
      range: one.sort === "number" ? `${one.low} to ${one.high} ${one.unit}` : "",
      value: data[one.name] ?? one.first,
    }));
  },
  get locked() {
    return chosenRows().some((one) => one.locked);
  },
  get about() {
    return choice.about;
  },
  get adds() {
    return choice.adds;
  },
  get stands() {
    const base = this.one?.on ? row("things", this.one.on) : null;
    return base ? `Stands on ${base.name}.` : "";
  },
  get ways() {
    const own = this.one?.assembly ? row("assemblies", this.one.assembly) : null;
    return own && own.ways.length > 1
      ? own.ways.map((/** @type {any} */ _, /** @type {number} */ at) => ({ at, label: `Way ${at + 1}` }))
      : [];
  },
  /** @param {Event} event */
  setAbout(event) {
    choice.about = /** @type {any} */ (/** @type {HTMLSelectElement} */ (event.target).value);
    if (choice.about === "point")
      drawOutline("place", ([[x, y]]) => {
        choice.point = { x, y };
      });
  },
  /** @param {Event} event */
  addsTo(event) {
    choice.adds = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  /** @param {Event} event */
  chooseIn(event) {
    chooseIn(/** @type {"box" | "freehand"} */ (dataOf(event, "sort")));
  },
  inView() {
    const [width, height] = paneSize();
    const [low, high] = [spotAt(0, height), spotAt(width, 0)];
    pick(those(({ x, y }) => x >= low.x && x <= high.x && y >= low.y && y <= high.y));
  },
  alike() {
    const sorts = new Set(chosenRows().map(sortOf));
    pick(
      those((thing) => sorts.has(sortOf(thing))),
      "new",
    );
  },
  sameTeam() {
    const teams = new Set(chosenRows().map((one) => one.team));
    pick(
      those((thing) => teams.has(thing.team)),
      "new",
    );
  },
  invert() {
    const now = new Set(choice.keys);
    pick(
      those((thing) => !now.has(thing.key)),
      "new",
    );
  },
  letGo: () => choose([]),
  remove: () => removeAll(),
  /** The form of many: what is typed is done to all, and the form is empty again. @param {Event} event */
  apply(event) {
    const form = /** @type {HTMLFormElement} */ (event.target);
    const fields = /** @type {NodeListOf<HTMLInputElement | HTMLSelectElement>} */ (form.querySelectorAll("[name]"));
    const said = Object.fromEntries(
      [...fields]
        .filter((field) => field.value !== "" && field.value !== field.dataset.first)
        .map((field) => [field.name, Number(field.value)]),
    );
    const copied = /** @type {HTMLInputElement} */ (form.querySelector("#arrange-copied")).checked;
    change({ ...said, about: aboutSaid(), ...(copied ? { copied: true } : {}) }).then((made) => made && form.reset());
  },
  /** @param {Event} event */
  act(event) {
    const said = JSON.parse(dataOf(event, "change"));
    change({ about: aboutSaid(), ...said });
  },
  /** @param {Event} event */
  setLook(event) {
    change({ look: /** @type {HTMLSelectElement} */ (event.target).value || null });
  },
  /** @param {Event} event */
  setTint(event) {
    change({ tint: dataOf(event, "tint") || "none" });
  },
  /** @param {Event} event */
  setWay(event) {
    change({ way: Number(/** @type {HTMLSelectElement} */ (event.target).value) });
  },
  /** @param {Event} event */
  setTeam(event) {
    const value = /** @type {HTMLSelectElement} */ (event.target).value;
    if (value !== "as") change({ team: value ? Number(value) : null });
  },
  /** @param {Event} event */
  setData(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    const value =
      field.type === "checkbox" ? field.checked : field.type === "number" ? Number(field.value) : field.value;
    if (field.reportValidity()) change({ data: { ...(chosenRows()[0]?.data ?? {}), [field.name]: value } });
  },
  /** @param {Event} event */
  swap(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    if (field.value) change({ kit: field.value });
    field.value = "";
  },
  get entries() {
    return Object.values(kit.all).sort((a, b) => a.label.localeCompare(b.label));
  },
  face() {
    drawOutline("place", ([[x, y]]) => change({ towards: [x, y] }));
  },
  /** Look along its facing from where it stands. */
  lookAlong() {
    const [own] = chosenRows();
    if (own) actions.walk?.({ x: own.x, y: own.y, facing: own.turn_deg });
  },
  async join() {
    const name = /** @type {HTMLInputElement} */ (document.getElementById("assembly-name")).value.trim();
    if (!name) {
      say("Give the assembly a name first.");
      return;
    }
    const made = await ask(`${path}/join`, "POST", { ids: [...choice.keys], name });
    if (made) say(`Saved as the assembly ${name}: it is in the kit now.`, "calm");
  },
  /** What is chosen becomes the assembly, or one more way of it. @param {Event} event */
  joinInto(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    const [key, how] = field.value.split(" ");
    field.value = "";
    if (key) ask(`${path}/join`, "POST", { ids: [...choice.keys], key, as_way: how === "way" });
  },
  async loosen() {
    const made = await ask(`${path}/loosen`, "POST", { ids: [...choice.keys] });
    if (made) choose(made.ids);
  },
  settle: () => ask(`${path}/settle`, "POST", { ids: [...choice.keys] }),
  async intoGroup() {
    const field = /** @type {HTMLInputElement} */ (document.getElementById("new-group-name"));
    const name = field.value.trim();
    if (!name) return;
    const made = await ask(`/api/worlds/${state.world.id}/groups`, "POST", { name });
    if (made && (await change({ group: made.key }))) field.value = "";
  },
  /** @param {Event} event */
  setGroup(event) {
    const value = /** @type {HTMLSelectElement} */ (event.target).value;
    if (value !== "as") change({ group: value || null });
  },
}));
Alpine.data("placedList", () => ({
  get find() {
    return choice.find;
  },
  get lines() {
    void choice.keys;
    const chosen = holding.keys;
    return listed()
      .slice(0, MOST_LISTED)
      .map((thing) => ({
        key: thing.key,
        name: thing.name,
        sign: thing.sort === "start" ? "△" : thing.sort === "assembly" ? "▣" : "▪",
        words: [
          thing.team ? `team ${thing.team}` : "",
          thing.default ? "default" : "",
          thing.locked ? "locked" : "",
          isHidden(thing) ? "hidden" : "",
        ]
          .filter(Boolean)
          .join(" "),
        chosen: chosen.has(thing.key),
      }));
  },
  get more() {
    return Math.max(0, listed().length - MOST_LISTED);
  },
  get all() {
    void state.at.things;
    let count = 0;
    for (const _ of each("things")) count += 1;
    return count;
  },
  get groups() {
    void state.at.things;
    const counts = new Map();
    for (const thing of each("things")) if (thing.group) counts.set(thing.group, (counts.get(thing.group) ?? 0) + 1);
    return rows("groups").map((group) => ({
      key: group.key,
      name: group.name,
      words: [
        `${counts.get(group.key) ?? 0}`,
        group.within ? `in ${row("groups", group.within)?.name ?? ""}` : "",
        group.draws != null ? `${group.draws} each round` : "",
        group.locked ? "locked" : "",
        group.hidden ? "hidden" : "",
      ]
        .filter(Boolean)
        .join(" · "),
      chosen: state.chosen === `groups/${group.key}`,
    }));
  },
  /** @param {Event} event */
  type(event) {
    choice.find = /** @type {HTMLInputElement} */ (event.target).value;
  },
  /** @param {Event} event */
  sortBy(event) {
    choice.sort = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  /** @param {Event} event */
  choose(event) {
    const adds = keysDown.shift ? "more" : keysDown.alt ? "less" : choice.adds;
    pick([dataOf(event, "thing")], adds, false);
    if (adds === "new") openTab("sites", "chosen");
  },
  chooseListed: () => actions["choose-listed"](),
  /** @param {Event} event */
  chooseGroup(event) {
    const key = dataOf(event, "group");
    const deep = new Set([key]);
    for (let k = 0; k < 9; k += 1) for (const one of rows("groups")) if (deep.has(one.within)) deep.add(one.key);
    pick(
      those((thing) => deep.has(thing.group)),
      choice.adds,
    );
    state.chosen = `groups/${key}`;
  },
}));
