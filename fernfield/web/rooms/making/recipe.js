// The recipe that a form says, as the API has it; and a form that says a recipe.

/** @param {HTMLFormElement} form @param {string} name @returns {any} */
const field = (form, name) => form.elements.namedItem(name);

/** @param {HTMLFormElement} form */
export function recipeOf(form) {
  const amount = (/** @type {string} */ name) =>
    field(form, name)?.value ? Number(field(form, name).value) : undefined;
  const landscapes = landforms(form)
    .filter((one) => Number(one.value) > 0)
    .map((one) => ({
      name: one.dataset.landform || "",
      weight: Number(one.value),
      patch_m: amount("patch_m"),
      settings: settingsOf(form, one.dataset.landform || ""),
    }));
  /** @type {Record<string, any>} */
  const recipe = { landscapes };
  for (const name of ["seed", "blend_m", "height_m", "base_m", "feather_m"])
    if (amount(name) !== undefined) recipe[name] = amount(name);
  if (field(form, "widen")?.checked) recipe.widen = true;
  if (amount("drops_per_m2") || amount("passes"))
    recipe.weathering = { drops_per_m2: amount("drops_per_m2"), passes: amount("passes") };
  return recipe;
}

/** @param {HTMLFormElement} form @returns {HTMLInputElement[]} */
const landforms = (form) =>
  [...form.querySelectorAll("[data-landform]")].map((one) => /** @type {HTMLInputElement} */ (one));
/** @param {HTMLFormElement} form @param {string} landform @returns {HTMLElement} */
const box = (form, landform) => /** @type {HTMLElement} */ (form.querySelector(`[data-settings-of="${landform}"]`));
/** @param {HTMLFormElement} form @param {string} landform @returns {HTMLInputElement[]} */
const own = (form, landform) => [...box(form, landform).querySelectorAll("input")];

/** A landform's own settings, where they differ from the first ones. @param {HTMLFormElement} form @param {string} landform */
function settingsOf(form, landform) {
  const changed = own(form, landform).filter((one) => one.value !== "" && one.value !== one.defaultValue);
  return Object.fromEntries(changed.map((one) => [one.name, Number(one.value)]));
}

/** The settings of the landforms that are asked for are there. @param {HTMLFormElement} form */
export function showSettings(form) {
  for (const one of landforms(form)) box(form, one.dataset.landform || "").hidden = !(Number(one.value) > 0);
}

/** The form says a recipe. @param {HTMLFormElement} form @param {any} recipe */
export function fillRecipe(form, recipe) {
  for (const one of landforms(form)) {
    const scape = recipe.landscapes.find((/** @type {any} */ l) => l.name === one.dataset.landform);
    one.value = String(scape?.weight ?? 0);
    for (const setting of own(form, one.dataset.landform || ""))
      setting.value = String(scape?.settings?.[setting.name] ?? setting.defaultValue);
  }
  const values = {
    ...recipe,
    ...(recipe.weathering || { drops_per_m2: 0, passes: 0 }),
    patch_m: recipe.landscapes[0].patch_m,
  };
  for (const name of ["seed", "blend_m", "height_m", "base_m", "feather_m", "patch_m", "drops_per_m2", "passes"])
    if (field(form, name)) field(form, name).value = values[name] ?? "";
  if (field(form, "widen")) field(form, "widen").checked = Boolean(recipe.widen);
  showSettings(form);
}

document.addEventListener("click", (event) => {
  const button = /** @type {Element} */ (event.target).closest?.("[data-another-seed]");
  const seed = button && /** @type {HTMLInputElement | null} */ (button.closest("form")?.querySelector("[name=seed]"));
  if (!seed) return;
  seed.value = String(1 + Math.floor(Math.random() * 99_999));
  // As if it had been typed: the picture follows, and what is typed is kept.
  for (const name of ["input", "change"]) seed.dispatchEvent(new Event(name, { bubbles: true }));
});
