// The layout: tracts as rectangles on a sheet with a grid in metres, dragged, snapped, joined.
import Alpine from "/static/js/kernel/alpine.js";
import { fill } from "/static/js/kernel/forms.js";
import "/static/js/kernel/focus.js";
import { ask } from "/static/js/kernel/say.js";
import { drag, id, roundDown, svg } from "/static/js/kernel/shapes.js";
import { tell } from "/static/js/kernel/tell.js";

/** @typedef {{id: string, name: string, rows: number, cols: number, spacing_m: number, x: number, y: number, kind: string}} Tract */
/** @typedef {{first: string, second: string, side: string, joined: string | null, why_not: string | null, gap_m: number, blend_m: number | null}} Pair */

const world = document.body.dataset.world || "";
const sheet = id("layout");
const base = `/api/worlds/${world}`;
/** How near an edge has to come to snap to another. [pixels] */
const SNAP = 9;
/** What the page knows. @type {{tracts: Tract[], touching: Pair[], chosen: string}} */
const known = Alpine.reactive({ tracts: [], touching: [], chosen: "" });
let revision = 0;
let view = { x: 0, y: 0, w: 1, h: 1 };

const wide = (/** @type {Tract} */ t) => (t.cols - 1) * t.spacing_m;
const deep = (/** @type {Tract} */ t) => (t.rows - 1) * t.spacing_m;
const named = (/** @type {string} */ key) => known.tracts.find((t) => t.id === key);

function look() {
  const all = known.tracts;
  const west = Math.min(...all.map((t) => t.x));
  const east = Math.max(...all.map((t) => t.x + wide(t)));
  const south = Math.min(...all.map((t) => t.y));
  const north = Math.max(...all.map((t) => t.y + deep(t)));
  const rect = sheet.getBoundingClientRect();
  const scale = Math.max((east - west) / (rect.width * 0.76), (north - south) / (rect.height * 0.76));
  view = {
    w: rect.width * scale,
    h: rect.height * scale,
    x: (west + east) / 2 - (rect.width * scale) / 2,
    y: (south + north) / 2 - (rect.height * scale) / 2,
  };
}
const perPixel = () => view.w / sheet.getBoundingClientRect().width;

function draw() {
  sheet.setAttribute("viewBox", `${view.x} ${-view.y - view.h} ${view.w} ${view.h}`);
  const px = perPixel();
  const step = roundDown(170 * px);
  const parts = [];
  for (let x = Math.ceil(view.x / step) * step; x < view.x + view.w; x += step) {
    parts.push(svg("line", { class: x === 0 ? "grid zero" : "grid", x1: x, x2: x, y1: -view.y, y2: -view.y - view.h }));
    parts.push(
      svg(
        "text",
        { class: "tick-word", x: x + 4 * px, y: -view.y - 6 * px, "font-size": 11 * px },
        `E ${Math.round(x)}`,
      ),
    );
  }
  for (let y = Math.ceil(view.y / step) * step; y < view.y + view.h; y += step) {
    parts.push(svg("line", { class: y === 0 ? "grid zero" : "grid", y1: -y, y2: -y, x1: view.x, x2: view.x + view.w }));
    parts.push(
      svg(
        "text",
        { class: "tick-word", x: view.x + 6 * px, y: -y - 4 * px, "font-size": 11 * px },
        `N ${Math.round(y)}`,
      ),
    );
  }
  const order = [...known.tracts].sort((a, b) => Number(a.kind === "underground") - Number(b.kind === "underground"));
  for (const t of order) {
    const box = { x: t.x, y: -t.y - deep(t), width: wide(t), height: deep(t) };
    parts.push(
      svg("g", { "data-tract": t.id, class: `tract ${t.kind}${t.id === known.chosen ? " chosen" : ""}` }, "", [
        svg("image", {
          href: `/api/tracts/${t.id}/plan.png?width=400&contour_m=0&growth=false&r=${revision}`,
          preserveAspectRatio: "none",
          ...box,
        }),
        svg("rect", { ...box, "stroke-width": (t.id === known.chosen ? 3 : 1.5) * px }),
        svg(
          "text",
          { class: "name", x: t.x + 8 * px, y: -t.y - deep(t) + 18 * px, "font-size": 13 * px, "stroke-width": 4 * px },
          t.name + (t.kind === "underground" ? ", underground" : ""),
        ),
      ]),
    );
  }
  for (const pair of known.touching) {
    const [a, b] = [named(pair.first), named(pair.second)];
    if (!a || !b) continue;
    const line =
      pair.side === "east"
        ? { x1: b.x, x2: b.x, y1: -Math.max(a.y, b.y), y2: -Math.min(a.y + deep(a), b.y + deep(b)) }
        : { y1: -b.y, y2: -b.y, x1: Math.max(a.x, b.x), x2: Math.min(a.x + wide(a), b.x + wide(b)) };
    parts.push(
      svg("line", {
        class: pair.joined ? "join" : pair.why_not ? "bar" : "may",
        "stroke-width": 5 * px,
        "stroke-dasharray": pair.joined ? "none" : `${8 * px} ${5 * px}`,
        ...line,
      }),
    );
  }
  sheet.replaceChildren(...parts);
  id("layout-scale").textContent = `grid every ${step} m · 1 px ${px.toFixed(px < 10 ? 2 : 0)} m`;
}

/** How wide a join is blended before anybody says otherwise. */
const FIRST_BLEND_M = 40;

/** @param {Pair} pair */
function pairWords(pair) {
  const names = `${named(pair.first)?.name} and ${named(pair.second)?.name}`;
  if (pair.joined)
    return `${names}: joined, blended over ${pair.blend_m} m${pair.gap_m > 0.001 ? `; they differ by ${pair.gap_m.toFixed(2)} m again` : ""}`;
  return pair.why_not
    ? `${names} cannot be joined: ${pair.why_not}.`
    : `${names} may be joined; their edges differ by up to ${pair.gap_m.toFixed(2)} m.`;
}

const form = () => /** @type {HTMLFormElement} */ (id("chosen"));

/** @param {string} key */
function choose(key) {
  if (key !== known.chosen) delete form().dataset.typed;
  known.chosen = key;
  show();
}

/** The form says what is chosen, but for what is being typed; the sheet is drawn. */
function show() {
  const t = named(known.chosen);
  if (t) {
    form().setAttribute("hx-patch", `/api/tracts/${t.id}`);
    window.htmx.process(form());
    if (!form().dataset.typed) fill(form(), t);
  }
  draw();
}

Alpine.data("layout", () => ({
  get tracts() {
    return known.tracts.map((t) => ({ ...t, size: `${wide(t)} × ${deep(t)} m` }));
  },
  get touching() {
    return known.touching.map((pair) => ({ ...pair, words: pairWords(pair), blend_m: pair.blend_m ?? FIRST_BLEND_M }));
  },
  get chosen() {
    return known.chosen;
  },
  get posts() {
    const t = named(known.chosen);
    return t ? `${t.cols} × ${t.rows} posts, one every ${t.spacing_m} m` : "";
  },
  get enter() {
    return `/worlds/${world}?tract=${known.chosen}`;
  },
  get setup() {
    return `/worlds/${world}/setup?tract=${known.chosen}`;
  },
  /** @param {Event} event */
  choose: (event) => choose(/** @type {HTMLElement} */ (event.currentTarget).dataset.of || ""),
  async remove() {
    if (await ask(`/api/tracts/${known.chosen}`, "DELETE")) again();
  },
  /** @param {Event} event */
  async join(event) {
    const button = /** @type {HTMLElement} */ (event.currentTarget);
    const field = /** @type {HTMLInputElement} */ (button.parentElement?.querySelector("input"));
    if (!field.reportValidity()) return;
    if (
      await ask(`${base}/joins`, "POST", {
        first: button.dataset.first,
        second: button.dataset.second,
        blend_m: Number(field.value),
      })
    )
      again();
  },
  /** @param {Event} event */
  async part(event) {
    if (await ask(`${base}/joins/${/** @type {HTMLElement} */ (event.currentTarget).dataset.join}`, "DELETE")) again();
  },
}));

async function again() {
  const found = await ask(`${base}/layout`);
  const about = found && (await ask(base));
  if (!found || !about) return false;
  const first = known.tracts.length === 0;
  Object.assign(known, { tracts: found.tracts, touching: found.touching });
  ({ revision } = about);
  if (!named(known.chosen)) known.chosen = known.tracts[0].id;
  id("kept").textContent = `r${revision} kept`;
  id("undo").disabled = !about.can_undo;
  for (const { id: key, x, y } of known.tracts) kept.set(key, { x, y });
  if (first) look();
  show();
  return true;
}

/** A place for a tract: its edges snap to those of others, or its corner to the grid. @param {Tract} t @param {number} x @param {number} y */
function snapped(t, x, y) {
  const near = SNAP * perPixel();
  const lines = (/** @type {(o: Tract) => number[]} */ of) => known.tracts.filter((o) => o.id !== t.id).flatMap(of);
  const best = (/** @type {number} */ value, /** @type {number} */ size, /** @type {number[]} */ stops) => {
    const moves = stops.flatMap((stop) => [stop - value, stop - value - size]).filter((move) => Math.abs(move) < near);
    if (moves.length) return value + moves.sort((a, b) => Math.abs(a) - Math.abs(b))[0];
    const step = roundDown(90 * perPixel()) / 10;
    return Math.round(value / step) * step;
  };
  const tidy = (/** @type {number} */ value) => Math.round(value * 1000) / 1000;
  return {
    x: tidy(
      best(
        x,
        wide(t),
        lines((o) => [o.x, o.x + wide(o)]),
      ),
    ),
    y: tidy(
      best(
        y,
        deep(t),
        lines((o) => [o.y, o.y + deep(o)]),
      ),
    ),
  };
}

/** @param {Tract} t */
async function put(t) {
  id("kept").textContent = "moving …";
  const moved = await ask(`/api/tracts/${t.id}`, "PATCH", { x: t.x, y: t.y });
  if (moved) tell(`${t.name} at east ${t.x}, north ${t.y}`);
  if (await again()) return;
  // Nothing was heard: what is shown is what was known before.
  Object.assign(t, kept.get(t.id));
  id("kept").textContent = `line lost · r${revision}`;
  show();
  setTimeout(whenItAnswers, 2000);
}
/** The layout is fetched as soon as the server answers again. */
async function whenItAnswers() {
  const answers = await fetch("/healthz").then(
    (answer) => answer.ok,
    () => false,
  );
  if (!answers || !(await again())) setTimeout(whenItAnswers, 2000);
}
/** Where each tract stands as far as the server has said. @type {Map<string, {x: number, y: number}>} */
const kept = new Map();

drag(
  sheet,
  (event) => {
    const key = /** @type {Element} */ (event.target).closest("[data-tract]")?.getAttribute("data-tract");
    if (!key) return null;
    choose(key);
    const t = named(key);
    return t ? { key, x: t.x, y: t.y, at: [event.clientX, event.clientY] } : null;
  },
  {
    move(from, now) {
      const t = named(from.key);
      if (!t) return;
      const px = perPixel();
      Object.assign(t, snapped(t, from.x + (now.clientX - from.at[0]) * px, from.y - (now.clientY - from.at[1]) * px));
      known.touching = known.touching.filter((p) => p.first !== from.key && p.second !== from.key);
      delete form().dataset.typed;
      show();
    },
    end(from) {
      const t = named(from.key);
      if (t && (t.x !== from.x || t.y !== from.y)) put(t);
    },
    drop: again,
  },
);
sheet.addEventListener("keydown", (/** @type {KeyboardEvent} */ event) => {
  const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
  const t = named(known.chosen);
  if (!way || !t) return;
  event.preventDefault();
  // By a post, by ten, by a screen.
  const step = event.ctrlKey
    ? Math.round((view.w * 0.5) / t.spacing_m) * t.spacing_m
    : event.shiftKey
      ? 10 * t.spacing_m
      : t.spacing_m;
  Object.assign(t, { x: t.x + way[0] * step, y: t.y + way[1] * step });
  put(t);
});
id("undo").addEventListener("click", async () => (await ask(`${base}/undo`, "POST")) && again());
id("add").addEventListener("focusin", () => {
  if (id("add").dataset.typed) return;
  // A new tract is offered a place to the east of all others.
  fill(id("add"), {
    x: Math.max(...known.tracts.map((t) => t.x + wide(t))),
    y: Math.min(...known.tracts.map((t) => t.y)),
  });
  id("add").dataset.typed = "yes";
});
document.body.addEventListener("fern:again", (event) => {
  const { tract } = /** @type {CustomEvent} */ (event).detail;
  if (tract) known.chosen = tract;
  delete id("add").dataset.typed;
  again();
});
addEventListener("keydown", (event) => {
  if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "z" || event.shiftKey) return;
  if (/** @type {Element} */ (event.target).closest("input, textarea, select")) return;
  event.preventDefault();
  id("undo").click();
});
addEventListener("resize", () => {
  look();
  draw();
});
/** For tests: what the page knows. */
window.fernLayout = { tracts: () => known.tracts, touching: () => known.touching, view: () => view };
Alpine.start();
again();
