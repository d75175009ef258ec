// What a kind of a mix, or a ground cover, asks of the ground: a list, and a form with how it is spread over the land.
import Alpine from "../kernel/alpine.js";
import { sendAlso } from "../kernel/forms.js";
import { ask } from "../kernel/say.js";
import { row, rows } from "./rows.js";
import { heed, landApi, state } from "./state.js";
import { scaled, scaleOf, SPREAD, spreadAt, spreadFigure, spreadPath, unscaled } from "./told/spread.js";

/** What a habitat may ask, as the server declares it. @type {Record<string, {label: string, unit: string, least: number, most: number, percent: boolean, named: string, field: string}>} */
const WHATS = {};
/** Whose habitats there are: the row that has one, how it is changed.
 * @type {Record<string, {of: () => any, put: (conditions: any[]) => Promise<any>}>} */
export const habitats = {};

heed("panel", () => {
  const told = /** @type {HTMLElement | null} */ (document.querySelector("#bench [data-whats]"));
  Object.assign(WHATS, JSON.parse(told?.dataset.whats || "{}"));
});

Alpine.data("habitat", () => ({
  of: "",
  fold: "",
  /** What is asked besides, "" for nothing more; kept with the form that it stands in. */
  what: "",
  typed: { from: "", to: "", soft: "" },
  /** @type {{low: number, high: number, counts: number[]}} */
  values: { low: 0, high: 1, counts: [] },
  init() {
    const { of, while: fold } = /** @type {HTMLElement} */ (/** @type {any} */ (this).$root).dataset;
    Object.assign(this, { of: of || "", fold: fold || "" });
    const form = /** @type {any} */ (this).$root.closest("form");
    sendAlso(form, () => (this.what ? { conditions: [.../** @type {any[]} */ (this.conditions), this.whole()] } : {}));
    form.addEventListener("fern:kept", () => this.clear());
  },
  clear() {
    Object.assign(this, { what: "", typed: { from: "", to: "", soft: "" } });
  },
  /** @param {string} name */
  placeOf(name) {
    return `conditions.${/** @type {any[]} */ (this.conditions).length}.${name}`;
  },
  get conditions() {
    return habitats[this.of]?.of()?.conditions ?? [];
  },
  get lines() {
    return this.conditions.map((/** @type {any} */ one, /** @type {number} */ at) => {
      const what = WHATS[one.what];
      const named = one.plot ?? one.line ?? one.cover ?? "";
      const of = named ? ` of ${row(what?.named ?? "", named)?.name ?? named}` : "";
      const low = one.from === null || one.from === undefined ? "" : ` from ${scaled(one.from, what)}`;
      const high = one.to === null || one.to === undefined ? "" : ` to ${scaled(one.to, what)}`;
      const words = `${what?.label ?? one.what}${of}${low}${high} ${what?.unit ?? ""}`.trim();
      return { at, words, drop: `Take it out: ${words}` };
    });
  },
  get unit() {
    return WHATS[this.what]?.unit ?? "";
  },
  get range() {
    const what = WHATS[this.what];
    return what
      ? `${scaled(what.least, what)} to ${scaled(what.most, what)} ${what.unit}; left out: no limit`
      : "left out: no limit";
  },
  get names() {
    const named = WHATS[this.what]?.named;
    return named ? rows(named) : [];
  },
  get path() {
    return spreadPath(this.values);
  },
  /** @param {string} typed @param {number} none */
  place(typed, none) {
    return typed === "" ? none : spreadAt(this.values, Number(unscaled(Number(typed), WHATS[this.what])));
  },
  get left() {
    return this.place(this.typed.from, 0);
  },
  get wide() {
    return Math.max(0, this.place(this.typed.to, SPREAD.wide) - this.left);
  },
  get lowest() {
    return `${spreadFigure(this.values.low * scaleOf(WHATS[this.what]))} ${this.unit}`;
  },
  get highest() {
    return `${spreadFigure(this.values.high * scaleOf(WHATS[this.what]))} ${this.unit}`;
  },
  get spreadWords() {
    return `How it is spread over the land, from ${this.lowest} to ${this.highest}`;
  },
  /** @param {Event} event */
  asks(event) {
    this.what = /** @type {HTMLSelectElement} */ (event.target).value;
  },
  /** What is asked for, without its limits. */
  said() {
    const { field, named } = WHATS[this.what] ?? {};
    const picked = /** @type {HTMLSelectElement | null} */ (
      /** @type {any} */ (this).$root.querySelector("select[name=name]")
    );
    const own = picked?.value || (named ? rows(named)[0]?.key : "");
    return { what: this.what, ...(field && own ? { [field]: own } : {}) };
  },
  /** With them. */
  whole() {
    /** @type {Record<string, any>} */
    const said = this.said();
    for (const [name, typed] of Object.entries(this.typed))
      if (typed !== "") said[name] = unscaled(Number(typed), WHATS[this.what]);
    return said;
  },
  choose() {
    this.spread();
  },
  /** How what is asked for lies over the land: while it is looked at, again with every revision. */
  async spread() {
    const what = WHATS[this.what];
    if (!state.folds[this.fold] || state.world.revision < 0) return;
    const said = this.said();
    // What names something waits until there is one.
    if (!what || (what.field && !(what.field in said))) {
      this.values = { low: what?.least ?? 0, high: what?.most ?? 1, counts: [] };
      return;
    }
    const found = await ask(`${landApi}/cover-rules/values`, "POST", { ...said, from: what.least });
    if (found && what === WHATS[this.what]) this.values = found;
  },
  /** @param {Event} event */
  turned(event) {
    const { name, value } = /** @type {HTMLInputElement} */ (event.target);
    if (name in this.typed) this.typed = { ...this.typed, [name]: value };
  },
  /** @param {Event} event */
  drop(event) {
    const at = Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.at);
    habitats[this.of]?.put(/** @type {any[]} */ (this.conditions).filter((_, i) => i !== at));
  },
}));
