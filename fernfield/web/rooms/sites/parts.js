// Parts of a world: what they hold, shown alone, and taken from elsewhere.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { each, row, rows } from "/static/js/seen/rows.js";
import { actions, heed, state } from "/static/js/seen/state.js";
import { choose } from "/static/js/seen/hands/placed.js";
import { change, choice, pick, those } from "./choosing.js";
import { leaveOut } from "./marks.js";

const base = `/api/worlds/${state.world.id}`;
/** What may be of a part besides things. */
const KINDS = {
  groups: "group", roads: "road", scatters: "scatter", decals: "mark", notes: "note", teams: "team", objectives: "objective",
  resources: "resource", camps: "camp", cues: "cue", doors: "door", plots: "plot", lines: "line",
}; // prettier-ignore
const MOST_OFFERED = 200;
const MOST_TOLD = 8;

/** @typedef {{part: string, new: string[], changed: string[], same: number, gone: string[], left_out: string[], missing: string[], revision: number | null}} Taken */

const dataOf = (/** @type {Event} */ event, /** @type {string} */ name) =>
  /** @type {HTMLElement} */ (event.currentTarget).dataset[name] || "";

const given = Alpine.reactive({
  from: "",
  offered: /** @type {{at: string, words: string}[]} */ ([]),
  told: /** @type {{words: string, soft: boolean}[]} */ ([]),
  alone: "",
});

/** What taking a part comes to, in lines. @param {Taken} taken */
function tell(taken) {
  const counts = `${taken.new.length} new, ${taken.changed.length} changed, ${taken.same} as they are`;
  const lines = [{ words: taken.revision === null ? `It would bring ${counts}.` : `It came: ${counts}.`, soft: false }];
  for (const [title, some] of /** @type {[string, string[]][]} */ ([
    ["Not here, done without", taken.missing],
    ["Left out", taken.left_out],
    ["Here, and not in it: they stay", taken.gone],
  ])) {
    const more = some.length > MOST_TOLD ? ` and ${some.length - MOST_TOLD} more` : "";
    if (some.length) lines.push({ words: `${title}: ${some.slice(0, MOST_TOLD).join("; ")}${more}.`, soft: true });
  }
  given.told = lines;
}
document.body.addEventListener("fern:part-told", (event) => tell(/** @type {CustomEvent} */ (event).detail));

/** How many rows of each kind a part holds. @param {string} key */
function counted(key) {
  void state.at.things;
  const counts = [];
  for (const [name, word] of [["things", "thing"], ...Object.entries(KINDS)]) {
    let count = 0;
    for (const one of each(name)) if (one.part === key) count += 1;
    if (count) counts.push(`${count} ${word}${count === 1 ? "" : "s"}`);
  }
  return counts;
}

/** The part that is chosen. @returns {any} */
const own = () => chosenOf("parts");

Alpine.data("parts", () => ({
  /** @returns {any} */
  get part() {
    return own();
  },
  get list() {
    return rows("parts").map((one) => ({
      key: one.key,
      name: one.name,
      sign: one.on ? "▦" : "▢",
      words: [one.on ? "" : `off, ${one.shelved} rows`, one.locked ? "locked" : ""].filter(Boolean).join(" · "),
      chosen: state.chosen === `parts/${one.key}`,
    }));
  },
  get holds() {
    if (!own()) return "";
    if (!own().on) return `Switched off: ${own().shelved} rows lie aside.`;
    return `It holds ${counted(own().key).join(", ") || "nothing yet"}.`;
  },
  get others() {
    if (!own()) return [];
    return Object.entries(KINDS)
      .flatMap(([name, one]) =>
        rows(name)
          .filter((one) => one.part !== own().key)
          .map((two) => ({ at: `${name}/${two.key}`, words: `${two.name || two.text || two.key}, a ${one}` })),
      )
      .slice(0, MOST_OFFERED);
  },
  get file() {
    return own() ? `${base}/parts/${own().key}/file` : null;
  },
  get seenAlone() {
    return Boolean(given.alone) && given.alone === own()?.key;
  },
  get offered() {
    return given.offered;
  },
  get from() {
    return given.from;
  },
  get told() {
    return given.told;
  },
  /** @param {Event} event */
  choose: (event) => choose("parts", dataOf(event, "part")),
  async add() {
    const made = await ask(`${base}/parts`, "POST", { name: `Part ${rows("parts").length + 1}` });
    if (!made) return;
    if (choice.keys.length) await change({ part: made.key });
    choose("parts", made.key);
  },
  /** @param {Event} event */
  async putOther(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    const at = field.value;
    field.value = "";
    if (at) await ask(`${base}/${at}`, "PATCH", { part: own().key });
  },
  chooseHeld() {
    pick(
      those((thing) => thing.part === own()?.key),
      "new",
      false,
    );
  },
  alone() {
    given.alone = this.seenAlone ? "" : own().key;
    leaveOut(given.alone ? [...each("things")].filter((one) => one.part !== given.alone).map((one) => one.key) : []);
  },
  remove: () => actions.remove(),
  async ask() {
    const found = /** @type {{world: string, part: string, words: string}[] | null} */ (await ask("/api/parts", "GET"));
    given.offered = (found ?? []).map((one) => ({ at: `${one.world}/${one.part}`, words: one.words }));
  },
  /** @param {Event} event */
  setFrom(event) {
    given.from = /** @type {HTMLSelectElement} */ (event.target).value;
    given.told = [];
  },
  look: () => bring(true),
  take: () => bring(false),
}));

/** Look at a part of another world, or take it; one of this world is copied. @param {boolean} look */
async function bring(look) {
  const [world, part] = given.from.split("/");
  let key = part;
  for (let count = 2; world === state.world.id && row("parts", key); count += 1) key = `${part.slice(0, 36)}-${count}`;
  const taken = await ask(`${base}/parts/${key}/take`, "POST", { from_world: world, part, look });
  if (taken) tell(/** @type {Taken} */ (taken));
}

heed("panel", () => {
  const form = /** @type {HTMLFormElement | null} */ (document.getElementById("part"));
  if (state.stage === "sites" && form) chosenForm(form, "parts");
});
