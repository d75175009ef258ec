// Making a world: the starting ground, the live picture, a file that is read and placed.
import { bodyOf, send, settleChoices } from "./forms.js";
import { recipeOf, showSettings } from "./recipe.js";
import { watchHtmx } from "./say.js";

const id = (name) => document.getElementById(name);
const make = /** @type {HTMLFormElement | null} */ (id("make"));
const into = document.body.dataset.into;
let ground = "plain";
let timer = 0;
let asked = 0;

watchHtmx();

/** The body of the making. */
function wanted() {
  const body = bodyOf(make);
  for (const field of make.querySelectorAll("[data-recipe] [name]")) delete body[field.name];
  if (ground === "seed") body.begin = { ground, recipe: recipeOf(make) };
  return body;
}

async function picture() {
  if (!make || make.hidden) return;
  const mine = (asked += 1);
  const { name, ...spec } = wanted();
  const answer = await fetch(`/make/picture?spec=${encodeURIComponent(JSON.stringify(spec))}`);
  const text = await answer.text();
  if (mine === asked) id("make-picture").innerHTML = text;
}
function soon() {
  clearTimeout(timer);
  timer = setTimeout(picture, 200);
}

function choose(kind) {
  ground = kind;
  for (const button of document.querySelectorAll("[data-ground]")) button.setAttribute("aria-pressed", String(button.dataset.ground === kind));
  make.hidden = kind === "file" || kind === "copy";
  id("copy").hidden = kind !== "copy";
  id("upload").hidden = kind !== "file";
  id("make-picture").hidden = make.hidden;
  id("placing").hidden = kind !== "file";
  make.elements["begin.ground"].value = kind;
  for (const part of make.querySelectorAll("[data-for]")) part.hidden = !part.dataset.for.split(" ").includes(kind);
  make.dataset.slot = kind === "seed" ? "#make-job" : "";
  soon();
}

if (make) {
  make.body = wanted;
  for (const button of document.querySelectorAll("[data-ground]")) button.addEventListener("click", () => choose(button.dataset.ground));
  make.addEventListener("input", (event) => {
    if (event.target.matches("[data-landform]")) showSettings(make);
    if (event.target.id === "make-width" || event.target.id === "make-depth") id("make-cells").value = "";
    const cells = Number(id("make-cells").value);
    if (cells) for (const name of ["width_m", "depth_m"]) make.elements[name].value = String(cells * Number(make.elements.spacing_m.value));
    soon();
  });
  id("copy").addEventListener("submit", () => {
    id("copy").dataset.send = `POST /api/worlds/${id("copy-of").value}/copy`;
  }, { capture: true });
  choose("plain");
}
id("upload").dataset.query = into ? `into=${into}` : "";

// A file that was read

function placing() {
  return /** @type {HTMLFormElement | null} */ (document.querySelector("form[data-place]"));
}
async function land() {
  const form = placing();
  if (!form || form.dataset.placed) return;
  const file = document.querySelector("[data-file]").dataset.file;
  const fields = [...form.elements].filter((field) => field.name.startsWith("placing."));
  if (!fields.every((field) => field.checkValidity())) {
    document.querySelector("[data-facts]").textContent = "The land is shown as soon as its spacing and heights are said.";
    document.querySelector("[data-land]").hidden = true;
    return;
  }
  const body = bodyOf(form);
  const mine = (asked += 1);
  const facts = await send(form, "POST", `/api/files/${file}/preview`, body.placing || {});
  if (mine !== asked) return;
  const image = document.querySelector("[data-land]");
  image.hidden = !facts;
  document.querySelector("[data-facts]").textContent = facts
    ? `${facts.cols} × ${facts.rows} posts, ${facts.width_m.toFixed(0)} × ${facts.depth_m.toFixed(0)} m, ${facts.lowest_m.toFixed(1)} to ${facts.highest_m.toFixed(1)} m` + (facts.step_m ? `, in steps of ${facts.step_m.toPrecision(3)} m` : "")
    : "";
  if (facts) image.src = `/api/files/${file}/preview.png?${new URLSearchParams({ placing: JSON.stringify(body.placing || {}), sea_level_m: String(body.sea_level_m ?? 0) })}`;
}
function chooseAs(form) {
  const kind = form.querySelector("[data-as]").value;
  for (const part of form.querySelectorAll("[data-for-as]")) part.hidden = !part.dataset.forAs.split(" ").includes(kind);
  for (const field of form.querySelectorAll("input[type=hidden][data-for-as]")) field.disabled = field.dataset.forAs !== kind;
  form.dataset.send = `POST /api/files/${document.querySelector("[data-file]").dataset.file}/${kind}`;
}
document.body.addEventListener("htmx:afterSettle", () => {
  const form = placing();
  if (!form || form.dataset.ready) return;
  form.dataset.ready = "yes";
  chooseAs(form);
  settleChoices(form);
  form.addEventListener("submit", () => {
    clearTimeout(timer);
    form.dataset.placed = "yes";
  });
  form.addEventListener("input", () => {
    delete form.dataset.placed;
    clearTimeout(timer);
    timer = setTimeout(land, 250);
  });
  form.addEventListener("change", () => chooseAs(form));
  land();
});
for (const form of document.forms) settleChoices(form);
