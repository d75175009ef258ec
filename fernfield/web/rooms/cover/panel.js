// The covers: the list of them, what they fill, the rules that put them, and how much of each there is.
import Alpine from "/static/js/kernel/alpine.js";
import { markWrong, send, sendAlso, settle } from "/static/js/kernel/forms.js";
import { ask, say } from "/static/js/kernel/say.js";
import { fetchPanel, turnTo, watchForm } from "/static/js/seen/bench.js";
import { only, row, rows, subject } from "/static/js/seen/rows.js";
import { coloured, colourBy, heed, showAnew, state, watch } from "/static/js/seen/state.js";
import { scaled, scaleOf, SPREAD, spreadAt, spreadFigure, spreadPath, unscaled } from "/static/js/seen/told/spread.js";

/** @typedef {import("/static/js/types.js").CoverRule} Rule */
/** @typedef {import("/static/js/types.js").CoverCondition} Condition */

const base = `/api/worlds/${state.world.id}`;
const land = `/api/lands/${state.world.tract}`;
const box = /** @type {HTMLElement} */ (document.getElementById("bench"));

/** What a condition may ask, as the server declares it. @type {Record<string, {label: string, unit: string, least: number, most: number, percent: boolean, first: Condition}>} */
const WHATS = {};

heed("panel", () => {
  if (state.stage !== "cover") return;
  const told = /** @type {HTMLElement | null} */ (box.querySelector("[data-whats]"));
  Object.assign(WHATS, JSON.parse(told?.dataset.whats || "{}"));
  for (const form of /** @type {NodeListOf<HTMLFormElement>} */ (box.querySelectorAll("form[data-area-work]")))
    sendAlso(form, () => {
      const { cover, ...area } = state.area;
      return { ...area, ...(cover ? { covered_by: cover } : {}) };
    });
  const named = /** @type {HTMLFormElement} */ (box.querySelector("form[data-cover-form]"));
  let of = "";
  watchForm(named, () => {
    const key = subject("cover");
    if (key !== of) turnTo(named, of, key);
    of = key;
    named.setAttribute("hx-patch", `${base}/covers/${key}`);
    window.htmx.process(named);
    return row("covers", key);
  });
  const strip = /** @type {HTMLFormElement} */ (box.querySelector("form[data-transition-form]"));
  sendAlso(strip, () => ({ steps: stepsOf() }));
  const guise = /** @type {HTMLFormElement} */ (box.querySelector("form[data-guise-form]"));
  sendAlso(guise, () => ({
    covers: exchangesOf("cover"),
    kinds: exchangesOf("kind"),
    pieces: exchangesOf("piece"),
  }));
  const set = /** @type {HTMLFormElement} */ (box.querySelector("form[data-rule-set]"));
  sendAlso(set, () => ({ rules: tidy(draft.rules) }));
});
document.body.addEventListener("fern:area-worked", (event) => {
  const { posts, left } = /** @type {CustomEvent} */ (event).detail;
  if (state.stage !== "cover" || posts === undefined) return;
  const flecks = left ? `; ${left.toLocaleString("en")} still show what was to go` : "";
  say(`${posts.toLocaleString("en")} posts changed${flecks}.`, "calm");
});
document.body.addEventListener("fern:cover", (event) => {
  const { key } = /** @type {CustomEvent} */ (event).detail;
  if (!key) return;
  state.subjects.cover = key;
  const form = /** @type {HTMLFormElement | null} */ (box.querySelector("form[data-then=cover]"));
  form?.reset();
});

document.body.addEventListener("fern:texture", (event) => {
  say(`${/** @type {CustomEvent} */ (event).detail.name} is among the textures.`, "calm");
  // Pictures are no rows of the world: the panel that lists them is fetched again.
  fetchPanel();
});

// The list

/** Where the cover in the hand lies; 0 is the base. */
const place = () => row("covers", subject("cover"))?.position ?? 0;

Alpine.data("covers", () => ({
  get key() {
    return subject("cover");
  },
  get base() {
    return place() === 0;
  },
  get lowest() {
    return place() <= 1;
  },
  get hidden() {
    return Boolean(row("covers", this.key)?.hidden);
  },
  get others() {
    return rows("covers").filter((cover) => cover.key !== this.key);
  },
  /** Kinds of growth, and whether they like this cover. */
  get likers() {
    const own = row("covers", this.key)?.likes ?? [];
    return rows("kinds").map(({ key, name }) => ({ key, name, id: `likes-${key}`, likes: own.includes(key) }));
  },
  /** @param {Event} event */
  like(event) {
    const box = /** @type {HTMLInputElement} */ (event.currentTarget);
    const kind = box.dataset.likes || "";
    const own = (row("covers", this.key)?.likes ?? []).filter((/** @type {string} */ one) => one !== kind);
    ask(`${base}/covers/${this.key}`, "PATCH", { likes: box.checked ? [...own, kind] : own });
  },
  up() {
    if (place() < rows("covers").length - 1) ask(`${base}/covers/${this.key}`, "PATCH", { position: place() + 1 });
  },
  down() {
    ask(`${base}/covers/${this.key}`, "PATCH", { position: place() - 1 });
  },
  hide() {
    ask(`${base}/covers/${this.key}`, "PATCH", { hidden: !this.hidden });
  },
  remove() {
    ask(`${base}/covers/${this.key}`, "DELETE");
  },
  /** @param {Event} event */
  async merge(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    const into = field.value;
    field.value = "";
    if (into && (await ask(`${base}/covers/${this.key}/merge`, "POST", { into }))) state.subjects.cover = into;
  },
}));

// Rules: changed here, tried out on the map, and kept when they please

/** What is being set: the rules, and which of them is open. @type {{rules: Rule[], open: number, changed: boolean, spreads: Record<string, {low: number, high: number, counts: number[]}>}} */
const draft = Alpine.reactive({ rules: [], open: -1, changed: false, spreads: {} });
const copy = (/** @type {any} */ what) => JSON.parse(JSON.stringify(what));
const keptRules = () => only("cover-rules").rules ?? [];

watch(
  () => state.at["cover-rules"],
  () => {
    if (!draft.changed) draft.rules = copy(keptRules());
    if (draft.open >= draft.rules.length) draft.open = -1;
  },
);
draft.rules = copy(keptRules());

/** Rules as the API takes them: what was left empty is left out. @param {any[]} list @returns {Rule[]} */
function tidy(list) {
  const filled = (/** @type {any} */ one) =>
    Object.fromEntries(Object.entries(one).filter(([, value]) => value !== null && value !== ""));
  return copy(list).map((/** @type {Rule} */ rule) => ({ ...filled(rule), conditions: rule.conditions.map(filled) }));
}

/** @param {Condition} one */
const canBeMet = ({ what, from, to }) =>
  what === "plot" || (Number.isFinite(from ?? to) && (what === "aspect" || Number(from ?? to) <= Number(to ?? from)));

let timer = 0;
let before = "";
/** The rule that is open is shown alone on the map while its numbers are turned. */
function tryOut() {
  clearTimeout(timer);
  timer = setTimeout(() => {
    const open = state.stage === "cover" ? draft.rules[draft.open] : null;
    // What no post can meet is said when it is to be kept, not while it is typed.
    if (open && !open.conditions.every(canBeMet)) return;
    const rule = open ? JSON.stringify(tidy([open])[0]) : null;
    if (rule === state.tried) return;
    state.tried = rule;
    // What coloured the land before comes back when nothing is tried out any more.
    if (rule && coloured() !== "rule") before = coloured();
    colourBy(rule ? "rule" : coloured() === "rule" ? before : coloured());
    showAnew();
  }, 120);
}
watch(() => [draft.open, JSON.stringify(draft.rules[draft.open] ?? null), state.stage], tryOut);

/** How what a condition asks is spread over the land is asked for once, until the ground changes. @param {Condition} condition */
async function spreadOf(condition) {
  const { from, to, soft, ...asked } = condition;
  const name = JSON.stringify(tidy([{ cover: "", conditions: [asked] }])[0].conditions[0]);
  if (draft.spreads[name] !== undefined) return;
  draft.spreads[name] = { low: 0, high: 1, counts: [] };
  const found = await ask(`${land}/cover-rules/values`, "POST", { ...JSON.parse(name), from: WHATS[asked.what].least });
  if (found) draft.spreads[name] = found;
}
watch(
  () => state.world.revision,
  () => (draft.spreads = {}),
);

/** What a condition names besides its limits, to be picked. @param {Condition} condition */
function picksOf(condition) {
  const list = { plot: ["plot", "plots"], line_distance: ["line", "lines"], cover: ["cover", "covers"] }[
    condition.what
  ];
  return list
    ? [{ name: list[0], label: list[0] === "cover" ? "Which cover" : `Which ${list[0]}`, rows: rows(list[1]) }]
    : [];
}

/** A condition as the panel shows it. @param {Condition} condition @param {number} at */
function shown(condition, at) {
  const what = WHATS[condition.what] ?? { label: condition.what, unit: "", least: 0, most: 1, percent: false };
  spreadOf(condition);
  const { from, to, soft, ...asked } = condition;
  const name = JSON.stringify(tidy([{ cover: "", conditions: [asked] }])[0].conditions[0]);
  const values = draft.spreads[name] ?? { low: 0, high: 1, counts: [] };
  const { low, high } = values;
  const left = from === null || from === undefined ? 0 : spreadAt(values, Number(from));
  const right = to === null || to === undefined ? SPREAD.wide : spreadAt(values, Number(to));
  const numbers = [
    ...[
      { name: "from", label: "From", value: from, none: "any", unit: what.unit, least: what.least, most: what.most },
      { name: "to", label: "To", value: to, none: "any", unit: what.unit, least: what.least, most: what.most },
      // A border is no wider than what it parts.
      {
        name: "soft",
        label: "Soft over",
        value: soft,
        none: "0",
        unit: what.unit,
        least: 0,
        most: what.most - Math.max(what.least, 0),
      },
    ].map((one) => ({
      ...one,
      value: scaled(one.value, what),
      least: Number(scaled(one.least, what)),
      most: Number(scaled(one.most, what)),
    })),
    ...(condition.what === "noise"
      ? [{ name: "size_m", label: "Size", value: condition.size_m, none: "60", unit: "m", least: 0.5, most: 10000 }]
      : []),
  ];
  return {
    at,
    id: `${at}-${condition.what}`,
    label: what.label,
    path: spreadPath(values),
    from_x: left,
    wide: Math.max(0, right - left),
    low: `${spreadFigure(low * scaleOf(what))} ${what.unit}`,
    high: `${spreadFigure(high * scaleOf(what))} ${what.unit}`,
    spreadWords: `How it is spread over the land, from ${spreadFigure(low * scaleOf(what))} to ${spreadFigure(high * scaleOf(what))} ${what.unit}`,
    fields: numbers.map((one) => ({
      ...one,
      id: `condition-${at}-${one.name}`,
      place: `rules.${draft.open}.conditions.${at}.${one.name}`,
      value: one.value ?? "",
      about: `${one.least} to ${one.most} ${one.unit}; may be left out`,
    })),
    picks: picksOf(condition).map((one) => ({
      ...one,
      id: `condition-${at}-${one.name}`,
      choices: one.rows,
      value: /** @type {any} */ (condition)[one.name],
    })),
  };
}

/** @param {Rule} rule */
const wordsOf = (rule) =>
  rule.off
    ? "left out"
    : rule.conditions.map((one) => WHATS[one.what]?.label.toLowerCase() ?? one.what).join(", ") || "everywhere";

Alpine.data("rules", () => ({
  get lines() {
    return draft.rules.map((rule, at) => {
      const cover = row("covers", rule.cover);
      return {
        at,
        chosen: at === draft.open,
        colour: cover?.colour ?? "none",
        name: rule.name || cover?.name || `${rule.cover}, which is gone`,
        words: wordsOf(rule),
      };
    });
  },
  get open() {
    return Boolean(draft.rules[draft.open]);
  },
  get changed() {
    return draft.changed;
  },
  get one() {
    return draft.rules[draft.open] ?? { cover: "", conditions: [] };
  },
  get conditions() {
    return this.one.conditions.map(shown);
  },
  /** @param {Event} event */
  choose(event) {
    const at = Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.rule);
    draft.open = at === draft.open ? -1 : at;
    fillOpen();
  },
  add() {
    const rule = { cover: subject("cover"), amount: 1, ragged: 0, grain_m: 20, seed: 1, off: false, conditions: [] };
    draft.rules = [rule, ...draft.rules];
    Object.assign(draft, { open: 0, changed: true });
    fillOpen();
  },
  up: () => move(-1),
  down: () => move(1),
  remove() {
    draft.rules = draft.rules.filter((_, at) => at !== draft.open);
    Object.assign(draft, { open: -1, changed: true });
  },
  /** A field of the rule, or of one of its conditions, says something else. @param {Event} event */
  turn(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    if (field.dataset.ask !== undefined) {
      const what = WHATS[field.value];
      if (what) this.one.conditions.push(copy(what.first));
      field.value = "";
    } else if (field.dataset.at !== undefined) {
      const condition = /** @type {any} */ (this.one.conditions[Number(field.dataset.at)]);
      const what = field.name === "size_m" ? undefined : WHATS[condition.what];
      condition[field.name] = field.type === "number" ? unscaled(numberOf(field), what) : field.value;
      // What no post can meet is said where it is typed; the map goes on showing what was met last.
      const sides = [...(field.form?.querySelectorAll(`[data-at="${field.dataset.at}"][name=from]`) ?? [])];
      if (sides[0])
        markWrong(
          /** @type {HTMLInputElement} */ (sides[0]),
          canBeMet(condition) ? "" : `“From” must not be above “To”: the smaller number comes first.`,
        );
    } else {
      const value = field.type === "checkbox" ? field.checked : field.type === "number" ? numberOf(field) : field.value;
      const share = field.dataset.percent !== undefined && typeof value === "number" ? value / 100 : value;
      Object.assign(this.one, { [field.name]: share });
    }
    draft.changed = true;
  },
  /** @param {Event} event */
  dropCondition(event) {
    this.one.conditions.splice(Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.at), 1);
    draft.changed = true;
  },
  /** @param {Event} event */
  async keepRules(event) {
    event.preventDefault();
    const form = /** @type {HTMLFormElement} */ (box.querySelector("form[data-rule-form]"));
    const kept = await send(form, `${base}/cover-rules`, "PUT", { rules: tidy(draft.rules) }, async (problem) => {
      // What is wrong is wrong with one rule: that is opened.
      const at = Number(/^rules\.(\d+)/.exec(problem.errors?.[0]?.field ?? "")?.[1] ?? draft.open);
      if (at === draft.open || !draft.rules[at]) return;
      draft.open = at;
      fillOpen();
      await Alpine.nextTick();
    });
    if (kept) Object.assign(draft, { changed: false, open: -1 });
  },
  leave() {
    Object.assign(draft, { rules: copy(keptRules()), open: -1, changed: false });
  },
  /** Rules of another world, from a file: they are shown, and kept when that is said. @param {Event} event */
  async bringIn(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    const text = await field.files?.[0]?.text();
    field.value = "";
    if (text === undefined) return;
    try {
      const { rules } = JSON.parse(text);
      if (!Array.isArray(rules)) throw new Error("no rules");
      const filled = { amount: 1, ragged: 0, grain_m: 20, seed: 1, off: false };
      Object.assign(draft, {
        rules: rules.map((rule) => ({ ...filled, ...rule, conditions: rule.conditions ?? [] })),
        open: -1,
        changed: true,
      });
    } catch {
      say("The file holds no rules for covers: it must be JSON with a list called rules, as Rules as a file gives it.");
    }
  },
  /** @param {Event} event */
  takeSet(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    const set = row("rule-sets", field.value);
    field.value = "";
    if (set) Object.assign(draft, { rules: copy(set.rules), open: -1, changed: true });
  },
}));

/** @param {HTMLInputElement} field */
const numberOf = (field) => (field.value === "" || !Number.isFinite(field.valueAsNumber) ? null : field.valueAsNumber);

/** @param {number} by */
function move(by) {
  const to = draft.open + by;
  if (to < 0 || to >= draft.rules.length) return;
  const list = [...draft.rules];
  [list[draft.open], list[to]] = [list[to], list[draft.open]];
  Object.assign(draft, { rules: list, open: to, changed: true });
}

/** The fields of the rule that is open say what it says. */
function fillOpen() {
  const form = /** @type {HTMLFormElement | null} */ (box.querySelector("form[data-rule-form]"));
  const rule = /** @type {any} */ (draft.rules[draft.open]);
  if (!form || !rule) return;
  for (const name of ["amount", "ragged", "grain_m", "seed", "off"]) {
    const field = /** @type {HTMLInputElement} */ (form.elements.namedItem(name));
    if (field.type === "checkbox") field.checked = Boolean(rule[name]);
    else field.value = String(field.dataset.percent !== undefined ? Math.round(rule[name] * 1000) / 10 : rule[name]);
  }
  settle(form);
}

// Transitions

/** The steps that the form says. */
function stepsOf() {
  const all = (/** @type {string} */ name) => [
    .../** @type {NodeListOf<HTMLInputElement>} */ (box.querySelectorAll(`[data-step-${name}]`)),
  ];
  const widths = all("width");
  return all("cover")
    .map((field, k) => ({ cover: field.value, width_m: widths[k].valueAsNumber }))
    .filter((step) => step.cover);
}

Alpine.data("transitions", () => ({
  /** @param {Event} event */
  remove: (event) =>
    ask(`${base}/transitions/${/** @type {HTMLElement} */ (event.currentTarget).dataset.transition}`, "DELETE"),
}));

// Guises

/** Pairs of what the form exchanges. @param {"cover" | "kind" | "piece"} what */
function exchangesOf(what) {
  const all = (/** @type {string} */ side) => [
    .../** @type {NodeListOf<HTMLSelectElement>} */ (box.querySelectorAll(`[data-guise-${what}="${side}"]`)),
  ];
  const to = all("to");
  return all("from")
    .map((field, k) => ({ from: field.value, to: to[k].value }))
    .filter((pair) => pair.from && pair.to);
}

/** @param {Event} event */
const guiseOf = (event) => /** @type {HTMLElement} */ (event.currentTarget).dataset.of || "";

/** @param {string} guise @param {boolean} back */
async function setGuise(guise, back) {
  const { cover, ...area } = state.area;
  if (await ask(`${land}/guise`, "POST", { guise, back, ...area, ...(cover ? { covered_by: cover } : {}) }))
    lookAs(null);
}

/** The map shows a guise, or the land as it is. @param {string | null} key */
function lookAs(key) {
  state.guise = key;
  showAnew();
}
// What is only looked at is left with the stage.
watch(
  () => state.stage,
  () => state.guise && lookAs(null),
);

Alpine.data("guises", () => ({
  /** @param {Event} event */
  look: (event) => lookAs(state.guise === guiseOf(event) ? null : guiseOf(event)),
  /** @param {Event} event */
  set: (event) => setGuise(guiseOf(event), false),
  /** @param {Event} event */
  back: (event) => setGuise(guiseOf(event), true),
  /** @param {Event} event */
  remove: (event) => ask(`${base}/guises/${guiseOf(event)}`, "DELETE"),
}));

// How much of each

Alpine.data("areas", () => ({
  /** @type {{key: string, name: string, ha: string, percent: string}[]} */
  found: [],
  async count() {
    const told = await ask(`${land}/cover-areas`);
    if (!told) return;
    this.found = told.map((/** @type {any} */ one) => ({
      ...one,
      ha: one.ha.toLocaleString("en", { maximumFractionDigits: 2 }),
      percent: (one.part * 100).toFixed(1),
    }));
  },
  init() {
    this.count();
  },
}));

// The map of a share is of the cover in the hand.
watch(
  () => subject("cover"),
  () => {
    state.mapped = subject("cover");
    if (state.show.overlays.includes("share")) showAnew();
  },
);
state.mapped = subject("cover");
