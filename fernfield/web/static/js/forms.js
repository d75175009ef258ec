// Forms that say what they send: data-send="METHOD path", data-call on a button, data-upload for a file.
// An answer with a job shows its card in the form's data-slot; else data-then says where to go:
// "reload", a path (with * for the id that came back), or a word that is told to the page.
import { problemWords, say } from "./say.js";

const hiddenIn = (field, form) => {
  for (let at = field; at && at !== form; at = at.parentElement) if (at.hidden) return true;
  return false;
};

/** What a form says, as JSON: dotted names nest, and numbers in them make lists. @param {HTMLFormElement} form */
export function bodyOf(form) {
  const body = {};
  for (const field of form.elements) {
    if (!field.name || field.disabled || hiddenIn(field, form)) continue;
    if (field.type === "radio" && !field.checked) continue;
    const empty = field.value === "" && field.dataset.empty === undefined;
    if (empty && field.type !== "checkbox") continue;
    const value = field.type === "checkbox" ? field.checked : field.type === "number" ? Number(field.value) : field.value;
    const path = field.name.split(".");
    let at = body;
    path.slice(0, -1).forEach((part, i) => {
      at[part] ??= /^\d+$/.test(path[i + 1]) ? [] : {};
      at = at[part];
    });
    at[path.at(-1)] = value;
  }
  return body;
}

function wrong(form, problem) {
  const box = form?.querySelector("[data-errors]");
  if (!box) {
    say(problem.detail || problem.title);
    return;
  }
  const note = document.createElement("div");
  note.className = "notice";
  note.setAttribute("role", "alert");
  const lines = problem.errors?.length ? problem.errors : [{ field: "", message: problem.detail || problem.title }];
  for (const line of lines) {
    const row = document.createElement("div");
    row.textContent = (line.field && !line.message.includes(line.field) ? `${line.field}: ` : "") + line.message;
    note.append(row);
  }
  box.replaceChildren(note);
}

/** Send something of a form or button; gives the answer, or null when it was refused. */
export async function send(form, method, path, body) {
  form?.querySelector("[data-errors]")?.replaceChildren();
  const raw = body instanceof FormData;
  try {
    const answer = await fetch(path, { method, headers: raw || body === undefined ? {} : { "content-type": "application/json" }, body: raw ? body : body === undefined ? undefined : JSON.stringify(body) });
    if (answer.ok) return answer.status === 204 ? {} : await answer.json();
    const text = answer.clone();
    wrong(form, (await answer.json().catch(() => null)) || { detail: await problemWords(text) });
  } catch {
    say("The server does not answer. Nothing was changed; try again in a moment.");
  }
  return null;
}

/** Go on as an element says. */
function after(element, answer) {
  if (answer.job && element.dataset.slot) {
    const query = element.dataset.query ? `?${element.dataset.query}` : "";
    window.htmx.ajax("GET", `/jobs/${answer.job}/card${query}`, { source: element.dataset.slot, target: element.dataset.slot, swap: "innerHTML" });
    return;
  }
  const then = element.dataset.then || "reload";
  if (then === "reload") location.reload();
  else if (then.startsWith("/")) location.assign(then.replace("*", answer.id));
  else document.dispatchEvent(new CustomEvent(`fern:${then}`, { detail: answer }));
}

/** Fields that belong to a choice are there when it is made. */
export function settleChoices(form) {
  for (const part of form.querySelectorAll("[data-when]")) {
    const [name, values] = part.dataset.when.split("=");
    part.hidden = !values.split(" ").includes(form.elements[name].value);
  }
}

document.addEventListener("change", (event) => event.target.form && settleChoices(event.target.form));
document.addEventListener("submit", async (event) => {
  const form = /** @type {HTMLFormElement} */ (event.target);
  if (!form.dataset.send && !form.dataset.upload) return;
  event.preventDefault();
  if (form.dataset.busy) return;
  form.dataset.busy = "yes";
  const [method, path] = form.dataset.upload ? [form.dataset.method || "POST", form.dataset.upload] : form.dataset.send.split(" ");
  if (form.dataset.upload) for (const field of form.elements) if (hiddenIn(field, form)) field.disabled = true;
  const answer = await send(form, method, path, form.dataset.upload ? new FormData(form) : (form.body?.() ?? bodyOf(form)));
  for (const field of form.elements) field.disabled = false;
  delete form.dataset.busy;
  if (answer) after(form, answer);
});
document.addEventListener("click", async (event) => {
  const button = event.target.closest("[data-call]");
  if (!button) return;
  const [method, path] = button.dataset.call.split(" ");
  const answer = await send(null, method, path, button.dataset.body ? JSON.parse(button.dataset.body) : undefined);
  if (answer) after(button, answer);
});
