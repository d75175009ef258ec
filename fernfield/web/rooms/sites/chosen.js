// What is chosen, as the bench shows it: what becomes of one, or of all of it.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { paneSize, spotAt } from "/static/js/seen/drawn/plan.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { each, row, rows } from "/static/js/seen/rows.js";
import { actions, state } from "/static/js/seen/state.js";
import { aboutSaid, change, choice, choose, chooseIn, chosenRows, path, pick, sortOf, those } from "./choosing.js";
import { entryOf, kit } from "./kit.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */

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
const holdsThings = () => /^(groups|parts)\//.test(state.chosen || "");
actions.remove = () => (state.stage === "sites" && choice.keys.length && !holdsThings() ? removeAll() : removeOne());

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
  /** @param {Event} event */
  setFaces(event) {
    const faces = /** @type {HTMLSelectElement} */ (event.target).value || null;
    ask(`${path}/${choice.keys[0]}`, "PATCH", { faces });
  },
  /** @param {Event} event */
  setPart(event) {
    const value = /** @type {HTMLSelectElement} */ (event.target).value;
    if (value !== "as") change({ part: value || null });
  },
}));
