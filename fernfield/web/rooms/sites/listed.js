// All that stands here as a list: found as one types, sorted, in its groups.
import Alpine from "/static/js/kernel/alpine.js";
import { openTab } from "/static/js/seen/bench.js";
import { each, row, rows } from "/static/js/seen/rows.js";
import { actions, state } from "/static/js/seen/state.js";
import { choice, keysDown, pick, sortOf, those } from "./choosing.js";
import { drawnEntry, kit } from "./kit.js";
import { holding, isHidden } from "./marks.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */
/** A list shows so many. */
const MOST_LISTED = 60;

/** What is said of a thing that may be sought. @param {Row} thing */
function wordsOf(thing) {
  const entry = drawnEntry(thing.kit);
  const group = thing.group ? row("groups", thing.group)?.name : "";
  const part = thing.part ? row("parts", thing.part)?.name : "";
  const team = thing.team ? `team ${thing.team}` : "";
  return [thing.name, entry?.label, ...(entry?.tags ?? []), thing.sort, team, group, part].join(" ").toLowerCase();
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
  const of = [state.at.things, state.at.groups, state.at.parts, kit.turns, choice.sort].join(" ");
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

const dataOf = (/** @type {Event} */ event, /** @type {string} */ name) =>
  /** @type {HTMLElement} */ (event.currentTarget).dataset[name] || "";

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
        sign: thing.sort === "start" ? "△" : thing.sort === "assembly" ? "▣" : thing.sort === "wall" ? "▤" : "▪",
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

/** What a file of positions comes to, as it was looked at last; what its unknown columns are meant as. */
const given = Alpine.reactive({
  words: "",
  unknown: /** @type {string[]} */ ([]),
  meant: /** @type {Record<string, string>} */ ({}),
});
document.body.addEventListener("fern:things-file", (event) => {
  const told = /** @type {CustomEvent} */ (event).detail;
  if (!told?.new) return;
  const counts = [`${told.new.length} new`, `${told.changed.length} changed`, `${told.same} as they are`];
  const [first] = told.refused;
  if (first) counts.push(`${told.refused.length} refused, the first, number ${first.number + 1}: ${first.message}`);
  const aside = told.unknown.filter((/** @type {string} */ name) => !given.meant[name]);
  if (aside.length) counts.push(`left aside: ${aside.join(", ")}`);
  given.words = `${counts.join("; ")}.`;
  given.unknown = [...new Set([...Object.keys(given.meant), ...told.unknown])];
});

Alpine.data("thingsFile", () => ({
  get words() {
    return given.words;
  },
  get columns() {
    const meant = Object.entries(given.meant).filter(([, field]) => field);
    return meant.length ? JSON.stringify(Object.fromEntries(meant)) : "";
  },
  get unknown() {
    return given.unknown.map((name, k) => ({ name, id: `things-column-${k}`, label: `Column “${name}”` }));
  },
  /** @param {Event} event */
  mean(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    given.meant = { ...given.meant, [field.dataset.column || ""]: field.value };
  },
}));
