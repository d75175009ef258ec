// Land from a seed: the recipe's form, its preview, and what it is warned of.
import { sendInstead, showErrors } from "/static/js/kernel/forms.js";
import { jsonOf, problemOf, reach } from "/static/js/kernel/say.js";
import { row } from "/static/js/seen/rows.js";
import { landApi, state } from "/static/js/seen/state.js";
import { fillRecipe, recipeOf, showSettings } from "/rooms/making/recipe.js";

let shown = "";

/** The form of the recipe on the bench. @param {HTMLElement} box */
export function beginRecipe(box) {
  const form = /** @type {HTMLFormElement | null} */ (box.querySelector("form[data-make]"));
  if (!form) return;
  /** @param {string} name @returns {any} */
  const field = (name) => form.elements.namedItem(name);
  const wanted = () => ({
    ...recipeOf(form),
    ...state.area,
    name: field("name").value,
    sheet: field("sheet").value || null,
  });
  // Only the recipe is said: the fields of the form are not the API's.
  sendInstead(form, wanted);
  form.addEventListener("change", (event) => {
    const target = /** @type {HTMLInputElement} */ (event.target);
    if (target.matches("[data-landform]")) showSettings(form);
    if (target.name === "sheet" && target.value) fillFrom(form, target.value);
    // A picture that is looked at follows what is typed.
    const image = /** @type {HTMLImageElement} */ (form.querySelector("[data-preview]"));
    if (!image.hidden && form.checkValidity() && recipeOf(form).landscapes.length) preview(form, wanted());
  });
  form
    .querySelector("[data-preview-land]")
    ?.addEventListener("click", () => form.reportValidity() && preview(form, wanted()));
  URL.revokeObjectURL(shown);
}

/** The form says the recipe of a sheet that was made before. @param {HTMLFormElement} form @param {string} sheet */
function fillFrom(form, sheet) {
  // At once: an answer that came later would take away what is typed meanwhile.
  const recipe = row("recipes", sheet);
  if (!recipe) return;
  fillRecipe(form, recipe);
  state.area = recipe.plot
    ? { plot: recipe.plot }
    : recipe.box
      ? { box: recipe.box }
      : recipe.outline
        ? { outline: recipe.outline }
        : {};
  /** @type {any} */ (form.elements.namedItem("name")).value = row("sheets", sheet)?.name || "Land";
}

/** @param {HTMLFormElement} form @param {any} body */
async function preview(form, body) {
  const answer = await reach(`${landApi}/generate/preview`, jsonOf("POST", body), {
    waits: "Drawing the preview",
    stops: true,
  });
  if (!answer) return;
  if (!answer.ok) {
    showErrors(form, await problemOf(answer));
    return;
  }
  const note = /** @type {HTMLElement} */ (form.querySelector("[data-warnings]"));
  note.textContent = answer.headers.get("x-warnings") || "";
  note.hidden = !note.textContent;
  const image = /** @type {HTMLImageElement} */ (form.querySelector("[data-preview]"));
  URL.revokeObjectURL(shown);
  shown = URL.createObjectURL(await answer.blob());
  image.src = shown;
  image.hidden = false;
}
