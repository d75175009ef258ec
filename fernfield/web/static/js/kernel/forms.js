// The one way in which forms and buttons are sent: htmx sends them, and its extension "fern" makes JSON of a form,
// ties what is wrong to its field, keeps what was typed, and says how it went.
//   data-when="kind=rain frost"  a part that is there when the field `kind` has one of these values
//   data-optional                left empty it says null; data-empty: it says the empty text; else it is not said
//   data-apart                   a part that the page says in its own way
//   data-percent                 typed in percent, said as a share
//   data-next                    one of several alike: it is there when the one before it says something
//   data-more                    what is asked seldom: its button tells what in it differs from `data-first`
//   data-query="take unit"       fields that are said in the address, beside a file
//   data-then                    what the page does after it went well: "reset", or a word that is told as fern:word
//   data-said                    what is told when it went well and nothing else on the page shows it
//   data-row="collection/key"    the form follows that row, but for what is being typed
//   data-job-slot                where jobs are seen that forms began: a new one comes above those that still run
// An answer is never shown as it came: a job is its card, a revision its words with "Undo" beside them (where the page
// has an undo), a refusal stands at its field.
import { answers, jsonOf, mended, problemWords, problemOf, reach, say, silent } from "./say.js";
import { tell } from "./tell.js";

/** @typedef {HTMLInputElement | HTMLSelectElement | HTMLTextAreaElement} Field */

/** @param {Element} form @returns {Field[]} */
export const fieldsOf = (form) => /** @type {Field[]} */ ([...form.querySelectorAll("input, select, textarea")]);

/** @param {Element} field @param {Element} form */
function hiddenIn(field, form) {
  for (let at = /** @type {Element | null} */ (field); at && at !== form; at = at.parentElement) {
    if (at instanceof HTMLElement && at.hidden) return true;
  }
  return false;
}

/** What a field says; undefined where it is left out. @param {Field} field @returns {unknown} */
export function valueOf(field) {
  if (field instanceof HTMLInputElement && field.type === "checkbox") return field.checked;
  if (field.value === "") return "optional" in field.dataset ? null : "empty" in field.dataset ? "" : undefined;
  if (field instanceof HTMLInputElement && field.type === "number")
    return "percent" in field.dataset ? Number(field.value) / 100 : Number(field.value);
  if (field instanceof HTMLSelectElement && "number" in field.dataset) return Number(field.value);
  return field.value;
}

/** What a form says, as JSON: dotted names nest, numbers in them make lists. @param {Element} form @returns {Record<string, any>} */
export function bodyOf(form) {
  /** @type {Record<string, any>} */
  const body = {};
  for (const field of fieldsOf(form)) {
    if (
      !field.name ||
      field.disabled ||
      field.type === "file" ||
      field.closest("[data-apart]") ||
      hiddenIn(field, form)
    )
      continue;
    const value = valueOf(field);
    if (value === undefined) continue;
    const path = field.name.split(".");
    /** @type {any} */
    let at = body;
    path.slice(0, -1).forEach((part, i) => {
      at[part] ??= /^\d+$/.test(path[i + 1]) ? [] : {};
      at = at[part];
    });
    at[/** @type {string} */ (path.at(-1))] = value;
  }
  return body;
}

/** Put values into a form's fields, but for one in which somebody types. @param {Element} form @param {Record<string, any>} values */
export function fill(form, values) {
  for (const field of fieldsOf(form)) {
    if (!field.name || !(field.name in values) || field === document.activeElement || field.type === "file") continue;
    const value = values[field.name];
    if (field instanceof HTMLInputElement && field.type === "checkbox") field.checked = Boolean(value);
    else if (value === null || value === undefined) field.value = "";
    else if (typeof value === "number")
      field.value = String(Math.round(value * ("percent" in field.dataset ? 100 : 1) * 1e4) / 1e4);
    else field.value = String(value);
  }
  settle(form);
}

/** The parts of a form that go with what is chosen in it are there. @param {Element} form */
export function settle(form) {
  for (const part of /** @type {NodeListOf<HTMLElement>} */ (form.querySelectorAll("[data-when]"))) {
    const [name, values] = (part.dataset.when || "").split("=");
    const field = fieldsOf(form).find((one) => one.name === name || one.name.endsWith(`.${name}`));
    const hide = !values.split(" ").includes(field?.value ?? "");
    part.hidden = hide;
    for (const own of fieldsOf(part)) own.disabled = hide;
  }
  for (const part of /** @type {NodeListOf<HTMLElement>} */ (form.querySelectorAll("[data-next]"))) {
    const before = part.previousElementSibling;
    const says = (/** @type {Element} */ one) => [...one.querySelectorAll("select")].some((field) => field.value);
    part.hidden = Boolean(before?.matches("[data-next]")) && !says(part) && !says(/** @type {Element} */ (before));
  }
  for (const part of /** @type {NodeListOf<HTMLElement>} */ (form.querySelectorAll("[data-more]"))) tellMore(part);
}

/** What is set in a part that is shut, or else what can be set there. @param {HTMLElement} part */
function tellMore(part) {
  const words = part.parentElement?.querySelector("[data-more-words]");
  if (!words) return;
  const own = fieldsOf(part).filter((field) => !field.disabled && field.type !== "file" && plainLabel(field));
  const set = own.filter((field) => textOf(field) !== (field.dataset.first ?? ""));
  words.textContent = (set.length ? set.map(setTo) : own.map((field) => plainLabel(field).toLowerCase())).join(", ");
}
/** @param {Field} field */
const textOf = (field) =>
  field instanceof HTMLInputElement && field.type === "checkbox" ? (field.checked ? "true" : "") : field.value;
/** @param {Field} field */
function setTo(field) {
  const unit = field.closest(".input-group")?.querySelector(".input-group-text")?.textContent ?? "";
  if (field instanceof HTMLInputElement && field.type === "checkbox") return plainLabel(field).toLowerCase();
  const value = field instanceof HTMLSelectElement ? (field.selectedOptions[0]?.textContent ?? "") : field.value;
  return `${plainLabel(field).toLowerCase()} ${value} ${unit}`.trim();
}

/** Whatever of the page keeps a field from being seen opens. @param {Element} field */
function reveal(field) {
  for (let at = field.parentElement; at; at = at.parentElement) {
    if (at.matches(".collapse:not(.show)")) window.bootstrap.Collapse.getOrCreateInstance(at, { toggle: false }).show();
    if (at.matches(".tab-pane:not(.active)"))
      window.bootstrap.Tab.getOrCreateInstance(
        /** @type {Element} */ (document.querySelector(`[data-bs-target="#${at.id}"]`)),
      ).show();
  }
}

// What was wrong

/** @param {Element} form */
export function clearErrors(form) {
  for (const note of form.querySelectorAll(".form-error, .answer")) note.remove();
  for (const field of fieldsOf(form)) clearError(field);
}

/** What is read out with what has a tooltip, by the page's own word. @type {WeakMap<Element, string | null>} */
const described = new WeakMap();

/** What is read out with a field, with or without what is wrong with it. @param {Field} field @param {string} error its id, or nothing */
function describe(field, error) {
  const ids = (field.getAttribute("aria-describedby") || "").split(" ").filter((one) => one && !one.endsWith("-error"));
  if (error) ids.unshift(error);
  if (ids.length) field.setAttribute("aria-describedby", ids.join(" "));
  else field.removeAttribute("aria-describedby");
  described.set(field, ids.join(" "));
}

/** A tooltip that comes or goes leaves what is read out with its field: Bootstrap's puts itself in its place. @param {Event} event */
function describeAgain(event) {
  const marked = /** @type {Element} */ (event.target);
  const own = described.get(marked);
  if (own) marked.setAttribute("aria-describedby", own);
}

/** The id of what is said to be wrong with a field. @param {Field} field */
const errorOf = (field) => `${field.id || field.name || "field"}-error`;

/** @param {Field} field */
function clearError(field) {
  if (!field.classList.contains("is-invalid")) return;
  field.classList.remove("is-invalid");
  field.removeAttribute("aria-invalid");
  document.getElementById(errorOf(field))?.remove();
  describe(field, "");
}

/** Say beside a field what is wrong with it. @param {Field} field @param {string} message */
function showError(field, message) {
  clearError(field);
  const note = document.createElement("div");
  note.id = errorOf(field);
  note.className = "invalid-feedback";
  note.textContent = message;
  field.classList.add("is-invalid");
  field.setAttribute("aria-invalid", "true");
  describe(field, note.id);
  (field.closest(".input-group") || field).after(note);
}

/** Say beside a field that it is wrong, or with "" that it is not any more. @param {Field} field @param {string} message */
export const markWrong = (field, message) => (message ? showError(field, message) : clearError(field));

/** @param {Field} field */
const plainLabel = (field) =>
  field.labels?.[0]?.firstChild?.textContent?.trim() || field.getAttribute("aria-label") || "";

/** What a person calls a field. @param {Field} field */
export function labelOf(field) {
  const label = plainLabel(field);
  const legend = field.closest("fieldset")?.querySelector("legend")?.textContent?.trim().split("\n")[0].trim();
  return legend && label ? `${legend}, ${label.slice(0, 1).toLowerCase()}${label.slice(1)}` : label;
}

/** A message that begins with a field's own name, without its unit, begins with its label. @param {Field} field @param {string} message */
function asCalled(field, message) {
  const stem = (field.name.split(".").at(-1) ?? "").replace(/_(m|deg|ha|m2)$/, "");
  return message.startsWith(`${stem} `) ? `“${labelOf(field)}”${message.slice(stem.length)}` : message;
}

/** A message in the words of the form: what the API calls a field is called as the form calls it. @param {Element} form @param {string} message */
export function inWords(form, message) {
  let words = message;
  // Longer names first: "placing.spacing_m" before "spacing_m".
  const names = fieldsOf(form)
    .filter((field) => field.name && labelOf(field))
    .flatMap((field) => [
      [field.name, labelOf(field)],
      [field.name.split(".").at(-1) ?? "", labelOf(field)],
    ])
    .filter(([name]) => /[_.\d]/.test(name))
    .sort((a, b) => b[0].length - a[0].length);
  for (const [name, label] of names) {
    const whole = new RegExp(`(?<![\\w.])(?:[\\w.]*\\.)?${name.replaceAll(".", "\\.")}(?!\\w)`, "g");
    words = words.replace(whole, `“${label}”`);
  }
  return words;
}

/** What is wrong with a field of a form, told where the form is not. @param {Element} form @param {string} name @param {string} message */
export function wrongInWords(form, name, message) {
  const field = fieldsOf(form).find((one) => one.name === name);
  return inWords(form, field ? asCalled(field, message) : message);
}

/** Tie a problem's errors to the fields of a form; what belongs to none is said at its top. @param {Element} form @param {import("./say.js").Problem} problem */
export function showErrors(form, problem) {
  clearErrors(form);
  const lines = problem.errors?.length ? problem.errors : [{ field: "", message: problemWords(problem) }];
  /** @type {Field | null} */
  let first = null;
  for (const { field: name, message } of lines) {
    const field = name
      ? fieldsOf(form).find(
          (one) =>
            one.name &&
            (one.dataset.place
              ? one.dataset.place === name
              : one.name === name || one.name.endsWith(`.${name}`) || name.endsWith(`.${one.name}`)) &&
            !hiddenIn(one, form),
        )
      : null;
    if (field) {
      // What a person typed is told in their own unit.
      const typed = "validity" in field && !field.validity.valid;
      showError(field, typed ? wrongWith(field) : inWords(form, asCalled(field, message)));
      first ??= field;
    } else {
      const note = document.createElement("div");
      note.className = "form-error alert alert-danger";
      note.setAttribute("role", "alert");
      note.textContent = inWords(form, message);
      form.prepend(note);
    }
  }
  if (first) reveal(first);
  first?.focus();
}

/**
 * Send what a form says in another way than htmx: what is wrong stands at its fields. The answer, or null.
 * @param {HTMLElement} form @param {string} path @param {string} method @param {unknown} body
 * @param {(problem: import("./say.js").Problem) => Promise<void>} [before] what is done before what is wrong is shown
 * @returns {Promise<any>}
 */
export async function send(form, path, method, body, before = undefined) {
  clearErrors(form);
  const answer = await reach(path, jsonOf(method, body));
  if (!answer) return null;
  if (!answer.ok) {
    const problem = await problemOf(answer);
    await before?.(problem);
    showErrors(form, problem);
    return null;
  }
  const found = answer.status === 204 ? {} : await answer.json();
  showAnswer(form, found);
  return found;
}

/** What is over in a place of jobs makes room; what still runs stays, with its way to stop it. @param {Element} slot */
function tidySlot(slot) {
  for (const old of [...slot.children])
    if (/done|failed|cancelled/.test(old.getAttribute("data-job-state") || "")) old.remove();
}

/** Tell at a form what its revision did. @param {Element} form @param {any} answer */
function showAnswer(form, answer) {
  if (!answer || typeof answer.words !== "string" || typeof answer.revision !== "number") return;
  // What is set by turning it is seen on the map.
  if (!(form instanceof HTMLFormElement) || /change/.test(form.getAttribute("hx-trigger") || "")) return;
  const note = document.createElement("p");
  note.className = "answer";
  note.append(`${answer.words}.`);
  form.append(note);
  note.scrollIntoView({ block: "nearest" });
  document.dispatchEvent(new CustomEvent("fern:answer", { detail: { note, answer } }));
}

// htmx

/** @param {Element} elt @returns {HTMLFormElement | null} */
const formOf = (elt) =>
  elt instanceof HTMLFormElement ? elt : elt.closest("form[hx-post], form[hx-put], form[hx-patch]");

/** What a form sends, where that is not just its fields. @type {WeakMap<Element, () => Record<string, any>>} */
const more = new WeakMap();

/** Let a form also send what `values` gives. @param {Element} form @param {() => Record<string, any>} values */
export const sendAlso = (form, values) => more.set(form, () => ({ ...bodyOf(form), ...values() }));

/** Let a form send what `values` gives, in the place of its fields. @param {Element} form @param {() => Record<string, any>} values */
export const sendInstead = (form, values) => more.set(form, values);

/** @param {Element} elt */
const withFiles = (elt) => elt.getAttribute("hx-encoding") === "multipart/form-data";

function install() {
  const { htmx } = window;
  htmx.defineExtension("fern", {
    onEvent(/** @type {string} */ name, /** @type {any} */ event) {
      const elt = /** @type {Element} */ (event.target);
      // htmx sets the type of a form with files by itself.
      if (name === "htmx:configRequest" && !withFiles(elt)) event.detail.headers["Content-Type"] = "application/json";
      if (name === "htmx:configRequest" && elt instanceof HTMLElement && elt.dataset.query) askIn(elt, event.detail);
      if (name === "htmx:beforeRequest" && elt instanceof HTMLFormElement) clearErrors(elt);
      if (name === "htmx:xhr:progress") showProgress(elt, event.detail);
      if (name === "htmx:afterRequest") after(elt, event.detail);
      return true;
    },
    encodeParameters(/** @type {any} */ xhr, /** @type {any} */ parameters, /** @type {any} */ elt) {
      if (withFiles(elt)) return null;
      xhr.overrideMimeType("text/html");
      const said =
        elt instanceof HTMLFormElement ? (more.get(elt)?.() ?? bodyOf(elt)) : Object.fromEntries(valuesOf(parameters));
      return JSON.stringify(said);
    },
  });
  document.body.addEventListener("htmx:sendError", () => silent("Nothing was changed; try again in a moment."));
  document.body.addEventListener("htmx:afterOnLoad", answers);
  document.body.addEventListener("htmx:beforeSwap", (event) =>
    beforeSwap(/** @type {Element} */ (event.target), /** @type {CustomEvent} */ (event).detail),
  );
  document.body.addEventListener("htmx:responseError", (event) => {
    const { elt, xhr } = /** @type {CustomEvent} */ (event).detail;
    const form = elt.getAttribute?.("hx-ext") === "fern" ? formOf(elt) : null;
    const problem = problemIn(xhr);
    if (form) showErrors(form, problem);
    else say(problemWords(problem), "wrong", xhr.responseURL);
  });
}

/** Some of what a form says stands in the address. @param {HTMLElement} form @param {{path: string, formData: FormData}} detail */
function askIn(form, detail) {
  const query = new URLSearchParams();
  for (const name of (form.dataset.query || "").split(" ")) {
    const said = detail.formData.get(name);
    if (said) query.set(name, String(said));
    detail.formData.delete(name);
  }
  detail.path += `?${query}`;
}

/** What is no fragment of a page is never put into it. @param {Element} elt @param {any} detail */
function beforeSwap(elt, detail) {
  if (/json/.test(detail.xhr.getResponseHeader("content-type") || "")) detail.shouldSwap = false;
  else if (detail.shouldSwap && elt.matches("[data-job-slot]")) tidySlot(elt);
}

/** hx-vals may be anything that JSON says. @param {FormData | Record<string, any>} parameters @returns {[string, any][]} */
function valuesOf(parameters) {
  const entries = parameters instanceof FormData ? [...parameters.entries()] : Object.entries(parameters);
  return entries.map(([name, value]) => [
    name,
    value === "true" ? true : value === "false" ? false : value === "null" ? null : value,
  ]);
}

/** @param {XMLHttpRequest} xhr @returns {import("./say.js").Problem} */
function problemIn(xhr) {
  try {
    return JSON.parse(xhr.responseText);
  } catch {
    return { detail: `The server answered ${xhr.status}.` };
  }
}

/** How far a file has come. @param {Element} form @param {{loaded: number, total: number, lengthComputable: boolean}} detail */
function showProgress(form, { loaded, total, lengthComputable }) {
  let line = form.querySelector(".sending");
  if (!line) {
    line = document.createElement("div");
    line.className = "sending progress mt-1";
    line.setAttribute("role", "progressbar");
    line.setAttribute("aria-label", "Sending the file");
    line.append(Object.assign(document.createElement("div"), { className: "progress-bar" }));
    form.append(line);
  }
  const share = lengthComputable ? loaded / total : 0;
  line.setAttribute("aria-valuenow", String(Math.round(share * 100)));
  /** @type {HTMLElement} */ (line.firstElementChild).style.width = `${share * 100}%`;
}

/** @param {Element} elt @param {{successful: boolean, xhr: XMLHttpRequest}} detail */
function after(elt, { successful, xhr }) {
  elt.querySelector(".sending")?.remove();
  if (!successful) return;
  const form = elt instanceof HTMLFormElement ? elt : null;
  if (form) {
    delete form.dataset.typed;
    form.dispatchEvent(new CustomEvent("fern:kept"));
  }
  /** @type {any} */
  let answer = null;
  try {
    answer = JSON.parse(xhr.responseText);
  } catch {
    // A fragment: htmx has put it where it belongs.
  }
  mended(xhr.responseURL);
  const said = elt.getAttribute("data-said");
  if (said) say(said, "calm");
  const then = elt.getAttribute("data-then");
  if (then === "reset") form?.reset();
  if (form) settle(form);
  showAnswer(elt, answer);
  document.body.dispatchEvent(new CustomEvent("fern:done", { detail: { elt, answer } }));
  if (then && then !== "reset") document.body.dispatchEvent(new CustomEvent(`fern:${then}`, { detail: answer ?? {} }));
}

// What is typed

document.addEventListener("input", (event) => {
  const form = /** @type {Element} */ (event.target).closest("form");
  if (form) form.dataset.typed = "yes";
});
document.addEventListener("change", (event) => {
  const field = /** @type {Field} */ (event.target);
  const form = field.closest("form");
  if (form) settle(form);
  if (!("validity" in field) || !field.closest("form, [x-data]")) return;
  // What may not be is said where it is typed, before anything is sent.
  if (field.validity.valid) clearError(field);
  else showError(field, wrongWith(field));
});
/** What is wrong with what is typed, and what is allowed. @param {Field} field */
function wrongWith(field) {
  const range = field.dataset.range || field.title;
  const v = field.validity;
  if (v.valueMissing) return `${labelOf(field)} is needed.`;
  if ((v.rangeUnderflow || v.rangeOverflow) && range) return `It may be ${range}, not ${field.value}.`;
  return field.validationMessage;
}
// What keeps a form from being sent is seen (the browser asks each field before it goes).
document.addEventListener("invalid", (event) => reveal(/** @type {Element} */ (event.target)), { capture: true });
// A finger that goes up or down over a slider means the panel, not the value: it is as it was then.
document.addEventListener("pointerdown", (event) => {
  const slider = event.target;
  if (event.pointerType !== "touch" || !(slider instanceof HTMLInputElement) || slider.type !== "range") return;
  const { value } = slider;
  let swept = false;
  const move = (/** @type {PointerEvent} */ now) => {
    const [dx, dy] = [Math.abs(now.clientX - event.clientX), Math.abs(now.clientY - event.clientY)];
    if (dy > 10 && dy > dx) swept = true;
    if (swept) restore();
  };
  const restore = () => {
    if (slider.value === value) return;
    slider.value = value;
    slider.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const end = () => {
    document.removeEventListener("pointermove", move, true);
    if (swept) requestAnimationFrame(restore);
  };
  document.addEventListener("pointermove", move, true);
  for (const over of ["pointerup", "pointercancel"])
    document.addEventListener(over, end, { capture: true, once: true });
});
// A tooltip whose element goes away goes with it.
const takeTipsAway = () => {
  for (const tip of document.querySelectorAll(".tooltip")) tip.remove();
};
document.addEventListener("htmx:beforeSwap", takeTipsAway);
// And Escape takes it away, whatever else it does (WCAG 1.4.13).
window.addEventListener("keydown", (event) => event.key === "Escape" && takeTipsAway(), { capture: true });
/** Whatever htmx brings in is settled, and its bars are as long as they say. @param {ParentNode} root */
function ready(root) {
  for (const form of root.querySelectorAll("form")) settle(form);
  for (const bar of /** @type {NodeListOf<HTMLElement>} */ (root.querySelectorAll("[data-share]")))
    bar.style.width = `${Number(bar.dataset.share) * 100}%`;
}
/** Jobs of which it has been said how they ended. @type {Set<string>} */
const told = new Set();
/** Long work is told of when it begins and when it has ended; how far it is can be read at any time. */
function tellOfJobs() {
  for (const card of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-job-state]"))) {
    const key = `${card.id} ${/done|failed|cancelled/.test(card.dataset.jobState || "") ? "ended" : "began"}`;
    if (told.has(key)) continue;
    told.add(key);
    // What it came to is in sight, as its beginning was.
    if (card.closest("[data-job-slot]")) card.scrollIntoView({ block: "nearest" });
    tell(
      (card.textContent || "")
        .replace(/\s+/g, " ")
        .replace(/Cancel\s*$/, "")
        .trim(),
    );
  }
}
document.addEventListener("htmx:afterSettle", tellOfJobs);
document.addEventListener("htmx:afterSwap", (event) =>
  ready(/** @type {Element} */ (/** @type {CustomEvent} */ (event).detail.elt.parentElement ?? document.body)),
);

/** How long a pointer rests before a tooltip comes up. [ms] */
const SHOW_MS = 400;

function begin() {
  install();
  ready(document);
  new window.bootstrap.Tooltip(document.body, {
    selector: "[data-bs-toggle=tooltip]",
    // Within the page's landmarks, as all that is read.
    container: "main",
    trigger: "hover focus",
    // Beside its field: what is above and below it is read while it is filled in.
    placement: (/** @type {unknown} */ _tip, /** @type {HTMLElement} */ of) =>
      of.dataset.bsPlacement || (of.matches("input, select, textarea") ? "right" : "top"),
    // Past the unit that stands behind it.
    offset: (/** @type {{placement: string}} */ at) => (at.placement === "right" ? [0, 30] : [0, 6]),
    delay: { show: SHOW_MS, hide: 0 },
    animation: false,
  });
  document.addEventListener("show.bs.tooltip", ({ target }) => {
    const marked = /** @type {Element} */ (target);
    described.set(marked, marked.getAttribute("aria-describedby"));
  });
  document.addEventListener("shown.bs.tooltip", describeAgain);
  document.addEventListener("hidden.bs.tooltip", describeAgain);
  // What was clicked is known: its tooltip does not come up over what is beside it until the pointer has left.
  document.addEventListener("click", (event) => {
    const marked = /** @type {Element} */ (event.target).closest?.("[data-bs-toggle=tooltip]");
    const tip = marked && window.bootstrap.Tooltip.getInstance(marked);
    if (!tip) return;
    tip.hide();
    tip.disable();
    // One that was on its way when it was clicked has been let go of by then: the focus alone does not bring it up.
    marked.addEventListener("mouseleave", () => setTimeout(() => tip.enable(), 2 * SHOW_MS), { once: true });
  });
}
if (window.htmx) begin();
else document.addEventListener("DOMContentLoaded", begin);
