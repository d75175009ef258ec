// The recipe that a form says, as the API has it; and a form that says a recipe.
import { settle } from "/static/js/kernel/forms.js";

/** @param {HTMLFormElement} form @param {string} name @returns {any} */
const field = (form, name) => form.elements.namedItem(name);

/** What the weather does, as the fields of a form are called. */
const WEATHER = ["streams_ka", "uplift_mm", "erodes", "concavity", "drops_per_m2", "passes"];

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
  if (amount("streams_ka") || amount("drops_per_m2") || amount("passes"))
    recipe.weathering = Object.fromEntries(WEATHER.map((name) => [name, amount(name)]));
  return recipe;
}

/** @param {HTMLFormElement} form @returns {HTMLInputElement[]} */
const landforms = (form) =>
  [...form.querySelectorAll("[data-landform]")].map((one) => /** @type {HTMLInputElement} */ (one));
/** @param {HTMLFormElement} form @param {string} landform @returns {HTMLElement} */
const box = (form, landform) => /** @type {HTMLElement} */ (form.querySelector(`[data-settings-of="${landform}"]`));
/** @param {HTMLFormElement} form @param {string} landform @returns {HTMLInputElement[]} */
const own = (form, landform) => [
  .../** @type {NodeListOf<HTMLInputElement>} */ (box(form, landform).querySelectorAll("[data-more] input")),
];

/** A landform's own settings, where they differ from the first ones. @param {HTMLFormElement} form @param {string} landform */
function settingsOf(form, landform) {
  const changed = own(form, landform).filter((one) => one.value !== "" && one.value !== one.defaultValue);
  return Object.fromEntries(changed.map((one) => [one.name, Number(one.value)]));
}

/** The settings of the landforms that are asked for are there. @param {HTMLFormElement} form */
export function showSettings(form) {
  const count = landforms(form).filter((one) => Number(one.value) > 0).length;
  for (const one of landforms(form)) {
    const taken = Number(one.value) > 0;
    // A weight is beside others.
    /** @type {HTMLElement} */ (one.closest(".setting")).hidden = count < 2;
    box(form, one.dataset.landform || "").hidden = !taken;
    form.querySelector(`[data-scape="${one.dataset.landform}"]`)?.setAttribute("aria-pressed", String(taken));
  }
}

/** The form says a recipe. @param {HTMLFormElement} form @param {any} recipe */
export function fillRecipe(form, recipe) {
  for (const one of landforms(form)) {
    const scape = recipe.landscapes.find((/** @type {{name: string}} */ l) => l.name === one.dataset.landform);
    one.value = String(scape?.weight ?? 0);
    for (const setting of own(form, one.dataset.landform || ""))
      setting.value = String(scape?.settings?.[setting.name] ?? setting.defaultValue);
  }
  const values = {
    ...recipe,
    ...(recipe.weathering || { streams_ka: 0, drops_per_m2: 0, passes: 0 }),
    patch_m: recipe.landscapes[0].patch_m,
  };
  for (const name of ["seed", "blend_m", "height_m", "base_m", "feather_m", "patch_m", ...WEATHER])
    if (field(form, name)) field(form, name).value = values[name] ?? field(form, name).defaultValue;
  if (field(form, "widen")) field(form, "widen").checked = Boolean(recipe.widen);
  showSettings(form);
  settle(form);
}

// A landscape is taken, or left, by its picture.
document.addEventListener("click", (event) => {
  const scape = /** @type {HTMLElement | null} */ (
    /** @type {Element} */ (event.target).closest?.("[data-scape]") ?? null
  );
  const form = scape?.closest("form");
  const weight = form && landforms(form).find((one) => one.dataset.landform === scape?.dataset.scape);
  if (weight) type(weight, Number(weight.value) > 0 ? "0" : "1");
});

/** As if it had been typed: the picture follows, and what is typed is kept. @param {HTMLInputElement} field @param {string} value */
function type(field, value) {
  field.value = value;
  for (const name of ["input", "change"]) field.dispatchEvent(new Event(name, { bubbles: true }));
}

document.addEventListener("click", (event) => {
  const button = /** @type {Element} */ (event.target).closest?.("[data-another-seed]");
  const seed = button && /** @type {HTMLInputElement | null} */ (button.closest("form")?.querySelector("[name=seed]"));
  if (seed) type(seed, String(1 + Math.floor(Math.random() * 99_999)));
});
