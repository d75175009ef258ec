// Ground cover: the list, what one is like, and where it grows.
import Alpine from "/static/js/kernel/alpine.js";
import { ask } from "/static/js/kernel/say.js";
import { row, rows } from "/static/js/seen/rows.js";
import { state } from "/static/js/seen/state.js";
import { habitats } from "/static/js/seen/habitat.js";

const base = `/api/worlds/${state.world.id}`;
const open = Alpine.reactive({ key: "" });

/** The ground cover that is open on the bench. */
export const sward = () => row("swards", open.key) ?? rows("swards")[0] ?? null;
/** @param {Record<string, any>} said */
const change = (said) => ask(`${base}/swards/${sward()?.key}`, "PATCH", said);
habitats.sward = { of: sward, put: (conditions) => change({ conditions }) };

document.body.addEventListener("fern:sward", (heard) => {
  const { key } = /** @type {CustomEvent} */ (heard).detail;
  if (!key) return;
  open.key = key;
  /** @type {HTMLFormElement | null} */ (document.querySelector("#bench form[data-then=sward]"))?.reset();
});

Alpine.data("swards", () => ({
  get any() {
    return Boolean(sward());
  },
  get lines() {
    return rows("swards").map((one) => ({
      key: one.key,
      name: one.name,
      colour: one.colour,
      words: `${one.per_m2}/m²`,
      chosen: one.key === sward()?.key,
    }));
  },
  get covers() {
    return rows("covers").map((one) => ({
      key: one.key,
      id: `sward-on-${one.key}`,
      name: one.name,
      on: Boolean(sward()?.covers.includes(one.key)),
    }));
  },
  /** @param {Event} event */
  choose(event) {
    open.key = /** @type {HTMLElement} */ (event.currentTarget).dataset.sward || "";
  },
  /** @param {Event} event */
  growOn(event) {
    const field = /** @type {HTMLInputElement} */ (event.currentTarget);
    const key = field.dataset.growsOn || "";
    const others = (sward()?.covers ?? []).filter((/** @type {string} */ one) => one !== key);
    change({ covers: field.checked ? [...others, key] : others });
  },
  remove() {
    ask(`${base}/swards/${sward()?.key}`, "DELETE");
  },
}));
