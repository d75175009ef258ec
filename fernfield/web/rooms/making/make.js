// Making a world: the starting ground, the live picture, a file that is read and placed.
import Alpine from "/static/js/kernel/alpine.js";
import { bodyOf, fieldsOf, sendInstead, settle, wrongInWords } from "/static/js/kernel/forms.js";
import "/static/js/kernel/focus.js";
import { jsonOf, problemOf, problemWords, reach } from "/static/js/kernel/say.js";
import { id } from "/static/js/kernel/shapes.js";
import { recipeOf, showSettings } from "./recipe.js";

const make = /** @type {HTMLFormElement | null} */ (id("make"));
let timer = 0;

// The picture of the world that would be made

/** The body of the making. @param {HTMLFormElement} form */
function wanted(form) {
  const body = bodyOf(form);
  const ground = body.begin?.ground;
  if (ground !== "seed") return body;
  return { ...body, begin: { ground, recipe: recipeOf(form) } };
}

function picture() {
  if (!make || make.hidden) return;
  const { name, ...spec } = wanted(make);
  clearTimeout(retry);
  const how = { source: "#make-picture", target: "#make-picture", swap: "innerHTML" };
  // What went wrong is said in the picture's own place.
  window.htmx.ajax("GET", "/make/picture", { ...how, values: { spec: JSON.stringify(spec) } }).catch(() => {});
}
let retry = 0;
document.body.addEventListener("htmx:sendError", (event) => {
  const box = id("make-picture");
  if (/** @type {CustomEvent} */ (event).detail.target !== box) return;
  box.innerHTML =
    '<p class="alert alert-danger" role="status">The picture could not be fetched. It comes by itself as soon as the server answers.</p>';
  retry = setTimeout(picture, 2000);
});
document.body.addEventListener("htmx:beforeSwap", (event) => {
  const { detail } = /** @type {CustomEvent} */ (event);
  if (!make || detail.target !== id("make-picture")) return;
  const told = new DOMParser().parseFromString(detail.serverResponse, "text/html");
  const wrong = /** @type {HTMLElement[]} */ ([...told.querySelectorAll("[data-of]")]);
  for (const one of wrong) one.textContent = wrongInWords(make, one.dataset.of || "", one.textContent || "");
  if (wrong.length) detail.serverResponse = told.body.innerHTML;
});
function soon() {
  clearTimeout(timer);
  timer = setTimeout(picture, 200);
}

Alpine.data("making", () => ({
  ground: "plain",
  /** @param {Event} event */
  choose(event) {
    this.ground = /** @type {HTMLElement} */ (event.currentTarget).dataset.ground || "plain";
    if (!make) return;
    make.hidden = this.ground === "file" || this.ground === "copy";
    id("copy").hidden = this.ground !== "copy";
    id("upload").hidden = this.ground !== "file";
    id("make-picture").hidden = make.hidden;
    id("placing").hidden = this.ground !== "file";
    /** @type {HTMLInputElement} */ (make.elements.namedItem("begin.ground")).value = this.ground;
    settle(make);
    soon();
  },
}));

if (make) {
  sendInstead(make, () => wanted(make));
  make.addEventListener("input", (event) => {
    const target = /** @type {HTMLInputElement} */ (event.target);
    if (target.matches("[data-landform]")) showSettings(make);
    if (target.name === "width_m" || target.name === "depth_m") id("make-cells").value = "";
    const cells = Number(id("make-cells").value);
    if (cells)
      for (const name of ["width_m", "depth_m"])
        id(`make-${name}`).value = String(cells * Number(id("make-spacing_m").value));
    soon();
  });
  const copy = () => {
    id("copy").setAttribute("hx-post", `/api/worlds/${id("copy-of").value}/copy`);
    window.htmx.process(id("copy"));
  };
  id("copy-of").addEventListener("change", copy);
  document.addEventListener("DOMContentLoaded", copy);
  copy();
  soon();
}
document.body.addEventListener("fern:made", (event) => {
  const { id: world, job } = /** @type {CustomEvent} */ (event).detail;
  if (job)
    window.htmx.ajax("GET", `/jobs/${job}/card`, { source: "#make-job", target: "#make-job", swap: "afterbegin" });
  else if (world) location.assign(`/worlds/${world}`);
});
// While a world is being made no second one is begun by another press.
document.body.addEventListener("htmx:afterSettle", () => {
  const card = /** @type {HTMLElement | null} */ (id("make-job").querySelector("[data-job-state]"));
  const ended = /done|failed|cancelled/.test(card?.dataset.jobState ?? "done");
  const button = /** @type {HTMLButtonElement | null} */ (make?.querySelector("[type=submit]") ?? null);
  if (button) {
    button.disabled = !ended;
    button.textContent = !card ? "Make it" : ended ? "Make another" : "Being made …";
  }
});

// A file that was read

/** @returns {HTMLFormElement | null} */
const placing = () => document.querySelector("form[data-place]");
let asked = 0;

async function land() {
  const form = placing();
  if (!form || form.dataset.placed) return;
  const file = /** @type {HTMLElement} */ (form.closest("[data-file]")).dataset.file;
  const [facts, image] = [
    /** @type {HTMLElement} */ (document.querySelector("[data-facts]")),
    /** @type {HTMLImageElement} */ (document.querySelector("[data-land]")),
  ];
  const fields = fieldsOf(form).filter((field) => field.name.startsWith("placing."));
  if (!fields.every((field) => field.checkValidity())) {
    facts.textContent = "The land is shown as soon as its spacing and heights are said.";
    image.hidden = true;
    return;
  }
  const body = bodyOf(form);
  const mine = (asked += 1);
  const answer = await reach(`/api/files/${file}/preview`, jsonOf("POST", body.placing || {}), {
    waits: "Drawing the land of the file",
  });
  if (!answer || mine !== asked) return;
  image.hidden = !answer.ok;
  if (!answer.ok) {
    facts.textContent = problemWords(await problemOf(answer));
    return;
  }
  const f = await answer.json();
  facts.textContent =
    `${f.cols} × ${f.rows} posts, ${f.width_m.toFixed(0)} × ${f.depth_m.toFixed(0)} m, ${f.lowest_m.toFixed(1)} to ${f.highest_m.toFixed(1)} m` +
    (f.step_m ? `, in steps of ${f.step_m.toPrecision(3)} m` : "");
  image.src = `/api/files/${file}/preview.png?${new URLSearchParams({ placing: JSON.stringify(body.placing || {}), sea_level_m: String(body.sea_level_m ?? 0) })}`;
}

/** What it is placed as decides which fields there are, and where they are sent. @param {HTMLFormElement} form */
function chooseAs(form) {
  const kind = /** @type {HTMLSelectElement} */ (form.querySelector("[data-as]")).value;
  for (const part of /** @type {NodeListOf<HTMLElement>} */ (form.querySelectorAll("[data-for-as]"))) {
    part.hidden = !(part.dataset.forAs || "").split(" ").includes(kind);
    for (const field of fieldsOf(part)) field.disabled = part.hidden;
  }
  const file = /** @type {HTMLElement} */ (form.closest("[data-file]")).dataset.file;
  form.setAttribute("hx-post", `/api/files/${file}/${kind}`);
  window.htmx.process(form);
}
document.body.addEventListener("htmx:afterSettle", () => {
  const form = placing();
  if (!form || form.dataset.ready) return;
  form.dataset.ready = "yes";
  chooseAs(form);
  form.addEventListener("submit", () => {
    clearTimeout(timer);
    form.dataset.placed = "yes";
  });
  form.addEventListener("input", () => {
    delete form.dataset.placed;
    clearTimeout(timer);
    timer = setTimeout(land, 250);
  });
  form.querySelector("[data-as]")?.addEventListener("change", () => chooseAs(form));
  land();
});
Alpine.start();
