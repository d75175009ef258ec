// The layout: tracts as rectangles on a sheet with a grid in metres, dragged, snapped, joined.
import { bodyOf, send } from "./forms.js";
import { ask, watchHtmx } from "./say.js";

const id = (name) => document.getElementById(name);
const world = document.body.dataset.world;
const svg = /** @type {any} */ (id("layout"));
const base = `/api/worlds/${world}`;
/** How near an edge has to come to snap to another. [pixels] */
const SNAP = 9;
let tracts = [];
let touching = [];
let chosen = "";
let revision = 0;
let view = { x: 0, y: 0, w: 1, h: 1 };
watchHtmx();

const wide = (t) => (t.cols - 1) * t.spacing_m;
const deep = (t) => (t.rows - 1) * t.spacing_m;
const named = (key) => tracts.find((t) => t.id === key);

function part(name, values, words = "") {
  const found = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [key, value] of Object.entries(values)) found.setAttribute(key, String(value));
  if (words) found.textContent = words;
  return found;
}

/** One, two or five times a power of ten. */
function round(value) {
  const power = 10 ** Math.floor(Math.log10(value));
  return [5, 2, 1].map((step) => step * power).find((step) => step <= value) || power;
}

function look() {
  const west = Math.min(...tracts.map((t) => t.x));
  const east = Math.max(...tracts.map((t) => t.x + wide(t)));
  const south = Math.min(...tracts.map((t) => t.y));
  const north = Math.max(...tracts.map((t) => t.y + deep(t)));
  const rect = svg.getBoundingClientRect();
  const scale = Math.max((east - west) / (rect.width * 0.76), (north - south) / (rect.height * 0.76));
  view = { w: rect.width * scale, h: rect.height * scale, x: (west + east) / 2 - (rect.width * scale) / 2, y: (south + north) / 2 - (rect.height * scale) / 2 };
}
const perPixel = () => view.w / svg.getBoundingClientRect().width;

function draw() {
  svg.setAttribute("viewBox", `${view.x} ${-view.y - view.h} ${view.w} ${view.h}`);
  const px = perPixel();
  const step = round(170 * px);
  const parts = [];
  for (let x = Math.ceil(view.x / step) * step; x < view.x + view.w; x += step) {
    parts.push(part("line", { class: x === 0 ? "grid zero" : "grid", x1: x, x2: x, y1: -view.y, y2: -view.y - view.h }));
    parts.push(part("text", { class: "tick-word", x: x + 4 * px, y: -view.y - 6 * px, "font-size": 11 * px }, `E ${Math.round(x)}`));
  }
  for (let y = Math.ceil(view.y / step) * step; y < view.y + view.h; y += step) {
    parts.push(part("line", { class: y === 0 ? "grid zero" : "grid", y1: -y, y2: -y, x1: view.x, x2: view.x + view.w }));
    parts.push(part("text", { class: "tick-word", x: view.x + 6 * px, y: -y - 4 * px, "font-size": 11 * px }, `N ${Math.round(y)}`));
  }
  const order = [...tracts].sort((a, b) => Number(a.kind === "underground") - Number(b.kind === "underground"));
  for (const t of order) {
    const box = { x: t.x, y: -t.y - deep(t), width: wide(t), height: deep(t) };
    const group = part("g", { "data-tract": t.id, class: `tract ${t.kind}${t.id === chosen ? " chosen" : ""}` });
    group.append(part("image", { href: `/api/tracts/${t.id}/plan.png?width=400&contour_m=0&growth=false&r=${revision}`, preserveAspectRatio: "none", ...box }), part("rect", { ...box, "stroke-width": (t.id === chosen ? 3 : 1.5) * px }));
    group.append(part("text", { class: "name", x: t.x + 8 * px, y: -t.y - deep(t) + 18 * px, "font-size": 13 * px, "stroke-width": 4 * px }, t.name + (t.kind === "underground" ? ", underground" : "")));
    parts.push(group);
  }
  for (const pair of touching) {
    const a = named(pair.first);
    const b = named(pair.second);
    if (!a || !b) continue;
    const line =
      pair.side === "east"
        ? { x1: b.x, x2: b.x, y1: -Math.max(a.y, b.y), y2: -Math.min(a.y + deep(a), b.y + deep(b)) }
        : { y1: -b.y, y2: -b.y, x1: Math.max(a.x, b.x), x2: Math.min(a.x + wide(a), b.x + wide(b)) };
    parts.push(part("line", { class: pair.joined ? "join" : pair.why_not ? "bar" : "may", "stroke-width": 5 * px, "stroke-dasharray": pair.joined ? "none" : `${8 * px} ${5 * px}`, ...line }));
  }
  svg.replaceChildren(...parts);
  const bar = round(120 * px);
  id("layout-scale").textContent = `grid every ${step} m · 1 px ${px.toFixed(px < 10 ? 2 : 0)} m`;
  id("layout-scale").dataset.bar = String(bar);
}

function lists() {
  id("tracts").replaceChildren(
    ...tracts.map((t) => {
      const row = document.createElement("button");
      row.type = "button";
      row.setAttribute("aria-pressed", String(t.id === chosen));
      for (const words of ["", t.name, `${wide(t)} × ${deep(t)} m`]) row.append(Object.assign(document.createElement("span"), { textContent: words }));
      row.lastElementChild.className = "soft fig";
      row.addEventListener("click", () => choose(t.id));
      return row;
    }),
  );
  const box = id("touching");
  box.replaceChildren(...touching.map(pairRow));
  if (!touching.length) box.append(Object.assign(document.createElement("p"), { className: "soft", textContent: "None yet: drag a tract until its edge snaps to another's." }));
}

function pairRow(pair) {
  const row = document.createElement("div");
  row.className = "pair";
  const words = document.createElement("p");
  const names = `${named(pair.first).name} and ${named(pair.second).name}`;
  words.textContent = pair.joined ? `${names}: joined, blended over ${pair.blend_m} m${pair.gap_m > 0.001 ? `; they differ by ${pair.gap_m.toFixed(2)} m again` : ""}` : pair.why_not ? `${names} cannot be joined: ${pair.why_not}.` : `${names} may be joined; their edges differ by up to ${pair.gap_m.toFixed(2)} m.`;
  row.append(words);
  if (!pair.why_not) {
    const field = document.createElement("span");
    field.className = "amount";
    field.innerHTML = '<input type="number" min="0" max="2000" step="any" aria-label="Width of the blend" required><em>m</em>';
    field.querySelector("input").value = String(pair.blend_m ?? 40);
    const button = Object.assign(document.createElement("button"), { type: "button", className: "press main", textContent: pair.joined ? "Join again" : "Join" });
    button.addEventListener("click", async () => {
      const blend = field.querySelector("input");
      if (!blend.reportValidity()) return;
      if (await ask(`${base}/joins`, "POST", { first: pair.first, second: pair.second, blend_m: Number(blend.value) })) again();
    });
    row.append(field, button);
  }
  if (pair.joined) {
    const part_ = Object.assign(document.createElement("button"), { type: "button", className: "press", textContent: "Part" });
    part_.addEventListener("click", async () => (await ask(`${base}/joins/${pair.joined}`, "DELETE")) && again());
    row.append(part_);
  }
  return row;
}

function fill() {
  const form = id("chosen");
  const t = named(chosen);
  form.hidden = !t;
  if (!t) return;
  form.dataset.send = `PATCH /api/tracts/${t.id}`;
  for (const name of ["name", "x", "y", "kind"]) form.elements[name].value = String(t[name]);
  form.querySelector("[data-size]").textContent = `${t.cols} × ${t.rows} posts, one every ${t.spacing_m} m`;
  form.querySelector("[data-enter]").href = `/worlds/${world}?tract=${t.id}`;
  form.querySelector("[data-setup]").href = `/worlds/${world}/setup?tract=${t.id}`;
  form.querySelector("[data-remove]").disabled = tracts.length < 2;
}

function choose(key) {
  chosen = key;
  draw();
  lists();
  fill();
}

async function again() {
  const found = await ask(`${base}/layout`);
  const about = await ask(base);
  if (!found || !about) return;
  ({ tracts, touching } = found);
  revision = about.revision;
  id("kept").textContent = `r${about.revision} kept`;
  id("undo").disabled = !about.can_undo;
  if (!named(chosen)) chosen = tracts[0]?.id || "";
  look();
  choose(chosen);
}

/** A place for a tract: its edges snap to those of others, or its corner to the grid. */
function snapped(t, x, y) {
  const near = SNAP * perPixel();
  const lines = (of) => tracts.filter((o) => o.id !== t.id).flatMap(of);
  const best = (value, size, stops) => {
    const moves = stops.flatMap((stop) => [stop - value, stop - value - size]).filter((move) => Math.abs(move) < near);
    if (moves.length) return value + moves.sort((a, b) => Math.abs(a) - Math.abs(b))[0];
    const step = round(90 * perPixel()) / 10;
    return Math.round(value / step) * step;
  };
  const tidy = (value) => Math.round(value * 1000) / 1000;
  return { x: tidy(best(x, wide(t), lines((o) => [o.x, o.x + wide(o)]))), y: tidy(best(y, deep(t), lines((o) => [o.y, o.y + deep(o)]))) };
}

async function put(t) {
  id("kept").textContent = "moving …";
  await send(id("chosen"), "PATCH", `/api/tracts/${t.id}`, { x: t.x, y: t.y });
  await again();
}

svg.addEventListener("pointerdown", (event) => {
  const key = event.target.closest("[data-tract]")?.dataset.tract;
  if (!key) return;
  choose(key);
  const t = named(key);
  const px = perPixel();
  const from = { x: t.x, y: t.y, at: [event.clientX, event.clientY] };
  svg.setPointerCapture(event.pointerId);
  const move = (now) => {
    Object.assign(t, snapped(t, from.x + (now.clientX - from.at[0]) * px, from.y - (now.clientY - from.at[1]) * px));
    touching = touching.filter((p) => p.first !== key && p.second !== key);
    draw();
    fill();
  };
  svg.addEventListener("pointermove", move);
  svg.addEventListener("pointerup", () => {
    svg.removeEventListener("pointermove", move);
    if (t.x !== from.x || t.y !== from.y) put(t);
  }, { once: true });
});
svg.addEventListener("dblclick", (event) => {
  const key = event.target.closest("[data-tract]")?.dataset.tract;
  if (key) location.assign(`/worlds/${world}?tract=${key}`);
});
svg.addEventListener("keydown", (event) => {
  const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
  const t = named(chosen);
  if (!way || !t) return;
  event.preventDefault();
  const step = event.shiftKey ? 10 * t.spacing_m : t.spacing_m;
  Object.assign(t, { x: t.x + way[0] * step, y: t.y + way[1] * step });
  put(t);
});
id("chosen").addEventListener("submit", () => {}, false);
id("chosen").querySelector("[data-remove]").addEventListener("click", async () => {
  if (await ask(`/api/tracts/${chosen}`, "DELETE")) again();
});
id("undo").addEventListener("click", async () => (await ask(`${base}/undo`, "POST")) && again());
id("add").addEventListener("focusin", () => {
  const form = id("add");
  if (form.dataset.typed) return;
  // A new tract is offered a place to the east of all others.
  form.elements.x.value = String(Math.max(...tracts.map((t) => t.x + wide(t))));
  form.elements.y.value = String(Math.min(...tracts.map((t) => t.y)));
  form.dataset.typed = "yes";
});
document.addEventListener("fern:again", (event) => {
  if (event.detail.tract) chosen = event.detail.tract;
  delete id("add").dataset.typed;
  again();
});
addEventListener("resize", () => {
  look();
  draw();
});
/** For tests: what the page knows. */
window.fernLayout = { tracts: () => tracts, touching: () => touching, view: () => view, bodyOf };
again();
