// Land from a seed: the recipe's form, its preview, and the job that makes it.
import { fillRecipe, recipeOf, showSettings } from "./recipe.js";
import { ask, problemWords, say } from "./say.js";
import { on, state } from "./state.js";

const box = document.getElementById("bench");
const path = `/api/tracts/${state.world.tract}/generate`;

/** The body of the generation: the recipe, the sheet that it goes into, and its name. */
function wanted(form) {
  const body = { ...recipeOf(form), name: form.elements.name.value };
  if (form.elements.sheet.value) body.sheet = form.elements.sheet.value;
  return body;
}

/** The form says the recipe of a sheet that was made before. */
async function fill(form, sheet) {
  const recipes = await ask(`/api/worlds/${state.world.id}/recipes`);
  const recipe = recipes?.find((r) => r.sheet === sheet);
  if (!recipe) return;
  fillRecipe(form, recipe);
  if (recipe.box) form.dataset.boxed = JSON.stringify(recipe.box);
  form.elements.name.value = state.world.sheets.find((s) => s.key === sheet)?.name || "Land";
}

function warn(form, words) {
  const note = form.querySelector("[data-warnings]");
  note.hidden = !words;
  note.textContent = words;
}

let shown = "";
async function preview(form) {
  const answer = await fetch(`${path}/preview`, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(wanted(form)) });
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
  if (event.target.matches("[data-landform]")) showSettings(form);
  if (event.target.name === "sheet" && event.target.value) fill(form, event.target.value);
});
box.addEventListener("submit", async (event) => {
  const form = event.target;
  if (!form.matches("[data-make]")) return;
  event.preventDefault();
  const answer = await ask(path, "POST", wanted(form));
  if (!answer) return;
  delete form.dataset.typed;
  warn(form, answer.warnings.join("; "));
  window.htmx.ajax("GET", `/jobs/${answer.job}/card`, { source: "#make-job", target: "#make-job", swap: "innerHTML" });
});
on("bench", () => URL.revokeObjectURL(shown));
