// Growth: the mixes, which of their kinds the tools work on, and what each kind is and asks for.
import Alpine from "/static/js/kernel/alpine.js";
import "./load.js";
import "./plants.js";
import { habitats } from "/static/js/seen/habitat.js";
import { paintModel, paintPerson } from "/static/js/seen/drawn/model.js";
import { sward } from "./swards.js";
import { sendAlso } from "/static/js/kernel/forms.js";
import { ask, reach, say } from "/static/js/kernel/say.js";
import { fetchPanel, turnTo, watchForm } from "/static/js/seen/bench.js";
import { row, rows, subject } from "/static/js/seen/rows.js";
import { heed, keep, showAnew, state, watch } from "/static/js/seen/state.js";

/** @typedef {import("/static/js/types.js").Answers["Part"]} Part */

const base = `/api/worlds/${state.world.id}`;
const box = /** @type {HTMLElement} */ (document.getElementById("bench"));

/** What is open on the bench. @type {{part: string, kind: string, figures: import("/static/js/types.js").Answers["KindFigures"][], switches: string}} */
const open = Alpine.reactive({ part: "", kind: "", figures: [], switches: "" });

/** What is asked for by the way, without a word where nothing comes. */
const CALM = { calm: true };

const mix = () => row("mixes", subject("mix"));
const parts = () => /** @type {Part[]} */ (mix()?.kinds ?? []);
const part = () => parts().find((one) => one.kind === open.part) ?? parts()[0] ?? null;
const kind = () => row("kinds", open.kind) ?? rows("kinds")[0] ?? null;
const nameOf = (/** @type {string} */ key) => row("kinds", key)?.name ?? key;

/** Put other kinds into the mix. @param {Partial<Part>[]} kinds */
const putParts = (kinds) => ask(`${base}/mixes/${subject("mix")}`, "PATCH", { kinds });
/** Change one kind of the mix. @param {Partial<Part>} said */
const patchPart = (said) => ask(`${base}/mixes/${subject("mix")}/kinds/${part()?.kind}`, "PATCH", said);

habitats.part = { of: part, put: (conditions) => patchPart({ conditions }) };
habitats.mix = {
  of: mix,
  put: (conditions) => ask(`${base}/mixes/${subject("mix")}`, "PATCH", { conditions }),
};

heed("panel", () => {
  if (state.stage !== "growth") return;
  for (const form of /** @type {NodeListOf<HTMLFormElement>} */ (box.querySelectorAll("form[data-grow-area]")))
    sendAlso(form, () => {
      const { cover, ...area } = state.area;
      const on = parts().filter((one) => !state.kindsOff.includes(one.kind));
      return {
        ...area,
        ...(cover ? { covered_by: cover } : {}),
        ...(on.length < parts().length ? { kinds: on.map((one) => one.kind) } : {}),
        mix: subject("mix"),
        clear: form.dataset.growArea === "clear",
      };
    });
  follow(
    "form[data-mix-form]",
    () => mix(),
    (own) => `${base}/mixes/${own.key}`,
  );
  follow(
    "form[data-part-form]",
    () => part(),
    (own) => `${base}/mixes/${subject("mix")}/kinds/${own.kind}`,
  );
  follow(
    "form[data-sward-form]",
    () => sward(),
    (own) => `${base}/swards/${own.key}`,
  );
  follow(
    "form[data-kind-form]",
    () => kind(),
    (own) => `${base}/kinds/${own.key}`,
  );
  Alpine.effect(() => look(kind()));
  Alpine.effect(() => askSwitches(kind()));
  askFigures();
});

/** A form shows a row, keeps what is typed of it, and changes it. @param {string} which @param {() => any} read @param {(own: any) => string} path */
function follow(which, read, path) {
  const form = /** @type {HTMLFormElement} */ (box.querySelector(which));
  let at = "";
  watchForm(form, () => {
    const own = read();
    if (!own) return null;
    if (path(own) !== at) {
      turnTo(form, at, path(own));
      at = path(own);
      form.setAttribute("hx-patch", at);
      window.htmx.process(form);
    }
    return own;
  });
}

/** How tall the kind is where its detail changes. @param {any} own */
async function askSwitches(own) {
  if (!own) return;
  const { key, tall_m, simpler_m, card_m, gone_m } = own;
  const answer = await reach(
    `${base}/kinds/${key}/switches?of=${[tall_m, simpler_m, card_m, gone_m].join()}`,
    {},
    CALM,
  );
  if (!answer?.ok || kind()?.key !== key) return;
  const { sizes, seen } = await answer.json();
  const said = (/** @type {string} */ name) => `${whole(sizes[name])} px${seen.includes(name) ? " (seen)" : ""}`;
  open.switches = `On a screen of 1,080 px it turns simpler at ${said("simpler")} tall, a card at ${said("card")}, gone at ${said("gone")}.`;
}

document.body.addEventListener("fern:shape", async (event) => {
  const { key, name, tall_m, wide_m } = /** @type {CustomEvent} */ (event).detail;
  if (state.stage !== "growth" || !key) return;
  await fetchPanel();
  say(`${name} is among the shapes, ${tall_m} m tall, ${wide_m} m around its foot. Choose it for a kind.`, "calm");
});

/** What the mix comes to, in figures. */
async function askFigures() {
  const key = subject("mix");
  if (state.stage !== "growth" || !key) return;
  const answer = await reach(`${base}/mixes/${key}/figures`, {}, CALM);
  if (answer?.ok) open.figures = (await answer.json()).kinds;
}
watch(() => [state.at.mixes, subject("mix")], askFigures);

for (const [event, field] of [["fern:mix", "mix"]])
  document.body.addEventListener(event, (heard) => {
    const { key } = /** @type {CustomEvent} */ (heard).detail;
    if (!key) return;
    state.subjects = { ...state.subjects, [field]: key };
    keep();
    /** @type {HTMLFormElement | null} */ (box.querySelector(`form[data-then=${field}]`))?.reset();
  });

const keyOf = (/** @type {Event} */ event, /** @type {string} */ name) =>
  /** @type {HTMLElement} */ (event.currentTarget).dataset[name] || "";
const whole = (/** @type {number} */ value) => (value >= 10 ? Math.round(value) : Math.round(value * 10) / 10);

Alpine.data("growth", () => ({
  get zero() {
    return mix()?.density_per_ha === 0;
  },
  get lines() {
    const sum = parts().reduce((all, one) => all + one.weight, 0) || 1;
    return parts().map((one) => ({
      kind: one.kind,
      name: nameOf(one.kind),
      colour: row("kinds", one.kind)?.colour ?? "#888888",
      words: `${whole(((mix()?.density_per_ha ?? 0) * one.weight) / sum)}/ha`,
      ticked: !state.kindsOff.includes(one.kind),
      tickWords: `Work on ${nameOf(one.kind)}`,
      chosen: one.kind === part()?.kind,
    }));
  },
  get figures() {
    return open.figures.map((one) => ({ ...one, name: nameOf(one.kind), per_ha: whole(one.reached_per_ha) }));
  },
  get crowded() {
    const tight = open.figures.filter((one) => one.room < 0.98);
    const words = tight.map((one) => `${nameOf(one.kind)} ${Math.round(one.room * 100)} %`);
    return words.length ? `There is room for less than is asked for: ${words.join(", ")}.` : "";
  },
  get others() {
    return rows("kinds").filter((one) => !one.retired && !parts().some((own) => own.kind === one.key));
  },
  get before() {
    const at = parts().findIndex((one) => one.kind === part()?.kind);
    return parts()
      .slice(0, Math.max(0, at))
      .map((one) => ({ key: one.kind, name: nameOf(one.kind) }));
  },
  get partWords() {
    return part() ? `${nameOf(part()?.kind ?? "")} in ${mix()?.name}` : "This mix has no kinds";
  },
  get kinds() {
    return rows("kinds").map((one) => ({
      key: one.key,
      name: one.name,
      colour: one.colour,
      words: one.retired ? "retired" : `${one.tall_m} m`,
      chosen: one.key === kind()?.key,
    }));
  },
  get retired() {
    return Boolean(kind()?.retired);
  },
  get hiddenKind() {
    return state.kindsHidden.includes(kind()?.key);
  },
  get switchWords() {
    return open.switches;
  },
  get lookWords() {
    return kind() ? `${kind().name}: ${kind().tall_m} m tall, drawn beside a person of 1.8 m` : "";
  },
  /** @param {Event} event */
  tick(event) {
    const key = keyOf(event, "tick");
    const on = /** @type {HTMLInputElement} */ (event.currentTarget).checked;
    state.kindsOff = on ? state.kindsOff.filter((one) => one !== key) : [...state.kindsOff, key];
    keep();
  },
  /** @param {Event} event */
  choose(event) {
    open.part = keyOf(event, "part");
    open.kind = open.part;
  },
  /** @param {Event} event */
  chooseKind(event) {
    open.kind = keyOf(event, "kind");
  },
  /** @param {Event} event */
  async addKind(event) {
    const field = /** @type {HTMLSelectElement} */ (event.target);
    const key = field.value;
    field.value = "";
    if (key && (await putParts([...parts(), { kind: key }]))) open.part = key;
  },
  dropKind() {
    const own = part()?.kind;
    putParts(
      parts()
        .filter((one) => one.kind !== own)
        .map((one) => (one.near === own ? { ...one, near: null } : one)),
    );
  },
  removeMix() {
    ask(`${base}/mixes/${subject("mix")}`, "DELETE");
  },
  async copyKind() {
    const { key: _, ...own } = kind() ?? {};
    const made = await ask(`${base}/kinds`, "POST", { ...own, name: `${own.name} again` });
    if (made) open.kind = made.key;
  },
  retire() {
    ask(`${base}/kinds/${kind()?.key}`, "PATCH", { retired: !kind()?.retired });
  },
  hide() {
    const key = kind()?.key;
    state.kindsHidden = this.hiddenKind ? state.kindsHidden.filter((one) => one !== key) : [...state.kindsHidden, key];
    keep();
    showAnew();
  },
  removeKind() {
    ask(`${base}/kinds/${kind()?.key}`, "DELETE");
  },
}));

/** How a kind looks, from the side, with a person beside it. @param {any} own */
async function look(own) {
  const canvas = /** @type {HTMLCanvasElement | null} */ (document.getElementById("kind-look"));
  if (!canvas || !own) return;
  const { key, tall_m, crown_m, form, variant, colour, trunk_m, model } = own;
  const answer = await reach(
    `${base}/kinds/${key}/shape?detail=0&of=${[form, model, variant, colour, trunk_m].join()}`,
    {},
    CALM,
  );
  const pen = canvas.getContext("2d");
  if (!answer?.ok || !pen || kind()?.key !== key) return;
  const corners = new Float32Array(await answer.arrayBuffer());
  const CORNER = 11;
  const { width, height } = canvas;
  const scale = Math.min((height - 22) / Math.max(tall_m, 2), (width - 60) / (2 * crown_m + 1.5));
  const ground = height - 12;
  const middle = width / 2 - 14;
  pen.clearRect(0, 0, width, height);
  pen.strokeStyle = "#8a8f86";
  pen.beginPath();
  pen.moveTo(6, ground + 0.5);
  pen.lineTo(width - 6, ground + 0.5);
  pen.stroke();
  // Seen from the south, a little from the east.
  paintModel(pen, corners, { stride: CORNER, scale, middle, ground });
  paintPerson(pen, middle + crown_m * scale + 16, ground, scale);
}
