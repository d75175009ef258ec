// What a round is played for: teams and how they stand to each other, objectives, what is gathered, cues, and the rules.
import Alpine from "/static/js/kernel/alpine.js";
import { bodyOf } from "/static/js/kernel/forms.js";
import { ask, say } from "/static/js/kernel/say.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { addMark, drawOverlay, inView, name as label } from "/static/js/seen/drawn/overlay.js";
import { addDrawn, drawAnew } from "/static/js/seen/drawn/placed3d.js";
import { metresPerPixel, screenAt } from "/static/js/seen/drawn/plan.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { addPlaced, choose } from "/static/js/seen/hands/placed.js";
import { each, only, row, rows } from "/static/js/seen/rows.js";
import { actions, heed, state, watch } from "/static/js/seen/state.js";
import { choice } from "./choosing.js";
import { MARKS, teamOf } from "./marks.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */
/** @typedef {Record<string, any> & {sort: string}} Part a condition, or what follows */

const base = `/api/worlds/${state.world.id}`;
const AIMS = ["objectives", "resources", "camps", "doors"];
const NOBODY = "#56605a";
const shown = () => state.stage === "sites" && state.tabs.sites === "round";
const colourOf = (/** @type {Row} */ one) => teamOf(one.team)?.colour ?? NOBODY;

// Placed on the plan, dragged and chosen like all with a place

let thing = "";
for (const [name, form, make] of /** @type {[string, string, (what: string) => any][]} */ ([
  [
    "objectives",
    "aim-objective",
    (what) => {
      const [of, sort] = what.split(":");
      if (of !== "objective") return null;
      return sort === "take" || sort === "guard" ? { sort, thing } : { sort };
    },
  ],
  ["resources", "aim-resource", (what) => (what === "resource" ? { name: "Resource", of: "peat" } : null)],
  ["doors", "aim-door", (what) => (what.startsWith("way:") ? { sort: what.slice(4) } : null)],
  ["camps", "aim-camp", (what) => (what === "camp" ? { name: `Camp ${rows("camps").length + 1}` } : null)],
]))
  addPlaced({ stage: "sites", name, form, make, turns: name === "camps" });

/** The sign of a row around (0, 0). @param {CanvasRenderingContext2D} context @param {string} name @param {Row} one */
function sign(context, name, one) {
  context.beginPath();
  if (name === "objectives") {
    context.arc(0, 0, 8, 0, 7);
    context.moveTo(4, 0);
    context.arc(0, 0, 4, 0, 7);
    if (one.sort === "guard" || one.sort === "take") context.rect(-8, -8, 16, 16);
  } else if (name === "resources") {
    for (let k = 0; k < 6; k += 1) context.lineTo(7 * Math.sin((k * Math.PI) / 3), -7 * Math.cos((k * Math.PI) / 3));
    context.closePath();
  } else if (name === "doors") {
    if (one.sort === "door") context.rect(-5, -8, 10, 16);
    else {
      context.moveTo(-8, 7);
      context.quadraticCurveTo(0, -18, 8, 7);
      context.closePath();
    }
  } else {
    context.moveTo(-8, 6);
    context.lineTo(0, -8);
    context.lineTo(8, 6);
    context.closePath();
  }
}

addMark((context) => {
  if (state.stage !== "sites") return;
  for (const name of AIMS)
    for (const one of each(name)) {
      if (!inView(one)) continue;
      const chosen = state.chosen === `${name}/${one.key}`;
      const [x, y] = screenAt(one.x, one.y);
      context.save();
      context.translate(x, y);
      if (one.reach_m && (chosen || shown())) {
        context.beginPath();
        context.arc(0, 0, one.reach_m / metresPerPixel(), 0, 7);
        context.setLineDash([5, 4]);
        context.lineWidth = 1;
        context.strokeStyle = colourOf(one);
        context.stroke();
        context.setLineDash([]);
      }
      if (name === "doors") leads(context, one, x, y, chosen);
      sign(context, name, one);
      context.fillStyle = "#faf8f1";
      context.fill();
      context.lineWidth = chosen ? 3 : 1.8;
      context.strokeStyle = chosen ? "#a2431f" : colourOf(one);
      context.stroke();
      context.restore();
      const told = chosen || metresPerPixel() < 1.2 || (shown() && name === "objectives");
      if (told) label(one.name, x + 11, y + 18, context);
    }
  if (shown() && state.tabs.round === "cues") for (const cue of each("cues")) links(context, cue);
});

/** From a door to where it leads. @param {CanvasRenderingContext2D} context @param {Row} one @param {number} x @param {number} y @param {boolean} chosen */
function leads(context, one, x, y, chosen) {
  const to = one.thing ? row("things", one.thing) : null;
  const spot = to ?? (one.leads?.[0] ? { x: one.leads[0][0], y: one.leads[0][1] } : null);
  if (!spot) return;
  const [tx, ty] = screenAt(spot.x, spot.y);
  context.beginPath();
  context.moveTo(0, 0);
  // A throw is drawn as it rises, over the straight line.
  if (one.sort === "launch")
    context.quadraticCurveTo((tx - x) / 2, (ty - y) / 2 - Math.hypot(tx - x, ty - y) / 3, tx - x, ty - y);
  else context.lineTo(tx - x, ty - y);
  context.setLineDash(one.sort === "launch" ? [] : [2, 4]);
  context.lineWidth = chosen ? 2.4 : 1.4;
  context.strokeStyle = one.meets ? "#a2431f" : colourOf(one);
  context.stroke();
  context.setLineDash([]);
  context.strokeRect(tx - x - 3, ty - y - 3, 6, 6);
}

/** Where a part of a cue is: the middle of its plot, or its thing. @param {any} where @returns {{x: number, y: number} | null} */
function placeOf(where) {
  const plot = where?.plot ? row("plots", where.plot) : null;
  if (plot) {
    const sum = plot.points.reduce(
      (/** @type {number[]} */ all, /** @type {number[]} */ [x, y]) => [all[0] + x, all[1] + y],
      [0, 0],
    );
    return { x: sum[0] / plot.points.length, y: sum[1] / plot.points.length };
  }
  const own = where?.thing ? row("things", where.thing) : null;
  return own ? { x: own.x, y: own.y } : null;
}

/** Lines from where a cue is set off to what it does something to. @param {CanvasRenderingContext2D} context @param {Row} cue */
function links(context, cue) {
  const froms = cue.when.map(
    (/** @type {Part} */ one) => placeOf(one.where) ?? (one.objective ? row("objectives", one.objective) : null),
  );
  const tos = cue.then.map((/** @type {Part} */ one) => placeOf(one) ?? (one.camp ? row("camps", one.camp) : null));
  for (const cueing of [...rows("cues")].filter((one) =>
    one.when.some((/** @type {Part} */ when) => when.cue === cue.key),
  ))
    tos.push(placeOf(cueing.when.find((/** @type {Part} */ when) => when.where)?.where));
  context.lineWidth = state.chosen === `cues/${cue.key}` ? 2.4 : 1.2;
  context.strokeStyle = cue.off ? NOBODY : "#5b3d7a";
  for (const from of froms.filter(Boolean)) {
    const [x, y] = screenAt(from.x, from.y);
    context.strokeRect(x - 4, y - 4, 8, 8);
    label(cue.name, x + 8, y - 6, context);
    for (const to of tos.filter(Boolean)) {
      const [tx, ty] = screenAt(to.x, to.y);
      const way = Math.atan2(ty - y, tx - x);
      context.beginPath();
      context.moveTo(x, y);
      context.lineTo(tx, ty);
      for (const side of [2.7, -2.7]) {
        context.moveTo(tx, ty);
        context.lineTo(tx + 9 * Math.cos(way + side), ty + 9 * Math.sin(way + side));
      }
      context.stroke();
    }
  }
}
watch(
  () => [...AIMS, "cues", "teams"].map((name) => state.at[name]).concat(Number(shown())),
  () => drawOverlay(),
);
addDrawn("objectives", (one) => [
  { path: () => `/api/start/shape?tint=${encodeURIComponent(colourOf(one))}`, reach: 5 },
]);
watch(
  () => state.at.teams,
  () => drawAnew(),
);

// What there is to gather: asked again when something of it has changed

const known = Alpine.reactive({ totals: /** @type {any[]} */ ([]), at: -1 });
watch(
  () => [shown(), state.world.revision],
  async () => {
    if (!shown() || known.at === state.world.revision) return;
    const at = state.world.revision;
    known.at = at;
    const answer = await fetch(`${base}/totals`);
    if (answer.ok && known.at === at) known.totals = await answer.json();
  },
);

// How teams stand to each other

/** @param {string} one @param {string} other */
const between = (one, other) =>
  rows("relations").find((r) => (r.one === one && r.other === other) || (r.one === other && r.other === one));
/** @param {string} one @param {string} other */
function standsTo(one, other) {
  const said = between(one, other);
  if (!said) return "neutral";
  return said.one === one ? said.stands : (said.back ?? said.stands);
}

// Parts of cues and rules

/** What each sort of part is called, by its kind. @type {Record<string, Record<string, string>>} */
let called = {};
/** The rows that a part names, by field. */
const NAMED = { plot: "plots", thing: "things", objective: "objectives", cue: "cues", camp: "camps", mood: "moods" };

/** A part in words: what it is, and what it says. @param {string} kind @param {Part} part */
function words(kind, part) {
  const said = Object.entries({ ...part, ...part.where, ...part.who }).flatMap(([name, value]) => {
    if (name === "sort" || value === null || value === undefined || typeof value === "object") return [];
    const of = NAMED[/** @type {keyof NAMED} */ (name)];
    if (of) return [row(of, value)?.name ?? value];
    if (name === "reach_m") return part.where?.thing ? [`within ${value} m`] : [];
    if (name === "seconds") return value ? [`${value} s`] : [];
    return [name === "team" ? `team ${value}` : String(value)];
  });
  return `${called[kind]?.[part.sort] ?? part.sort}${said.length ? `: ${said.join(", ")}` : ""}`;
}

/** What a form of a part says, nested as the API has it. @param {HTMLFormElement} form @returns {Part} */
function partOf(form) {
  const out = /** @type {any} */ ({ sort: form.dataset.sort });
  for (const [name, value] of Object.entries(bodyOf(form))) if (value !== null && value !== "") out[name] = value;
  if (out.where)
    out.where = Object.fromEntries(Object.entries(out.where).filter(([, one]) => one !== null && one !== ""));
  if (out.who) out.who = Object.fromEntries(Object.entries(out.who).filter(([, one]) => one !== null && one !== ""));
  return out;
}

const dataOf = (/** @type {Event} */ event, /** @type {string} */ name) =>
  /** @type {HTMLElement} */ (event.currentTarget).dataset[name] || "";
/** What of a briefing was shown last: what a person types stays. */
let briefed = "";
/** Show the briefing in the language that is typed. */
function showBrief() {
  const form = /** @type {HTMLFormElement | null} */ (document.getElementById("briefing"));
  if (!form) return;
  const [language, text] = ["language", "words"].map(
    (one) => /** @type {HTMLInputElement} */ (form.elements.namedItem(one)),
  );
  if (text.value === briefed || !text.value) text.value = briefed = only("rules").briefing?.[language.value] ?? "";
}
watch(() => state.at.rules, showBrief);
/** A cue that says not enough yet to be kept. @type {{when: Part[], then: Part[]} | null} */
const NEW = null;

Alpine.data("round", () => ({
  oneWay: false,
  adding: { when: "", then: "", wins: "", loses: "" },
  and: { wins: false, loses: false },
  draft: /** @type {{when: Part[], then: Part[]} | null} */ (NEW),
  init() {
    called = JSON.parse(
      /** @type {HTMLElement} */ (/** @type {any} */ (this).$root.closest("[data-play]")).dataset.play || "{}",
    );
  },
  remove: () => actions.remove(),

  /** @returns {any} */
  get team() {
    return chosenOf("teams");
  },
  /** @returns {any[]} */
  get teams() {
    void state.at.things;
    const starts = [...each("things")].filter((one) => one.sort === "start");
    return rows("teams")
      .sort((a, b) => a.number - b.number)
      .map((one) => {
        const own = starts.filter((start) => start.team === one.number).length;
        const corners = MARKS[one.mark];
        const path = corners
          ? `M${corners.map(([x, y]) => `${x} ${y}`).join("L")}Z`
          : one.mark === "cross"
            ? "M-4-4L4 4M4-4L-4 4"
            : "M-4 0A4 4 0 1 0 4 0A4 4 0 1 0-4 0";
        const fill = corners || one.mark === "dot" ? one.colour : "none";
        const count = `${own} ${own === 1 ? "start" : "starts"}, ${one.players_least}–${one.players_most} players`;
        return { ...one, path, fill, words: count, chosen: state.chosen === `teams/${one.key}` };
      });
  },
  get matrix() {
    void state.at.relations;
    return this.teams.map((one) => ({
      key: one.key,
      name: one.name,
      cells: this.teams.map((other) => ({
        key: other.key,
        one: one.key,
        other: other.key,
        stands: one.key === other.key ? "" : standsTo(one.key, other.key),
        words: `${one.name} to ${other.name}`,
      })),
    }));
  },
  /** @param {Event} event */
  chooseTeam: (event) => choose("teams", dataOf(event, "team")),
  async addTeam() {
    const made = await ask(`${base}/teams`, "POST", {});
    if (made) choose("teams", made.key);
  },
  /** @param {Event} event */
  setOneWay(event) {
    this.oneWay = /** @type {HTMLInputElement} */ (event.target).checked;
  },
  /** @param {Event} event */
  setStands(event) {
    const [one, other] = [dataOf(event, "one"), dataOf(event, "other")];
    const stands = /** @type {HTMLSelectElement} */ (event.currentTarget).value;
    const said = between(one, other);
    if (!said) ask(`${base}/relations`, "POST", { one, other, stands, back: this.oneWay ? "neutral" : null });
    else if (!this.oneWay) ask(`${base}/relations/${said.key}`, "PATCH", { stands, back: null });
    else if (said.one === one)
      ask(`${base}/relations/${said.key}`, "PATCH", { stands, back: said.back ?? said.stands });
    else ask(`${base}/relations/${said.key}`, "PATCH", { back: stands });
  },

  get aims() {
    return AIMS.flatMap((name) =>
      rows(name).map((one) => ({
        at: `${name}/${one.key}`,
        name: one.name,
        colour: colourOf(one),
        words:
          name === "doors"
            ? one.sort === "launch"
              ? "throws"
              : "leads"
            : name === "resources"
              ? `${one.amount} ${one.of}`
              : name === "camps"
                ? `${one.guards} guards`
                : one.sort,
        chosen: state.chosen === `${name}/${one.key}`,
      })),
    );
  },
  /** Which form the one that is chosen has. */
  get form() {
    const own = chosenOf("objectives");
    if (own) return own.sort === "hold" || own.sort === "guard" ? own.sort : "objective";
    return chosenOf("resources") ? "resource" : chosenOf("camps") ? "camp" : (chosenOf("doors")?.sort ?? "");
  },
  /** @returns {any} */
  get way() {
    return chosenOf("doors");
  },
  get wayWords() {
    const own = this.way;
    if (!own) return "";
    const thing = own.thing ? row("things", own.thing) : null;
    if (thing) return `It leads to ${thing.name}.`;
    if (!own.leads.length) return "It leads nowhere yet.";
    const [x, y] = own.leads[0];
    const far = Math.hypot(x - own.x, y - own.y).toFixed(1);
    if (own.sort === "door") return `It leads ${far} m away.`;
    if (own.speed === null) return `It throws nobody there: ${own.meets}.`;
    return `It throws ${far} m at ${own.speed.toFixed(1)} m/s${own.meets ? `; ${own.meets}` : ""}.`;
  },
  lead() {
    const own = /** @type {any} */ (this.way);
    const said = own.sort === "door" ? { thing: null } : {};
    drawOutline("place", ([[x, y]]) => ask(`${base}/doors/${own.key}?in=world`, "PATCH", { leads: [[x, y]], ...said }));
  },
  /** @param {Event} event */
  leadTo(event) {
    const thing = /** @type {HTMLSelectElement} */ (event.target).value || null;
    ask(`${base}/doors/${/** @type {any} */ (this.way).key}`, "PATCH", { thing });
  },
  /** @param {Event} event */
  takeAim(event) {
    const what = dataOf(event, "place");
    const needs = what === "objective:take" || what === "objective:guard";
    thing = choice.keys.at(-1) ?? "";
    if (needs && !thing) say("Choose the thing first, then take this again.", "calm");
    else state.place = state.place === what ? null : what;
  },
  /** @param {Event} event */
  chooseAim(event) {
    state.chosen = dataOf(event, "aim");
  },
  get totals() {
    return known.totals.map((one) => {
      const shares = Object.entries(one.shares).map(
        ([team, amount]) => `${teamOf(Number(team))?.name ?? team} ${amount}`,
      );
      const also = [one.comes_back ? "comes back" : "", one.guarded ? `${one.guarded} guarded` : ""].filter(Boolean);
      return { of: one.of, words: [String(one.amount), shares.join(" · "), ...also].filter(Boolean).join("; ") };
    });
  },

  /** @returns {any} */
  get cue() {
    return chosenOf("cues");
  },
  get cues() {
    return rows("cues").map((one) => ({ ...one, chosen: state.chosen === `cues/${one.key}` }));
  },
  get editing() {
    return Boolean(this.cue || this.draft);
  },
  get whens() {
    return this.listOf("when");
  },
  get thens() {
    return this.listOf("then");
  },
  /** @param {"when" | "then"} kind */
  listOf(kind) {
    const own = /** @type {any} */ (this.cue);
    const some = /** @type {Part[]} */ (own?.[kind] ?? this.draft?.[kind] ?? []);
    return some.map((one, at) => ({ at, words: words(kind, one), drop: `Take away: ${words(kind, one)}` }));
  },
  /** @param {Event} event */
  chooseCue(event) {
    this.draft = null;
    choose("cues", dataOf(event, "cue"));
  },
  newCue() {
    choose("cues", null);
    this.draft = { when: [], then: [] };
  },
  /** @param {Event} event */
  pick(event) {
    const kind = /** @type {keyof typeof this.adding} */ (dataOf(event, "kind"));
    this.adding[kind] = /** @type {HTMLSelectElement} */ (event.currentTarget).value;
  },
  /** @param {Event} event */
  async add(event) {
    const form = /** @type {HTMLFormElement} */ (event.currentTarget);
    const kind = /** @type {"when" | "then" | "wins" | "loses"} */ (form.dataset.part);
    const part = partOf(form);
    if (kind === "wins" || kind === "loses") {
      const ways = /** @type {Part[][]} */ (only("rules")[kind] ?? []).map((way) => [...way]);
      if (this.and[kind] && ways.length) ways[ways.length - 1].push(part);
      else ways.push([part]);
      if (await ask(`${base}/rules`, "PATCH", { [kind]: ways })) this.adding[kind] = "";
      return;
    }
    const own = /** @type {any} */ (this.cue);
    const now = { when: own?.when ?? this.draft?.when ?? [], then: own?.then ?? this.draft?.then ?? [] };
    const next = { ...now, [kind]: [...now[kind], part] };
    if (own) {
      if (await ask(`${base}/cues/${own.key}`, "PATCH", { [kind]: next[kind] })) this.adding[kind] = "";
      return;
    }
    if (next.when.length && next.then.length) {
      const made = await ask(`${base}/cues`, "POST", { name: `Cue ${rows("cues").length + 1}`, ...next });
      if (!made) return;
      this.draft = null;
      choose("cues", made.key);
    } else this.draft = next;
    this.adding[kind] = "";
  },
  /** @param {Event} event */
  drop(event) {
    const kind = dataOf(event, "kind");
    const at = Number(dataOf(event, "at"));
    if (kind === "wins" || kind === "loses") {
      ask(`${base}/rules`, "PATCH", { [kind]: only("rules")[kind].toSpliced(at, 1) });
      return;
    }
    const of = /** @type {"when" | "then"} */ (kind);
    const own = /** @type {any} */ (this.cue);
    if (own) ask(`${base}/cues/${own.key}`, "PATCH", { [of]: own[of].toSpliced(at, 1) });
    else if (this.draft) this.draft = { ...this.draft, [of]: this.draft[of].toSpliced(at, 1) };
  },

  get wins() {
    return this.ways("wins");
  },
  get loses() {
    return this.ways("loses");
  },
  /** @param {"wins" | "loses"} kind */
  ways(kind) {
    const every = /** @type {Part[][]} */ (only("rules")[kind] ?? []);
    return every.map((way, at) => {
      const said = way.map((one) => words("wins", one)).join(", and ");
      return { at, words: said, drop: `Take away: ${said}` };
    });
  },
  /** @param {Event} event */
  setAnd(event) {
    this.and[/** @type {"wins" | "loses"} */ (dataOf(event, "kind"))] = /** @type {HTMLInputElement} */ (
      event.target
    ).checked;
  },
  get languages() {
    const said = Object.keys(only("rules").briefing ?? {});
    return said.length ? `Said in ${said.join(", ")}.` : "";
  },
  showBrief: () => showBrief(),
  /** @param {Event} event */
  async brief(event) {
    const { language, words: text } = bodyOf(/** @type {HTMLFormElement} */ (event.currentTarget));
    const { [language]: _, ...others } = only("rules").briefing ?? {};
    const briefing = text ? { ...others, [language]: text } : others;
    if (await ask(`${base}/rules`, "PATCH", { briefing }))
      say(text ? "The briefing is kept." : "It is taken out.", "calm");
  },
}));

heed("panel", () => {
  if (state.stage !== "sites") return;
  for (const [id, collection] of [
    ["team", "teams"],
    ["aim-hold", "objectives"],
    ["aim-guard", "objectives"],
    ["aim-objective", "objectives"],
    ["aim-resource", "resources"],
    ["aim-camp", "camps"],
    ["aim-door", "doors"],
    ["aim-launch", "doors"],
    ["cue", "cues"],
  ]) {
    const form = /** @type {HTMLFormElement | null} */ (document.getElementById(id));
    if (form) chosenForm(form, collection);
  }
  showBrief();
});
