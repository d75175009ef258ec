// The ground's bench: settings of the tools, the form of the brush, what strokes keep to, sheets, and the area in the hand.
import Alpine from "/static/js/kernel/alpine.js";
import { bodyOf, fieldsOf, fill, sendAlso, valueOf } from "/static/js/kernel/forms.js";
import { ask, jsonOf, reach, say } from "/static/js/kernel/say.js";
import { areaWords } from "/static/js/seen/area.js";
import { fetchPanel, setBrush, turnTo, watchForm } from "/static/js/seen/bench.js";
import { MOVED } from "/static/js/seen/drawn/marks.js";
import { drawOutline } from "/static/js/seen/hands/outline.js";
import { drawOverlay } from "/static/js/seen/drawn/overlay.js";
import { expect, only, row, rows, settle } from "/static/js/seen/rows.js";
import {
  actions,
  brush,
  grid,
  heed,
  keep,
  landApi,
  showAnew,
  state,
  TOOLS,
  tool,
  watch,
} from "/static/js/seen/state.js";
import { beginRecipe } from "./land.js";

const base = `/api/worlds/${state.world.id}`;
const box = /** @type {HTMLElement} */ (document.getElementById("bench"));

/** What strokes keep to. @param {Record<string, any>} values */
function setKeep(values) {
  const said = Object.fromEntries(
    Object.entries(values).filter(
      ([, value]) => value !== null && value !== undefined && value !== "" && value !== false,
    ),
  );
  if (!said.plots?.length) for (const name of ["plots", "outside", "feather_m"]) delete said[name];
  const limits = Object.keys(said).some((name) => name !== "feather_m");
  state.keepTo = limits ? /** @type {any} */ (said) : null;
  // Whoever limits a stroke wants to see where.
  const shown = new Set(state.show.overlays);
  if (state.keepTo) shown.add("kept");
  else shown.delete("kept");
  state.show.overlays = [...shown];
  showAnew();
}
// Plots that were deleted, here or by somebody else, are kept to no more; nor is one in the hand.
watch(
  () => state.at.plots,
  () => {
    const plots = state.keepTo?.plots || [];
    const left = plots.filter((/** @type {string} */ key) => row("plots", key));
    if (left.length < plots.length) setKeep({ ...state.keepTo, plots: left });
  },
);
watch(
  () => state.at.sheets,
  () => {
    if (state.sheet && !row("sheets", state.sheet)) state.sheet = "";
  },
);

/** What of the land lies past the limits, in words; "" where nothing does, or where it was left. */
const past = Alpine.reactive({ words: "" });
/** Limits that were set say nothing of what lies past them already: that is asked. */
async function askPast() {
  const found = await ask(`${base}/limits/past`);
  const { lowest_m, highest_m } = only("limits");
  const over = found?.highest_m > highest_m ? `up to ${found.highest_m.toFixed(1)} m` : "";
  const under = found?.lowest_m < lowest_m ? `down to ${found.lowest_m.toFixed(1)} m` : "";
  past.words = found?.past
    ? `Ground lies past these limits already, ${[under, over].filter(Boolean).join(" and ")}. Left as it is, no edit takes it further.`
    : "";
}
watch(() => state.at.limits, askPast);

Alpine.data("ground", () => ({
  symmetryWords: "",
  get pastLimits() {
    return past.words;
  },
  leaveLimits() {
    past.words = "";
  },
  async bringWithin() {
    if (await ask(`${base}/limits/bring-within`, "POST", undefined, "Bringing the land within the limits"))
      past.words = "";
  },
  get toolWords() {
    return TOOLS[tool()]?.words || "";
  },
  get sheetWords() {
    return state.sheet ? (row("sheets", state.sheet)?.name ?? "") : "";
  },
  get keepWords() {
    const k = state.keepTo;
    if (!k) return "everywhere";
    const has = (/** @type {any} */ value) => value !== null && value !== undefined;
    return [
      k.plots?.length && `${k.outside ? "outside" : "in"} ${k.plots.length} plot${k.plots.length > 1 ? "s" : ""}`,
      (has(k.from_m) || has(k.to_m)) && "elevations",
      (has(k.from_deg) || has(k.to_deg)) && "slopes",
      k.water,
    ]
      .filter(Boolean)
      .join(", ");
  },
  /** @param {string} key */
  keeps: (key) => (state.keepTo?.plots || []).includes(key),
  /** @param {Event} event */
  keepPlot(event) {
    const field = /** @type {HTMLInputElement} */ (event.target);
    const left = (state.keepTo?.plots || []).filter((/** @type {string} */ key) => key !== field.value);
    setKeep({ ...state.keepTo, plots: field.checked ? [...left, field.value] : left });
  },
  keepNothing() {
    const form = /** @type {HTMLFormElement} */ (box.querySelector("form[data-keep]"));
    form.reset();
    setKeep({});
  },
  /** @param {Event} event */
  bookLevel(event) {
    const { value } = /** @type {HTMLSelectElement} */ (event.target);
    if (value !== "") actions["take-level"](Number(value));
  },
  /** @param {Event} event */
  takeLevel(event) {
    actions["take-level"](Number(/** @type {HTMLElement} */ (event.currentTarget).dataset.takeLevel));
  },
  /** @param {Event} event */
  putLevel(event) {
    const field = /** @type {HTMLInputElement} */ (event.currentTarget);
    const key = field.dataset.putLevel || "";
    if (field.value !== "" && field.checkValidity()) actions["put-level"]({ key, z: field.valueAsNumber });
    else field.value = String(row("levels", key)?.elevation_m);
  },
  /** @param {Event} event */
  removeRow(event) {
    const { of, key } = /** @type {HTMLElement} */ (event.currentTarget).dataset;
    ask(`${base}/${of}/${key}`, "DELETE");
  },
  // Sheets
  /** @param {Event} event */
  pickSheet(event) {
    state.sheet = /** @type {HTMLElement} */ (event.currentTarget).dataset.sheet || "";
    keep();
  },
  get otherSheets() {
    return rows("sheets").filter((sheet) => sheet.key !== state.sheet);
  },
  get madeSheets() {
    return rows("sheets").filter((sheet) => row("recipes", sheet.key) || sheet.key.startsWith("land"));
  },
  get sheetFile() {
    return `/api/tracts/${state.world.tract}/sheets/${state.sheet}.asc`;
  },
  get sheetLocked() {
    return Boolean(row("sheets", state.sheet)?.locked);
  },
  clearSheet: () => ask(`${base}/sheets/${state.sheet}/clear`, "POST"),
  removeSheet: () => ask(`${base}/sheets/${state.sheet}`, "DELETE"),
  /** @param {Event} event */
  mergeSheet(event) {
    const into = /** @type {HTMLElement} */ (event.currentTarget).dataset.into || null;
    ask(`${base}/sheets/${state.sheet}/merge`, "POST", { into });
  },
  get areaWords() {
    return areaWords(state.area);
  },
  pickPlace() {
    drawOutline("place", ([[x, y]]) => {
      const form = /** @type {HTMLFormElement} */ (box.querySelector("[data-area-work=move]"));
      fill(form, { x, y });
      form.dataset.typed = "yes";
      showMove();
    });
  },
  drawPlot() {
    const form = /** @type {HTMLFormElement} */ (box.querySelector("[data-draw=plot]"));
    const name = /** @type {HTMLInputElement} */ (form.elements.namedItem("name")).value;
    drawOutline("plot", async (points) => {
      if (!(await ask(`${base}/plots?in=world`, "POST", { name, points, tract: state.world.tract }))) return;
      // Its name is typed until it is kept.
      form.reset();
      delete form.dataset.typed;
    });
  },
  /** @param {Event} event */
  shapePlot(event) {
    const { key = "" } = /** @type {HTMLElement} */ (event.currentTarget).dataset;
    const was = row("plots", key)?.points;
    if (!was) return;
    drawOutline(
      "shape",
      (points) => {
        if (JSON.stringify(points) === JSON.stringify(was)) return;
        expect("plots", key, { points });
        settle("plots", key, ask(`${base}/plots/${key}?in=world`, "PATCH", { points }));
      },
      was,
    );
  },
  async checkSymmetry() {
    const found = await ask(`${landApi}/symmetry`, "GET", undefined, "Comparing the sides of the land");
    if (!found) return;
    this.symmetryWords = found.symmetric
      ? `The land is symmetrical, to ${found.largest_m.toFixed(3)} m.`
      : `It differs by up to ${found.largest_m.toFixed(2)} m, at E ${found.x.toFixed(0)} N ${found.y.toFixed(0)}; ${found.mean_m.toFixed(3)} m on the mean.`;
  },
}));

// Where moved land would come to lie: the server says.
let moveTimer = 0;
function showMove() {
  clearTimeout(moveTimer);
  const form = /** @type {HTMLFormElement | null} */ (box.querySelector("[data-area-work=move]"));
  const shows =
    form &&
    document.getElementById("work-move")?.classList.contains("active") &&
    (state.area.plot || state.area.box || state.area.outline);
  if (!form || !shows) {
    MOVED.corners = null;
    drawOverlay();
    return;
  }
  moveTimer = setTimeout(async () => {
    const answer = await reach(`${landApi}/move/outline`, jsonOf("POST", { ...bodyOf(form), ...state.area }), {
      calm: true,
    });
    MOVED.corners = answer?.ok ? (await answer.json()).corners : null;
    drawOverlay();
  }, 120);
}

heed("area", showMove);

heed("panel", () => {
  if (state.stage !== "ground") return;
  const shape = /** @type {HTMLFormElement} */ (box.querySelector("form[data-form]"));
  watchForm(shape, () => /** @type {any} */ ({ ...brush() }));
  shape.addEventListener("change", (event) => {
    const field = /** @type {HTMLInputElement} */ (event.target);
    delete shape.dataset.typed;
    if (field.reportValidity()) setBrush({ [field.name]: valueOf(field) ?? "" });
  });
  const limits = /** @type {HTMLFormElement} */ (box.querySelector("form[data-keep]"));
  const none = Object.fromEntries(
    fieldsOf(limits)
      .filter((field) => field.name)
      .map((field) => [field.name, field.type === "checkbox" ? false : field.name === "feather_m" ? 0 : null]),
  );
  watchForm(limits, () => ({ ...none, ...state.keepTo }));
  limits.addEventListener("change", (event) => {
    delete limits.dataset.typed;
    if (
      /** @type {HTMLElement} */ (event.target).dataset.plot !== undefined ||
      !(/** @type {HTMLInputElement} */ (event.target).reportValidity())
    )
      return;
    setKeep({ ...bodyOf(limits), plots: state.keepTo?.plots || [] });
  });
  const sheet = /** @type {HTMLFormElement} */ (box.querySelector("form[data-sheet-form]"));
  let of = "";
  watchForm(sheet, () => {
    if (state.sheet !== of) turnTo(sheet, of, state.sheet);
    of = state.sheet;
    const found = of ? row("sheets", of) : null;
    if (!found) return null;
    sheet.setAttribute("hx-patch", `${base}/sheets/${of}`);
    window.htmx.process(sheet);
    return found;
  });
  for (const form of /** @type {NodeListOf<HTMLFormElement>} */ (box.querySelectorAll("form[data-area-work]"))) {
    sendAlso(form, () => ({ ...state.area, ...(state.sheet ? { sheet: state.sheet } : {}) }));
    form.addEventListener("input", showMove);
  }
  box.querySelector("[role=tablist]")?.addEventListener("shown.bs.tab", showMove);
  beginRecipe(box);
});
document.body.addEventListener("fern:sheet", (event) => {
  const { key } = /** @type {CustomEvent} */ (event).detail;
  if (key) state.sheet = key;
  box.querySelector("form[data-then=sheet]") instanceof HTMLFormElement &&
    /** @type {HTMLFormElement} */ (box.querySelector("form[data-then=sheet]")).reset();
  keep();
});
document.body.addEventListener("fern:picture", (event) => {
  say(`${/** @type {CustomEvent} */ (event).detail.name} is among the tips and imprints.`, "calm");
  // Pictures are no rows of the world: the panel that lists them is fetched again.
  fetchPanel();
});
