// Sites: the kit and what is placed from it, marks on the ground, notes; what each does stands in the file of its name.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { chosenForm, chosenOf, fetchPanel, openTab, watchForm } from "/static/js/seen/bench.js";
import { addMark, inView, name } from "/static/js/seen/drawn/overlay.js";
import { addDrawn, drawAnew } from "/static/js/seen/drawn/placed3d.js";
import { metresPerPixel, screenAt } from "/static/js/seen/drawn/plan.js";
import { addPlaced, choose } from "/static/js/seen/hands/placed.js";
import { each, row, rows } from "/static/js/seen/rows.js";
import { actions, heed, state, watch } from "/static/js/seen/state.js";
import { choice } from "./choosing.js";
import "./chosen.js";
import { drawnEntry, entryOf, kit, shapePath, showModel } from "./kit.js";
import "./listed.js";
import { isHidden, partsOf, teamOf } from "./marks.js";
import "./parts.js";
import "./placing.js";
import "./roads.js";
import "./round.js";
import "./scatter.js";
import "./tops.js";
import "./walls.js";

const base = `/api/worlds/${state.world.id}`;
/** The colour of a start that is of no team. */
const NO_TEAM = "#56605a";
const number = (/** @type {string} */ name) => [...each(name)].length + 1;

addPlaced({ stage: "sites", name: "notes", form: "note", make: (what) => (what === "note" ? { text: "Note" } : null) });
addPlaced({
  stage: "sites",
  name: "decals",
  form: "decal",
  turns: true,
  make: (what) =>
    what.startsWith("decal:")
      ? { name: `Mark ${number("decals")}`, picture: what.slice(6), ...(what === "decal:letters" ? { text: "A" } : {}) }
      : null,
});

/** The ends of a wall that is a deck, how long it is, and how far along it a piece lies. @param {import("/static/js/seen/rows.js").Row} thing @param {number} part */
function deckOf(thing, part) {
  const turn = (thing.turn_deg * Math.PI) / 180;
  const [cos, sin] = [Math.cos(turn), Math.sin(turn)];
  /** @type {[number, number][]} */
  const points = thing.points.map((/** @type {[number, number]} */ [right, ahead]) => [
    thing.x + right * cos + ahead * sin,
    thing.y - right * sin + ahead * cos,
  ]);
  let length = 0;
  points.forEach(([x, y], k) => k && (length += Math.hypot(x - points[k - 1][0], y - points[k - 1][1])));
  return { from: points[0], to: points[points.length - 1], length, part };
}

addDrawn("things", (thing) => {
  if (isHidden(thing)) return [];
  if (thing.sort === "start")
    return [
      {
        path: () => `/api/start/shape?tint=${encodeURIComponent(teamOf(thing.team)?.colour ?? NO_TEAM)}`,
        over: thing.over_m,
        reach: 5,
      },
    ];
  return partsOf(thing).flatMap((part, at) => {
    const entry = drawnEntry(part.kit);
    if (!entry) return [];
    const member = thing.members?.[at];
    const own = member ?? thing;
    const over =
      thing.over_m +
      (member ? member.over_m * (thing.size ?? 1) : 0) -
      entry.sinks_m * part.size -
      (entry.meets === "hangs" ? entry.height * part.size : 0);
    return [
      {
        path: (/** @type {number} */ detail) => shapePath(part.kit, { detail, look: own.look, tint: own.tint }),
        right: part.right,
        ahead: part.ahead,
        turn: part.turn,
        tilt: thing.tilt_deg ?? 0,
        over,
        size: part.size,
        deck: member?.part === undefined ? null : deckOf(thing, member.part),
        lies:
          (entry.meets === "lies" || (thing.lies === "along" && entry.meets === "upright")) && !thing.on
            ? entry.half.map((half) => half * part.size)
            : null,
        z: entry.meets === "floats" && !thing.members ? thing.z : null,
        on: thing.on && !thing.members ? { key: thing.on, top: (thing.top_m ?? 0) - thing.over_m } : null,
        reach: Math.max(entry.width, entry.depth, entry.height) * part.size,
        ink: own.tint ?? entry.colour,
      },
    ];
  });
});
watch(
  () => [kit.all, state.at.groups],
  () => drawAnew(),
);

// Decals are in the picture of the ground; the one that is chosen has its frame.
addMark((context) => {
  if (state.stage !== "sites") return;
  const own = chosenOf("decals");
  if (!own) return;
  const [x, y] = screenAt(own.x, own.y);
  const scale = 1 / metresPerPixel();
  context.save();
  context.translate(x, y);
  context.rotate((own.turn_deg * Math.PI) / 180);
  context.strokeStyle = "#a2431f";
  context.lineWidth = 1.4;
  context.setLineDash([5, 3]);
  context.strokeRect((-own.width_m * scale) / 2, (-own.depth_m * scale) / 2, own.width_m * scale, own.depth_m * scale);
  context.restore();
});

// Notes on the plan: a pin in its colour, open at the top once it is done, with its first line.
addMark((context) => {
  if (state.stage !== "sites") return;
  for (const note of each("notes")) {
    if (!inView(note)) continue;
    const [x, y] = screenAt(note.x, note.y);
    context.beginPath();
    context.moveTo(x, y);
    context.lineTo(x, y - 12);
    context.moveTo(x + 5, y - 17);
    context.arc(x, y - 17, 5, 0, 7);
    context.lineWidth = `notes/${note.key}` === state.chosen ? 3 : 1.6;
    context.strokeStyle = note.colour;
    context.fillStyle = note.done ? "#faf8f1" : note.colour;
    context.fill();
    context.stroke();
    name(note.text.split("\n")[0].slice(0, 40), x + 9, y - 13);
  }
});

const dataOf = (/** @type {Event} */ event, /** @type {string} */ name) =>
  /** @type {HTMLElement} */ (event.currentTarget).dataset[name] || "";

Alpine.data("sites", () => ({
  get note() {
    return chosenOf("notes");
  },
  /** Whether somebody stood there and looked somewhere. */
  get noteLooks() {
    return typeof chosenOf("notes")?.facing === "number";
  },
  get decal() {
    return chosenOf("decals");
  },
  get group() {
    return chosenOf("groups");
  },
  lookAsNoted() {
    const { x, y, facing } = chosenOf("notes");
    actions.walk({ x, y, facing });
  },
  /** @param {Event} event */
  chooseNote(event) {
    choose("notes", dataOf(event, "note") || null);
  },
  /** @param {Event} event */
  chooseDecal(event) {
    choose("decals", dataOf(event, "decal") || null);
  },
  remove: () => actions.remove(),
  /** @param {Event} event */
  take(event) {
    const what = dataOf(event, "place") || null;
    state.place = state.place === what ? null : what;
  },
  /** @param {Event} event */
  setPicture(event) {
    const own = chosenOf("decals");
    if (own)
      ask(`${base}/decals/${own.key}`, "PATCH", { picture: /** @type {HTMLSelectElement} */ (event.target).value });
  },
  /** A group that is part of another. @param {Event} event */
  setWithin(event) {
    const own = chosenOf("groups");
    if (own)
      ask(`${base}/groups/${own.key}`, "PATCH", {
        within: /** @type {HTMLSelectElement} */ (event.target).value || null,
      });
  },
  get otherGroups() {
    return rows("groups").filter((one) => one.key !== chosenOf("groups")?.key);
  },
}));

// Entries that people make: forms, and shapes that they bring

/** The entry that is worked on. */
const making = Alpine.reactive({ key: "" });
Alpine.data("ownKit", () => ({
  get list() {
    return rows("kit").map((one) => ({
      key: one.key,
      name: one.name,
      words: one.form,
      chosen: one.key === making.key,
    }));
  },
  get own() {
    return making.key ? row("kit", making.key) : null;
  },
  /** @param {Event} event */
  choose(event) {
    making.key = dataOf(event, "entry");
  },
  /** @param {Event} event */
  async add(event) {
    const form = dataOf(event, "form");
    const like = state.place && entryOf(state.place) && form === "like" ? state.place : null;
    if (form === "like" && !like) {
      say("Take an entry of the kit first: the copy begins as that.");
      return;
    }
    const label = like
      ? `${entryOf(like)?.label} of our own`
      : `${form[0].toUpperCase()}${form.slice(1)} ${rows("kit").length + 1}`;
    const made = await ask(`${base}/kit`, "POST", { name: label, form, ...(like ? { like } : {}) });
    if (made) making.key = made.key;
  },
  async remove() {
    if (making.key && (await ask(`${base}/kit/${making.key}`, "DELETE"))) making.key = "";
  },
  model() {
    const canvas = /** @type {HTMLCanvasElement} */ (/** @type {any} */ (this).$el);
    void kit.all;
    if (making.key && kit.all[making.key]) showModel(canvas, making.key);
  },
  get sizeWords() {
    const one = entryOf(making.key);
    return one ? `${one.width} × ${one.depth} × ${one.height} m, beside a person of 1.8 m` : "";
  },
}));
document.body.addEventListener("fern:kit-model", async (event) => {
  const { key, name: called } = /** @type {CustomEvent} */ (event).detail;
  if (state.stage !== "sites" || !key) return;
  const made = await ask(`${base}/kit`, "POST", { name: called, form: "model", model: key });
  await fetchPanel();
  if (!made) return;
  making.key = made.key;
  say(`${called} is in the kit. Say which axis points up and how large it is, beside the person.`, "calm");
});
document.body.addEventListener("fern:decal-picture", () => state.stage === "sites" && fetchPanel());

heed("panel", () => {
  if (state.stage !== "sites") return;
  for (const [id, collection] of [
    ["note", "notes"],
    ["decal", "decals"],
    ["group", "groups"],
    ["road", "roads"],
  ]) {
    const form = /** @type {HTMLFormElement | null} */ (document.getElementById(id));
    if (form) chosenForm(form, collection);
  }
  const one = /** @type {NodeListOf<HTMLFormElement>} */ (document.querySelectorAll("#bench form[data-chosen-sort]"));
  for (const form of one) {
    const mine = () => {
      const own = choice.keys.length === 1 ? row("things", choice.keys[0]) : null;
      return own && own.sort === form.dataset.chosenSort ? own : null;
    };
    let at = "";
    watchForm(form, () => {
      const own = mine();
      form.id = own ? "chosen" : "";
      if (!own) return null;
      if (own.key !== at) {
        at = own.key;
        delete form.dataset.typed;
        form.setAttribute("hx-patch", `${base}/things/${own.key}?in=world`);
        window.htmx.process(form);
      }
      return own;
    });
  }
  const kitForm = /** @type {HTMLFormElement | null} */ (document.getElementById("kit-entry"));
  let of = "";
  if (kitForm)
    watchForm(kitForm, () => {
      const own = making.key ? row("kit", making.key) : null;
      if (own && own.key !== of) {
        of = own.key;
        delete kitForm.dataset.typed;
        kitForm.setAttribute("hx-patch", `${base}/kit/${own.key}`);
        window.htmx.process(kitForm);
      }
      return own ? { ...own, tags: own.tags.join(", ") } : null;
    });
  if (state.chosen?.startsWith("decals/") || state.chosen?.startsWith("notes/")) openTab("sites", "marks");
});
