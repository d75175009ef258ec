// The world's page: puts the parts together.
import { goTo, refresh } from "./bench.js";
import { leave, walkFrom } from "./eye.js";
import { askLevels, facts, setSea } from "./facts.js";
import { takeLevel } from "./ground.js";
import "./land.js";
import { lookAt } from "./past.js";
import "./keys.js";
import { showKeys } from "./keys.js";
import { connect } from "./live.js";
import { showOverlook } from "./overlook.js";
import { camera, counts, fit, draw, level, screenAt, spotAt, tellView } from "./plan.js";
import "./pointer.js";
import { ask, say, watchHtmx } from "./say.js";
import { fetchKit, fetchThings } from "./sites.js";
import { here, keep, on, state, tell } from "./state.js";
import { endStroke, strokesKept } from "./strokes.js";

const id = (name) => document.getElementById(name);
const base = `/api/worlds/${state.world.id}`;

// Views

function setView(view) {
  state.view = view;
  if (view !== "eye") keep();
  id("panes").dataset.view = view;
  id("scale").classList.toggle("turned", false);
  for (const button of document.querySelectorAll("button[data-view]")) {
    button.setAttribute("aria-pressed", String(button.dataset.view === view));
  }
  tellView();
  showOverlook(view !== "plan");
  draw();
}
for (const button of document.querySelectorAll("button[data-view]")) {
  button.addEventListener("click", () => tell("view", button.dataset.view));
}
on("view", (view) => {
  if (!state.walking) setView(view);
});

// What is shown

const show = id("show");
function showWords() {
  const { contour_m, water, growth, shadows, overlays } = state.show;
  const on = [contour_m > 0 && `contours ${contour_m} m`, water && "water", growth && "growth", shadows && "shadows", ...overlays].filter(Boolean);
  show.querySelector("[data-shown]").textContent = on.join(", ") || "bare ground";
  for (const field of show.querySelectorAll("[name]")) {
    if (field.type === "checkbox") field.checked = state.show[field.name];
    else field.value = String(state.show[field.name]);
  }
  for (const field of show.querySelectorAll("[data-overlay]")) field.checked = overlays.includes(field.dataset.overlay);
}
on("show-changed", () => {
  showWords();
  tell("show");
});
show.addEventListener("change", (event) => {
  const field = event.target;
  if (field.dataset.overlay) {
    const left = state.show.overlays.filter((name) => name !== field.dataset.overlay);
    state.show.overlays = field.checked ? [...left, field.dataset.overlay] : left;
    keep();
    tell("show-changed");
    return;
  }
  state.show[field.name] = field.type === "checkbox" ? field.checked : field.name === "contour_m" ? Number(field.value) : field.value;
  keep();
  showWords();
  tell("show");
});
document.addEventListener("pointerdown", (event) => {
  for (const open of document.querySelectorAll("details[open]:not([data-fold])")) if (!open.contains(event.target)) open.open = false;
});

// The trail

for (const button of document.querySelectorAll("[data-stage]")) button.addEventListener("click", () => goTo(button.dataset.stage));
async function turn(which) {
  // While the button is down, undo takes back the stroke that is being drawn.
  if (state.drawing && which === "undo") {
    endStroke(false);
    return;
  }
  await strokesKept();
  await ask(`${base}/${which}`, "POST");
}
id("undo").addEventListener("click", () => turn("undo"));
id("redo").addEventListener("click", () => turn("redo"));
on("turn", turn);
on("fit", fit);

function showKept(revision, canUndo, canRedo) {
  state.world.revision = revision;
  id("kept").textContent = `r${revision} kept`;
  id("kept").className = "fig kept";
  id("undo").disabled = !canUndo;
  id("redo").disabled = !canRedo;
}
on("drawing", (name) => {
  if (!name) return;
  id("kept").textContent = "drawing …";
  id("kept").className = "fig kept wait";
});
on("taken-back", () => showKept(state.world.revision, !id("undo").disabled, !id("redo").disabled));
on("live:ended", (message) => showKept(message.revision, !id("undo").disabled || message.revision > 0, !id("redo").disabled));
on("connection", (up) => {
  id("kept").className = up ? "fig kept" : "fig kept lost";
  id("kept").textContent = up ? `r${state.world.revision} kept` : "line lost …";
});

const ROWS = ["about", "water", "light", "covers", "mixes", "sheets", "plots", "levels", "lines", "symmetry", "limits"];
const known = (world) =>
  Object.fromEntries(["name", "sea_level_m", "sun_bearing_deg", "sun_height_deg", "covers", "mixes", "sheets", "plots", "levels", "lines", "symmetry", "limits"].map((n) => [n, n === "plots" || n === "lines" ? here(world[n]) : world[n]]));
on("live:revised", async (message) => {
  showKept(message.number, message.can_undo, message.can_redo);
  if (!id("logbook-sheet").hidden) fetchSteps();
  const changed = new Set(message.collections);
  if (ROWS.some((c) => changed.has(c))) {
    const world = await ask(base);
    if (!world) return;
    Object.assign(state.world, known(world));
    for (const place of document.querySelectorAll("[data-world-name]")) place.textContent = world.name;
    document.title = `${world.name} · Fern Field`;
    askLevels();
    tell("look");
    tell("rows");
    if (["water", "light", "cover", "growth"].includes(state.stage)) refresh();
    if (state.stage === "ground" && ["sheets", "plots", "levels", "symmetry", "limits", "recipes"].some((c) => changed.has(c))) refresh();
  }
  if (state.stage === "handover") refresh();
});
on("live:error", (message) => say(message.message));
on("live:revised", async (message) => {
  if (!message.collections.includes("tracts")) return;
  const world = await ask(base);
  if (!world || world.tracts.some((tract) => tract.id === state.world.tract)) return;
  say("This tract was replaced or taken away: opening the world anew …", "calm");
  setTimeout(() => location.assign(`/worlds/${state.world.id}`), 1200);
});
on("live:gone", () => {
  say("This world was deleted. Going back to the list …");
  setTimeout(() => location.assign("/"), 1500);
});
on("all-stale", async () => {
  const world = await ask(base);
  if (world) {
    Object.assign(state.world, known(world));
    tell("rows");
    showKept(world.revision, world.can_undo, world.can_redo);
  }
});

id("rename").addEventListener("submit", async (event) => {
  event.preventDefault();
  await ask(base, "PATCH", { name: event.target.elements.name.value });
  id("world-menu").open = false;
});
id("tract-choice")?.addEventListener("change", (event) => location.assign(`/worlds/${state.world.id}?tract=${event.target.value}`));
document.querySelector("[data-show-keys]").addEventListener("click", showKeys);

// The logbook

function fetchSteps() {
  window.htmx.ajax("GET", `/worlds/${state.world.id}/logbook`, { source: "#steps", target: "#steps", swap: "outerHTML" });
}
function openLogbook(open) {
  id("logbook-sheet").hidden = !open;
  id("logbook").setAttribute("aria-expanded", String(open));
  if (open) fetchSteps();
}
id("logbook").addEventListener("click", () => openLogbook(id("logbook-sheet").hidden));
id("logbook-close").addEventListener("click", () => openLogbook(false));

// The map's menu and the trial

on("walk", (spot) => walkFrom(spot, setView));
on("sea-here", async (spot) => {
  const found = await ask(`/api/tracts/${state.world.tract}/spot?x=${spot.x}&y=${spot.y}`);
  if (found) setSea(found.elevation_m);
});
on("take-here", async (spot) => {
  const found = await ask(`/api/tracts/${state.world.tract}/spot?x=${spot.x}&y=${spot.y}`);
  if (!found) return;
  if (state.stage !== "ground") await goTo("ground");
  takeLevel(found.elevation_m);
});
on("level-here", async (spot) => {
  const found = await ask(`/api/tracts/${state.world.tract}/spot?x=${spot.x}&y=${spot.y}`);
  if (!found) return;
  const name = `E ${Math.round(spot.x)} N ${Math.round(spot.y)}`;
  await ask(`${base}/levels/l${Date.now().toString(36)}`, "PUT", { name, elevation_m: Math.round(found.elevation_m * 100) / 100 });
});
on("figure", (figure) => {
  state.figures = figure ? [...state.figures, figure] : [];
  keep();
  tell("figures");
});
on("keepsake", fetchSteps);
on("place-start", async (spot) => {
  const count = state.things.filter((t) => t.sort === "start").length;
  await ask(`${base}/things`, "POST", { sort: "start", name: `Start ${count + 1}`, x: spot.x, y: spot.y, team: (count % 8) + 1, tract: state.world.tract });
});
document.addEventListener("fern:theme", draw);

// Beginning

/** For tests and the bench: what the page knows and how often it drew. */
window.fern = { state, facts, camera, counts, level, screenAt, spotAt, leave, lookAt };

watchHtmx();
showWords();
if (state.view === "eye") state.view = "plan";
await fetchKit();
connect();
setView(state.view);
await goTo(state.stage);
await fetchThings();
askLevels();
