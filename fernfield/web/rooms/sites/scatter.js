// Scatters and rounds: what a rule would place, as ghosts, and what each round draws of candidate places.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { sendAlso } from "/static/js/kernel/forms.js";
import { areaWords } from "/static/js/seen/area.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { addMark, drawOverlay, inView } from "/static/js/seen/drawn/overlay.js";
import { screenAt } from "/static/js/seen/drawn/plan.js";
import { habitats } from "/static/js/seen/habitat.js";
import { row, rows } from "/static/js/seen/rows.js";
import { heed, state, watch } from "/static/js/seen/state.js";
import { entryOf, found, kit } from "./kit.js";
import { drawParts, leaveOut } from "./marks.js";

const base = `/api/worlds/${state.world.id}`;
const FERN = "#2c6647";
const RUST = "#a2431f";

/** What a scatter would place. @type {{key: string, proposal: any, seed: number | null}} */
const tried = Alpine.reactive({ key: "", proposal: null, seed: null });
const round = Alpine.reactive({ seed: 0, groups: /** @type {any[]} */ ([]) });

const own = () => chosenOf("scatters");
habitats.scatter = { of: own, put: (conditions) => ask(`${base}/scatters/${own()?.key}`, "PATCH", { conditions }) };

/** Look at what a scatter comes to. @param {string} key @param {number | null} seed */
async function look(key, seed = null) {
  if (!key) return;
  const proposal = await ask(`${base}/scatters/${key}/try${seed === null ? "" : `?seed=${seed}`}`, "POST");
  if (!proposal) return;
  Object.assign(tried, { key, proposal, seed });
  drawOverlay();
}
function letGo() {
  Object.assign(tried, { key: "", proposal: null, seed: null });
  drawOverlay();
}

// Ghosts of what would stand, and crosses where something does not fit.
addMark((context) => {
  if (state.stage !== "sites" || !tried.proposal) return;
  const place = state.world.tracts.find((one) => one.id === row("scatters", tried.key)?.tract) ?? { x: 0, y: 0 };
  context.strokeStyle = FERN;
  context.lineWidth = 1;
  context.globalAlpha = 0.7;
  for (const one of tried.proposal.things) {
    const at = { x: one.x + place.x, y: one.y + place.y };
    if (inView(at))
      drawParts(
        context,
        [{ kit: one.kit, right: 0, ahead: 0, turn: 0, size: one.size }],
        { ...at, turn: one.turn_deg },
        one.tint,
      );
  }
  context.strokeStyle = RUST;
  for (const one of tried.proposal.refused) {
    const [x, y] = screenAt(one.x + place.x, one.y + place.y);
    context.beginPath();
    context.moveTo(x - 3, y - 3);
    context.lineTo(x + 3, y + 3);
    context.moveTo(x + 3, y - 3);
    context.lineTo(x - 3, y + 3);
    context.stroke();
  }
  context.globalAlpha = 1;
});

watch(
  () => [state.stage, state.at.scatters, state.at.things],
  () => {
    if (tried.key && (state.stage !== "sites" || !row("scatters", tried.key))) letGo();
    askRound();
  },
);

/** Which candidate places the round has that is looked at. */
async function askRound() {
  round.groups = [];
  const drawn = round.seed && rows("groups").some((one) => one.draws !== null && one.draws !== undefined);
  const told = drawn ? await ask(`${base}/round?seed=${round.seed}`) : null;
  round.groups = told?.groups ?? [];
  leaveOut(told?.left_out ?? []);
}

/** Where the area in the hand is, as a scatter says it. */
function areaSaid() {
  const { cover, ...area } = state.area;
  const none = { plot: null, box: null, outline: null, covered_by: null };
  return { ...none, ...area, ...(cover ? { covered_by: cover } : {}) };
}

const dataOf = (/** @type {Event} */ event, /** @type {string} */ name) =>
  /** @type {HTMLElement} */ (event.currentTarget).dataset[name] || "";

Alpine.data("scatter", () => ({
  get own() {
    return own();
  },
  get list() {
    void state.at.things;
    return rows("scatters").map((one) => ({
      key: one.key,
      name: one.name,
      words: one.count ? `${one.count}` : `${one.per_ha}/ha`,
      chosen: state.chosen === `scatters/${one.key}`,
    }));
  },
  get of() {
    const all = own()?.of ?? [];
    const sum = all.reduce((/** @type {number} */ total, /** @type {any} */ one) => total + one.weight, 0) || 1;
    return all.map((/** @type {any} */ one) => ({
      kit: one.kit,
      label: entryOf(one.kit)?.label ?? one.kit,
      weight: one.weight,
      share: `= ${Math.round((100 * one.weight) / sum)} %`,
      drop: `Take it out: ${entryOf(one.kit)?.label ?? one.kit}`,
      id: `weight-${one.kit}`,
    }));
  },
  get others() {
    const taken = new Set((own()?.of ?? []).map((/** @type {any} */ one) => one.kit));
    void kit.all;
    return found("", "").filter((one) => !taken.has(one.key));
  },
  get where() {
    const one = this.own;
    if (!one) return "";
    return areaWords({
      plot: one.plot ?? undefined,
      box: one.box ?? undefined,
      outline: one.outline ?? undefined,
      cover: one.covered_by ?? undefined,
    });
  },
  get proposed() {
    return tried.proposal && tried.key === own()?.key;
  },
  get words() {
    if (!tried.proposal || tried.key !== own()?.key) return "";
    const { found: count, wanted } = tried.proposal;
    return `${count} of ${wanted} find a place${tried.seed === null ? "" : ` with the seed ${tried.seed}`}.`;
  },
  get why() {
    return Object.entries(tried.proposal?.why ?? {}).map(([words, count]) => ({ words: `${count}: ${words}` }));
  },
  get placed() {
    void state.at.things;
    const key = own()?.key;
    const mine = rows("things").filter((one) => one.scatter === key);
    return { count: mine.length, moved: mine.filter((one) => one.by_hand).length };
  },
  get placedWords() {
    const { count, moved } = this.placed;
    return count ? `${count} stand by it${moved ? `, ${moved} moved by hand` : ""}.` : "Nothing stands by it yet.";
  },
  /** @param {Event} event */
  choose(event) {
    letGo();
    state.chosen = `scatters/${dataOf(event, "scatter")}`;
  },
  async add() {
    const first = state.place && entryOf(state.place) ? state.place : "cairn";
    const made = await ask(`${base}/scatters?in=world`, "POST", {
      name: `Scatter ${rows("scatters").length + 1}`,
      of: [{ kit: first, weight: 1 }],
      count: 20,
      tract: state.world.tract,
      ...areaSaid(),
    });
    if (made) state.chosen = `scatters/${made.key}`;
  },
  useArea() {
    ask(`${base}/scatters/${own()?.key}?in=world`, "PATCH", areaSaid());
  },
  /** @param {Event} event */
  useLine(event) {
    const value = /** @type {HTMLSelectElement} */ (event.target).value;
    ask(
      `${base}/scatters/${own()?.key}`,
      "PATCH",
      value ? { line: value, where: "line" } : { line: null, where: "all" },
    );
  },
  /** @param {{kit: string, weight: number}[]} of */
  put(of) {
    return ask(`${base}/scatters/${own()?.key}`, "PATCH", { of });
  },
  /** @param {Event} event */
  addKind(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    if (field.value) this.put([...(own()?.of ?? []), { kit: field.value, weight: 1 }]);
    field.value = "";
  },
  /** @param {Event} event */
  weigh(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    if (!field.reportValidity()) return;
    this.put(
      (own()?.of ?? []).map((/** @type {any} */ one) =>
        one.kit === field.dataset.kit ? { ...one, weight: Number(field.value) } : one,
      ),
    );
  },
  /** @param {Event} event */
  dropKind(event) {
    const key = dataOf(event, "kit");
    this.put((own()?.of ?? []).filter((/** @type {any} */ one) => one.kit !== key));
  },
  look() {
    look(own()?.key ?? "", null);
  },
  roll() {
    look(own()?.key ?? "", Math.floor(Math.random() * 100_000));
  },
  async keep() {
    const key = own()?.key;
    if (!key) return;
    // The seed that was looked at is the scatter's from now on.
    if (tried.key === key && tried.seed !== null) await ask(`${base}/scatters/${key}`, "PATCH", { seed: tried.seed });
    const made = await ask(`${base}/scatters/${key}/keep`, "POST");
    if (made) say(`${made.found} of ${made.wanted} stand.`, "calm");
    letGo();
  },
  letGo,
  async remove() {
    const key = own()?.key;
    if (key && (await ask(`${base}/scatters/${key}`, "DELETE"))) state.chosen = null;
  },
  get seed() {
    return round.seed;
  },
  get drawn() {
    return round.groups.map((one) => ({
      key: one.group,
      words: `${one.name}: ${one.draws} of ${one.of}, ${Math.round(one.chance * 100)} % each`,
    }));
  },
  get drawing() {
    return rows("groups").some((one) => one.draws !== null && one.draws !== undefined);
  },
  /** @param {Event} event */
  setRound(event) {
    round.seed = Number(/** @type {HTMLInputElement} */ (event.target).value) || 0;
    askRound();
  },
  nextRound() {
    round.seed += 1;
    askRound();
  },
}));

heed("panel", () => {
  const form = /** @type {HTMLFormElement | null} */ (document.getElementById("scatter"));
  if (!form || state.stage !== "sites") return;
  chosenForm(form, "scatters");
  // Of how many and how dense one counts: the other is left out.
  sendAlso(form, () => {
    const value = (/** @type {string} */ name) =>
      /** @type {HTMLInputElement} */ (form.querySelector(`[name=${name}]`)).value;
    const was = own();
    const [count, density] = [value("count"), value("per_ha")];
    if (density !== "" && (count === "" || (was && String(was.count ?? "") === count)))
      return { count: null, per_ha: Number(density) };
    return count === "" ? {} : { count: Number(count), per_ha: null };
  });
});
