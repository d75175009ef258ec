// The recipe that a form says, as the API has it; and a form that says a recipe.

/** @param {HTMLFormElement} form */
export function recipeOf(form) {
  const value = (name) => (form.elements[name]?.value ? form.elements[name].value : undefined);
  const amount = (name) => (value(name) === undefined ? undefined : Number(value(name)));
  const landscapes = [...form.querySelectorAll("[data-landform]")]
    .filter((field) => Number(field.value) > 0)
    .map((field) => ({ name: field.dataset.landform, weight: Number(field.value), patch_m: amount("patch_m"), settings: settingsOf(form, field.dataset.landform) }));
  const recipe = { landscapes };
  if (value("plot")) recipe.plot = value("plot");
  else if (form.dataset.boxed) recipe.box = JSON.parse(form.dataset.boxed);
  for (const name of ["seed", "blend_m", "height_m", "base_m", "feather_m"]) if (amount(name) !== undefined) recipe[name] = amount(name);
  if (amount("drops_per_m2") || amount("passes")) recipe.weathering = { drops_per_m2: amount("drops_per_m2"), passes: amount("passes") };
  return recipe;
}

const box = (form, landform) => form.querySelector(`[data-settings-of="${landform}"]`);

/** A landform's own settings, where they differ from the first ones. */
function settingsOf(form, landform) {
  const fields = [...box(form, landform).querySelectorAll("[data-setting]")].filter((field) => field.value !== "" && Number(field.value) !== Number(field.dataset.first));
  return Object.fromEntries(fields.map((field) => [field.dataset.setting, Number(field.value)]));
}

/** The settings of the landforms that are asked for are there. @param {HTMLFormElement} form */
export function showSettings(form) {
  for (const field of form.querySelectorAll("[data-landform]")) box(form, field.dataset.landform).hidden = !(Number(field.value) > 0);
}

/** The form says a recipe. */
export function fillRecipe(form, recipe) {
  for (const field of form.querySelectorAll("[data-landform]")) {
    const scape = recipe.landscapes.find((l) => l.name === field.dataset.landform);
    field.value = String(scape?.weight ?? 0);
    for (const own of box(form, field.dataset.landform).querySelectorAll("[data-setting]")) own.value = String(scape?.settings?.[own.dataset.setting] ?? own.dataset.first);
  }
  const values = { ...recipe, ...(recipe.weathering || { drops_per_m2: 0, passes: 0 }), patch_m: recipe.landscapes[0].patch_m };
  for (const name of ["seed", "blend_m", "height_m", "base_m", "feather_m", "plot", "patch_m", "drops_per_m2", "passes"]) if (form.elements[name]) form.elements[name].value = values[name] ?? "";
  showSettings(form);
}
