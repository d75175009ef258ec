// The bench: the stage's panel comes from the server; its tools, its brush and its lists work here.
import Alpine from "../kernel/alpine.js";
import { fieldsOf, fill, settle, valueOf } from "../kernel/forms.js";
import { capital, id } from "../kernel/shapes.js";
import { hears } from "./live.js";
import { only, row } from "./rows.js";
import { actions, announce, brush, clamp, heed, keep, state, tool, TOOLS, watch } from "./state.js";

const box = id("bench");

/** Go to a stage; its panel is fetched. @param {string} stage */
export function goTo(stage) {
  state.stage = stage;
  return state.shows === stage ? Promise.resolve() : new Promise((done) => land.push({ stage, done }));
}
/** Who waits for which panel. @type {{stage: string, done: (value?: unknown) => void}[]} */
let land = [];

/** Fetch the present stage's panel. */
export function fetchPanel() {
  // Its own source: htmx lets requests of one element wait for each other, and keeps the newest.
  const address = `/worlds/${state.world.id}/bench/${state.stage}?tract=${state.world.tract}`;
  // What went wrong is said on the bench itself.
  return window.htmx.ajax("GET", address, { source: "#bench", target: "#bench", swap: "innerHTML" }).catch(() => {});
}
watch(
  () => state.stage,
  () => {
    state.place = null;
    // What was chosen on one stage is not deleted on another.
    state.chosen = null;
    keep();
    fetchPanel();
    comes(state.stage);
  },
);

/** So long the panel of the stage before may stand; then the bench says that another one is coming. [ms] */
const COMES_MS = 250;
/** @param {string} stage */
function comes(stage) {
  setTimeout(() => {
    if (state.stage !== stage || state.shows === stage || failed) return;
    setAside();
    const note = Object.assign(document.createElement("p"), {
      className: "hint",
      textContent: `${capital(stage)} is coming …`,
    });
    note.setAttribute("role", "status");
    box.replaceChildren(note);
    delete box.dataset.shows;
    state.shows = "";
  }, COMES_MS);
}

box.addEventListener("htmx:beforeSwap", (/** @type {CustomEvent} */ event) => {
  if (event.target !== box) return;
  // A panel that comes late, after another stage was chosen, is no longer wanted.
  if (event.detail.xhr.getResponseHeader("x-stage") !== state.stage) event.detail.shouldSwap = false;
  else setAside();
});

// The stage that is chosen is the one that is shown, also where its panel could not be fetched

let retry = 0;
let failed = false;
const again = () => failed && fetchPanel();
for (const what of ["htmx:sendError", "htmx:responseError"])
  box.addEventListener(what, (/** @type {CustomEvent} */ event) => {
    if (event.target !== box || event.detail.target !== box) return;
    setAside();
    const note = document.createElement("p");
    note.className = "alert alert-danger";
    note.textContent = `The bench of ${state.stage} could not be fetched. It comes by itself as soon as the server answers.`;
    box.replaceChildren(note);
    delete box.dataset.shows;
    state.shows = "";
    failed = true;
    clearTimeout(retry);
    retry = setTimeout(again, 2000);
  });
hears("connection", (up) => up && again());

// What is being typed stays, whatever is shown meanwhile

/** What was typed and not yet sent, by stage and form. @type {Map<string, Map<string, string | boolean>>} */
const typedIn = new Map();
/** @param {HTMLFormElement} form */
const keyOfForm = (form) => {
  // What a form changes may be set later, and another time otherwise: one that has a name is known by it.
  if (form.id) return form.id;
  const marks = [...form.attributes].filter((one) => /^(id|hx-p|data-)/.test(one.name) && one.name !== "data-typed");
  return `${state.shows}/${marks.map((one) => `${one.name}=${one.value}`).join()}`;
};
/** @param {HTMLFormElement} form */
const namedFields = (form) => fieldsOf(form).filter((field) => field.name && field.type !== "file");

/** @param {HTMLFormElement} form @param {string} key */
function setFormAside(form, key) {
  if (!form.dataset.typed) return;
  typedIn.set(
    key,
    new Map(
      namedFields(form).map((field) => [
        field.name,
        field instanceof HTMLInputElement && field.type === "checkbox" ? field.checked : field.value,
      ]),
    ),
  );
}
/** @param {HTMLFormElement} form @param {string} key */
function bringFormBack(form, key) {
  const values = typedIn.get(key);
  if (!values) return;
  typedIn.delete(key);
  for (const field of namedFields(form)) {
    const value = values.get(field.name);
    if (typeof value === "boolean") /** @type {HTMLInputElement} */ (field).checked = value;
    else if (value !== undefined) field.value = value;
  }
  form.dataset.typed = "yes";
  settle(form);
}
function setAside() {
  for (const form of box.querySelectorAll("form")) setFormAside(form, keyOfForm(form));
}
function bringBack() {
  for (const form of box.querySelectorAll("form")) bringFormBack(form, keyOfForm(form));
}

/** A form goes over from one row to another: what was typed of the one is there again when it comes back to it. @param {HTMLFormElement} form @param {string} was @param {string} now */
export function turnTo(form, was, now) {
  if (was) {
    setFormAside(form, `${keyOfForm(form)}/${was}`);
    delete form.dataset.typed;
  }
  // After the form has been filled with what the row says.
  queueMicrotask(() => bringFormBack(form, `${keyOfForm(form)}/${now}`));
}
box.addEventListener("htmx:afterSwap", (/** @type {CustomEvent} */ event) => {
  if (event.target !== box) return;
  failed = false;
  // Another stage begins at its top; the same one fetched again stays where it was.
  if (state.shows !== state.stage) box.scrollTop = 0;
  state.shows = state.stage;
  box.dataset.shows = state.stage;
  const ready = land.filter((one) => one.stage === state.stage);
  land = land.filter((one) => one.stage !== state.stage);
  bringBack();
  followRows();
  followTools();
  followFolds();
  followTabs();
  nameFiles();
  announce("panel");
  for (const { done } of ready) done();
});

// Forms that follow a row, but for what is being typed

function followRows() {
  for (const form of /** @type {NodeListOf<HTMLFormElement>} */ (box.querySelectorAll("form[data-row]"))) {
    const [name, key] = (form.dataset.row || "").split("/");
    watchForm(form, () => (key ? row(name, key) : only(name)));
  }
}

/** The settings that belong to one tool, in a form for each. */
function followTools() {
  for (const form of /** @type {NodeListOf<HTMLFormElement>} */ (box.querySelectorAll("form[data-own]"))) {
    const name = form.dataset.own || "";
    watchForm(form, () => ({ ...state.brushes[name].own, turn_deg: state.brushes[name].turn_deg }));
    // Enter in the only field of a form would send it, and load the page anew.
    form.addEventListener("submit", (event) => event.preventDefault());
    form.addEventListener("change", (event) => {
      const field = /** @type {HTMLInputElement} */ (event.target);
      delete form.dataset.typed;
      if (!field.name || !field.reportValidity()) return;
      const value = valueOf(field) ?? null;
      if (field.name === "turn_deg") setBrush({ turn_deg: Number(value) });
      else setBrush({ own: { ...brush()?.own, [field.name]: value } });
    });
  }
}

/** A file is called by its own name, where nobody is asked for one. */
function nameFiles() {
  for (const form of /** @type {NodeListOf<HTMLFormElement>} */ (box.querySelectorAll("form[hx-encoding]"))) {
    const name = /** @type {HTMLInputElement | null} */ (form.querySelector("[name=name]"));
    if (!name) continue;
    form.addEventListener("change", () => {
      const file = /** @type {HTMLInputElement} */ (form.querySelector("[type=file]")).files?.[0];
      name.value = (file?.name || "").replace(/\.[^.]*$/, "").slice(0, 60) || "Picture";
    });
  }
}

/** A form shows what `read` gives, and keeps what is being typed. @param {HTMLFormElement} form @param {() => Record<string, any> | null} read */
export function watchForm(form, read) {
  const effect = Alpine.effect(() => {
    const values = read();
    if (!form.isConnected) return;
    if (values && !form.dataset.typed) fill(form, flat(values));
  });
  heed("panel", () => !form.isConnected && Alpine.release(/** @type {any} */ (effect)));
}

/** What is chosen of a collection. @param {string} name @returns {any} */
export function chosenOf(name) {
  const [of, key] = (state.chosen || "/").split("/");
  return of === name ? row(name, key) : null;
}

/** A form of what is chosen of a collection: it follows that row, keeps what is typed of it, and changes it. @param {HTMLFormElement} form @param {string} name */
export function chosenForm(form, name) {
  let of = "";
  watchForm(form, () => {
    const own = chosenOf(name);
    if (own && own.key !== of) turnTo(form, of, own.key);
    of = own?.key ?? "";
    if (!own) return null;
    form.setAttribute("hx-patch", `/api/worlds/${state.world.id}/${name}/${own.key}?in=world`);
    window.htmx.process(form);
    return own;
  });
}

/** Nested values by dotted names, as forms call them. @param {Record<string, any>} values @param {string} [prefix] @returns {Record<string, any>} */
function flat(values, prefix = "") {
  return Object.fromEntries(
    Object.entries(values).flatMap(([name, value]) =>
      value && typeof value === "object" && !Array.isArray(value)
        ? Object.entries(flat(value, `${prefix}${name}.`))
        : [[prefix + name, value]],
    ),
  );
}

// Folds stay as they were left; the one that is open has the whole bench

function followFolds() {
  let open = /** @type {boolean} */ (false);
  for (const fold of /** @type {NodeListOf<HTMLElement>} */ (box.querySelectorAll("[data-fold]"))) {
    /** @type {boolean} */
    const here = Boolean(state.folds[fold.dataset.fold || ""]) && !open;
    open ||= here;
    fold.classList.toggle("open", here);
    fold.querySelector(".collapse")?.classList.toggle("show", here);
    const button = /** @type {HTMLElement} */ (fold.querySelector(".fold-button"));
    button.classList.toggle("collapsed", !here);
    button.setAttribute("aria-expanded", String(here));
    button.title = here ? "Back to the tools" : "";
  }
  for (const one of [box, ...box.querySelectorAll(".holds")]) one.classList.remove("holds");
  for (let one = box.querySelector(".fold.open"); one && one !== box;) {
    one = one.parentElement;
    one?.classList.add("holds");
  }
}
/** Open one fold of the bench, and shut the others; with "" the tools are back. @param {string} name */
export function openFold(name) {
  const here = [...box.querySelectorAll("[data-fold]")].map((fold) => fold.getAttribute("data-fold") ?? "");
  state.folds = { ...state.folds, ...Object.fromEntries(here.map((one) => [one, one === name])) };
  followFolds();
  box.scrollTop = 0;
  keep();
}
for (const [what, open] of /** @type {[string, boolean][]} */ ([
  ["show.bs.collapse", true],
  ["hide.bs.collapse", false],
])) {
  box.addEventListener(what, (/** @type {Event} */ event) => {
    const part = /** @type {HTMLElement} */ (event.target);
    const name = part.parentElement?.dataset.fold;
    if (name) openFold(open ? name : "");
  });
}

// Tabs too

function followTabs() {
  for (const list of /** @type {NodeListOf<HTMLElement>} */ (box.querySelectorAll("[data-tabs]"))) {
    // The arrows go from tab to tab from the first press on, and the row is one stop.
    for (const each of list.querySelectorAll("[role=tab]")) window.bootstrap.Tab.getOrCreateInstance(each);
    const open = state.tabs[list.dataset.tabs || ""];
    const button = open && list.querySelector(`[data-tab="${open}"]`);
    if (button) window.bootstrap.Tab.getOrCreateInstance(button).show();
  }
}
box.addEventListener("shown.bs.tab", (/** @type {Event} */ event) => {
  const button = /** @type {HTMLElement} */ (event.target);
  const name = /** @type {HTMLElement | null} */ (button.closest("[data-tabs]"))?.dataset.tabs;
  if (!name) return;
  state.tabs = { ...state.tabs, [name]: button.dataset.tab || "" };
  keep();
});
/** Open a tab of the bench. @param {string} name of the row of tabs @param {string} tab */
export function openTab(name, tab) {
  if (state.tabs[name] === tab && box.querySelector(`#${name}-${tab}.active`)) return;
  state.tabs = { ...state.tabs, [name]: tab };
  followTabs();
}

// Tools and subjects

/** Take a tool of the present stage. @param {string} name */
export function take(name) {
  state.tools[state.stage] = name;
  // Its settings are what is worked with now.
  openFold("");
}
actions.tool = take;
actions.stage = goTo;

/** What is in the hand is in sight, where its list gives way to the brush. */
watch(
  () => [state.subjects, state.shows],
  () =>
    Alpine.nextTick(() => {
      for (const one of box.querySelectorAll(".gives-way [aria-pressed=true]"))
        one.scrollIntoView({ block: "nearest" });
    }),
);

Alpine.data("tools", () => ({
  /** @param {Event} event */
  pick(event) {
    const name = /** @type {HTMLElement} */ (event.currentTarget).dataset.tool;
    if (name) take(name);
  },
  /** @param {Event} event */
  subject(event) {
    const { field, key } = /** @type {HTMLElement} */ (event.currentTarget).dataset;
    if (field && key) state.subjects = { ...state.subjects, [field]: key };
    keep();
  },
}));

// The brush

const STEPS = 100;
const toPart = (/** @type {number} */ value, /** @type {[number, number]} */ [low, high]) =>
  (Math.log(value / low) / Math.log(high / low)) * STEPS;
const fromPart = (/** @type {number} */ part, /** @type {[number, number]} */ [low, high]) =>
  low * (high / low) ** (part / STEPS);
/** Three figures at most. */
const tidy = (/** @type {number} */ value) => (value < 10 ? Math.round(value * 10) / 10 : Math.round(value));

/** @returns {import("../types.js").Tool} */
const now = () => TOOLS[tool()] || Object.values(TOOLS)[0];
const NO_BRUSH = { radius: 1, softness: 0, strength: 1, own: {} };

Alpine.data("brush", () => ({
  get own() {
    return brush() || NO_BRUSH;
  },
  get unit() {
    return now().unit;
  },
  get radius() {
    return tidy(this.own.radius);
  },
  get softness() {
    return Math.round(this.own.softness);
  },
  get strength() {
    return tidy(this.own.strength);
  },
  get radiusPart() {
    return toPart(this.own.radius, now().radii);
  },
  get strengthPart() {
    return toPart(this.own.strength, now().strengths);
  },
  get radiusLow() {
    return now().radii[0];
  },
  get radiusHigh() {
    return now().radii[1];
  },
  get radiusRange() {
    return `${this.radiusLow} to ${this.radiusHigh} m`;
  },
  get strengthLow() {
    return now().strengths[0];
  },
  get strengthHigh() {
    return now().strengths[1];
  },
  get strengthRange() {
    return `${this.strengthLow} to ${this.strengthHigh} ${this.unit}`;
  },
  get effect() {
    if (now().timeless) return now().verb;
    const amount = this.unit === "m/s" ? `${this.strength} m` : `${this.strength} %`;
    return `${now().verb} ${amount} each second`;
  },
  get full() {
    return 100 * (1 - this.own.softness / 100);
  },
  get outline() {
    const flat = this.full;
    let path = "M29 60";
    for (let i = 0; i <= 24; i += 1) {
      const t = i / 24;
      path += `L${(29 + (100 - flat) * t).toFixed(1)} ${(60 - 43 * t * t * (3 - 2 * t)).toFixed(1)}`;
    }
    for (let i = 24; i >= 0; i -= 1) {
      const t = i / 24;
      path += `L${(229 - (100 - flat) * t).toFixed(1)} ${(60 - 43 * t * t * (3 - 2 * t)).toFixed(1)}`;
    }
    return `${path}Z`;
  },
  get marks() {
    const flat = this.full;
    return `M${129 - flat} 17V66M${129 + flat} 17V66M29 60V66M229 60V66`;
  },
  get topWords() {
    if (now().timeless) return "";
    return `${this.strength} ${this.unit}`;
  },
  get fullWords() {
    return `${tidy((2 * this.own.radius * this.full) / 100)} m full`;
  },
  get acrossWords() {
    return `${tidy(2 * this.own.radius)} m`;
  },
  /** @param {Event} event */
  slideRadius(event) {
    setBrush({ radius: tidy(fromPart(Number(/** @type {HTMLInputElement} */ (event.target).value), now().radii)) });
  },
  /** @param {Event} event */
  typeRadius(event) {
    typed(event, "radius", now().radii);
  },
  /** @param {Event} event */
  slideSoftness(event) {
    typed(event, "softness", [0, 100]);
  },
  /** @param {Event} event */
  slideStrength(event) {
    setBrush({
      strength: tidy(fromPart(Number(/** @type {HTMLInputElement} */ (event.target).value), now().strengths)),
    });
  },
  /** @param {Event} event */
  typeStrength(event) {
    typed(event, "strength", now().strengths);
  },
}));

/** @param {Event} event @param {string} name @param {[number, number]} range */
function typed(event, name, [low, high]) {
  const field = /** @type {HTMLInputElement} */ (event.target);
  const value = Number(field.value);
  if (field.value === "" || !(value >= low && value <= high)) {
    field.reportValidity();
    return;
  }
  setBrush({ [name]: value });
}

/** Change the present tool's brush. @param {Partial<import("../types.js").Brush>} values */
export function setBrush(values) {
  const own = brush();
  if (!own) return;
  Object.assign(own, values);
  own.radius = clamp(own.radius, ...now().radii);
  own.softness = clamp(own.softness, 0, 100);
  keep();
}
for (const [name, change] of /** @type {[string, (own: any) => any][]} */ ([
  ["radius-less", (own) => ({ radius: own.radius / 1.15 })],
  ["radius-more", (own) => ({ radius: own.radius * 1.15 })],
  ["softness-less", (own) => ({ softness: own.softness - 5 })],
  ["softness-more", (own) => ({ softness: own.softness + 5 })],
])) {
  actions[name] = () => {
    const own = brush();
    if (own) setBrush(change(own));
  };
}
