// Sites: choosing, placing, moving, turning and deleting pieces and starts on the plan.
import { refresh } from "./bench.js";
import { HANDLE } from "./overlay.js";
import { screenAt } from "./plan.js";
import { ask, say } from "./say.js";
import { clamp, grid, here, on, state, tell } from "./state.js";

const base = `/api/worlds/${state.world.id}`;
const FIELDS = ["name", "x", "y", "over_m", "turn_deg", "team", "default"];

export async function fetchThings() {
  const found = await ask(`${base}/things`);
  if (!found) return;
  state.things = here(found);
  if (state.chosen && !state.things.some((t) => t.id === state.chosen)) state.chosen = null;
  tell("things");
  fill();
}

export async function fetchKit() {
  const found = await ask("/api/kit");
  if (found) state.kit = found;
}

const chosen = () => state.things.find((t) => t.id === state.chosen) || null;

/** A thing as the API takes it. */
const body = ({ sort, kit, name, x, y, over_m, turn_deg, team, default: first, tract }) => ({ sort, kit, name, x, y, over_m, turn_deg, team, default: first, tract });

export function choose(id) {
  state.chosen = id;
  tell("chosen");
  fill();
}
on("choose", choose);

function fill() {
  const form = document.getElementById("chosen");
  if (!form) return;
  const thing = chosen();
  form.hidden = !thing;
  // What is being typed of this thing stays; another one's fields take its place.
  if (!thing || (form.dataset.typed && form.dataset.of === thing.id)) return;
  form.dataset.of = thing.id;
  delete form.dataset.typed;
  for (const name of FIELDS) {
    const field = form.elements[name];
    if (field.type === "checkbox") field.checked = thing[name];
    else field.value = typeof thing[name] === "number" ? String(Math.round(thing[name] * 100) / 100) : (thing[name] ?? "");
  }
  form.querySelector("[data-only='start']").hidden = thing.sort !== "start";
}
on("bench", fill);

async function put(thing) {
  const done = await ask(`${base}/things/${thing.id}`, "PUT", body(thing));
  if (!done) await fetchThings();
}

export async function remove() {
  const thing = chosen();
  if (!thing) return;
  state.chosen = null;
  if (await ask(`${base}/things/${thing.id}`, "DELETE")) say(`${thing.name} is deleted. Undo brings it back.`, "calm");
}

async function place(spot) {
  const kind = state.kit.pieces.find((p) => p.name === state.place);
  const label = kind?.label || "Start";
  const same = state.things.filter((t) => (kind ? t.kit === kind.name : t.sort === "start")).length;
  const thing = {
    sort: kind ? "piece" : "start",
    kit: kind?.name || null,
    name: `${label} ${same + 1}`,
    x: clamp(spot.x, 0, (grid.cols - 1) * grid.spacing),
    y: clamp(spot.y, 0, (grid.rows - 1) * grid.spacing),
    over_m: 0,
    turn_deg: 0,
    team: kind ? null : (same % 8) + 1,
    default: false,
    tract: state.world.tract,
  };
  const made = await ask(`${base}/things`, "POST", thing);
  if (!made) return;
  state.place = null;
  tell("place");
  await fetchThings();
  choose(made.id);
}

/** Which thing a pixel of the plan hits: {thing, part}. */
function hit(px, py) {
  const own = chosen();
  if (own) {
    const [x, y] = screenAt(own.x, own.y);
    const turn = (own.turn_deg * Math.PI) / 180;
    if (Math.hypot(px - x - Math.sin(turn) * HANDLE, py - y + Math.cos(turn) * HANDLE) < 9) return { thing: own, part: "turn" };
  }
  let best = null;
  let nearest = 14;
  for (const thing of state.things) {
    const [x, y] = screenAt(thing.x, thing.y);
    const away = Math.hypot(px - x, py - y);
    if (away < nearest) [best, nearest] = [thing, away];
  }
  return best && { thing: best, part: "body" };
}

let drag = null;

/** The pointer went down on the plan; true when Sites took it. */
export function down(px, py, spot) {
  if (state.stage !== "sites") return false;
  if (state.place) {
    place(spot);
    return true;
  }
  const found = hit(px, py);
  if (!found) {
    choose(null);
    return false;
  }
  choose(found.thing.id);
  drag = { ...found, px, py, moved: false };
  return true;
}

export function move(px, py, spot) {
  if (!drag) return false;
  if (!drag.moved && Math.hypot(px - drag.px, py - drag.py) < 4) return true;
  drag.moved = true;
  const thing = drag.thing;
  if (drag.part === "turn") {
    const [x, y] = screenAt(thing.x, thing.y);
    thing.turn_deg = (Math.round((Math.atan2(px - x, y - py) * 180) / Math.PI) + 360) % 360;
  } else {
    thing.x = clamp(spot.x, 0, (grid.cols - 1) * grid.spacing);
    thing.y = clamp(spot.y, 0, (grid.rows - 1) * grid.spacing);
  }
  delete document.getElementById("chosen")?.dataset.typed;
  tell("things");
  fill();
  return true;
}

export function up() {
  if (!drag) return false;
  const { thing, moved } = drag;
  drag = null;
  if (moved) put(thing);
  return true;
}

const box = document.getElementById("bench");
box.addEventListener("submit", (event) => {
  if (event.target.id !== "chosen") return;
  event.preventDefault();
  const thing = chosen();
  const form = event.target;
  if (!thing || !form.reportValidity()) return;
  const values = { ...thing };
  for (const name of FIELDS) {
    const field = form.elements[name];
    if (field.type === "checkbox") values[name] = thing.sort === "start" && field.checked;
    else if (name === "team") values[name] = field.value ? Number(field.value) : null;
    else values[name] = field.type === "number" ? Number(field.value) : field.value;
  }
  put(values);
});
box.addEventListener("click", (event) => {
  if (event.target.closest("[data-remove]")) remove();
  if (event.target.closest("[data-let-go]")) choose(null);
});

on("live:revised", (message) => {
  if (message.collections.includes("things")) {
    fetchThings();
    if (state.stage === "sites" || state.stage === "trial") refresh();
  }
});
on("all-stale", fetchThings);
on("stale", (message) => message.layers?.includes("height") && !state.drawing && fetchThings());
on("drawing", (name) => !name && state.view !== "plan" && fetchThings());
