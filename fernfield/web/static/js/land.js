// Land from a seed: the recipe's form, its preview, and the job that makes it.
import { ask, problemWords, say } from "./say.js";
import { on, state } from "./state.js";

const box = document.getElementById("bench");
const path = `/api/tracts/${state.world.tract}/generate`;

/** The recipe that a form says, as the API has it. */
function recipeOf(form) {
  const value = (name) => (form.elements[name].value === "" ? undefined : form.elements[name].value);
  const amount = (name) => (value(name) === undefined ? undefined : Number(value(name)));
  const landscapes = [...form.querySelectorAll("[data-landform]")]
    .filter((field) => Number(field.value) > 0)
    .map((field) => ({ name: field.dataset.landform, weight: Number(field.value), patch_m: amount("patch_m") }));
  const recipe = { name: value("name"), landscapes };
  for (const name of ["sheet", "plot"]) if (value(name)) recipe[name] = value(name);
  for (const name of ["seed", "blend_m", "height_m", "base_m", "feather_m"]) if (amount(name) !== undefined) recipe[name] = amount(name);
  if (amount("drops_per_m2") || amount("passes")) recipe.weathering = { drops_per_m2: amount("drops_per_m2"), passes: amount("passes") };
  return recipe;
}

/** The form says the recipe of a sheet that was made before. */
async function fill(form, sheet) {
  const recipes = await ask(`/api/worlds/${state.world.id}/recipes`);
  const recipe = recipes?.find((r) => r.sheet === sheet);
  if (!recipe) return;
  for (const field of form.querySelectorAll("[data-landform]")) {
    field.value = String(recipe.landscapes.find((l) => l.name === field.dataset.landform)?.weight ?? 0);
  }
  const values = { ...recipe, ...(recipe.weathering || { drops_per_m2: 0, passes: 0 }), patch_m: recipe.landscapes[0].patch_m };
  for (const name of ["seed", "blend_m", "height_m", "base_m", "feather_m", "plot", "patch_m", "drops_per_m2", "passes"]) form.elements[name].value = values[name] ?? "";
  form.elements.name.value = state.world.sheets.find((s) => s.key === sheet)?.name || "Land";
}

function warn(form, words) {
  const note = form.querySelector("[data-warnings]");
  note.hidden = !words;
  note.textContent = words;
}

let shown = "";
async function preview(form) {
  const answer = await fetch(`${path}/preview`, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(recipeOf(form)) });
  if (!answer.ok) {
    say(await problemWords(answer));
    return;
  }
  warn(form, answer.headers.get("x-warnings"));
  const image = form.querySelector("[data-preview]");
  URL.revokeObjectURL(shown);
  shown = URL.createObjectURL(await answer.blob());
  image.src = shown;
  image.hidden = false;
}

box.addEventListener("click", (event) => {
  const button = event.target.closest("[data-preview-land]");
  if (button && button.form.reportValidity()) preview(button.form);
});
box.addEventListener("change", (event) => {
  const form = event.target.form;
  if (!form?.matches("[data-make]")) return;
  if (event.target.name === "sheet" && event.target.value) fill(form, event.target.value);
});
box.addEventListener("submit", async (event) => {
  const form = event.target;
  if (!form.matches("[data-make]")) return;
  event.preventDefault();
  const answer = await ask(path, "POST", recipeOf(form));
  if (!answer) return;
  delete form.dataset.typed;
  warn(form, answer.warnings.join("; "));
  window.htmx.ajax("GET", `/jobs/${answer.job}/card`, { source: "#make-job", target: "#make-job", swap: "innerHTML" });
});
on("bench", () => URL.revokeObjectURL(shown));
