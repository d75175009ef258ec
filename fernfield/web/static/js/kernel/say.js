// Messages to the person: what was wrong, what was kept. Bootstrap's toasts.
import { waitFor } from "./waits.js";

/** @typedef {{field: string, label?: string, message: string}} FieldError */
/** @typedef {{title?: string, detail?: string, status?: number, errors?: FieldError[], words?: string, choices?: {on_named?: Record<string, string[]>}}} Problem */

/** @type {HTMLElement | null} */
let box = null;

function toasts() {
  box ??= document.getElementById("toasts");
  if (!box) throw new Error("the page has no place for messages");
  return box;
}

/**
 * Show a message for a while. The same one is not shown twice at a time.
 * @param {string} words
 * @param {"wrong"|"calm"} [sort]
 * @param {string} [about] what it is about: it goes when that is mended (see `mended`)
 * @returns {HTMLElement} what it stands in
 */
export function say(words, sort = "wrong", about = "") {
  for (const old of toasts().children)
    if (old.textContent === words || (about && /** @type {HTMLElement} */ (old).dataset.about === about)) old.remove();
  const note = document.createElement("div");
  note.className = `toast align-items-center ${sort === "calm" ? "calm" : "wrong"}`;
  note.dataset.about = about;
  note.setAttribute("role", sort === "calm" ? "status" : "alert");
  const body = document.createElement("div");
  body.className = "toast-body";
  body.textContent = words;
  const close = document.createElement("button");
  close.type = "button";
  close.className = "btn-close";
  close.dataset.bsDismiss = "toast";
  close.setAttribute("aria-label", "Close");
  note.append(body, close);
  toasts().append(note);
  note.addEventListener("hidden.bs.toast", () => note.remove());
  const shown = [...toasts().children];
  for (const old of shown.slice(0, Math.max(0, shown.length - 3))) old.remove();
  // What went wrong stays until it has been read, or until it is mended.
  new window.bootstrap.Toast(note, { delay: 4000, autohide: sort === "calm", animation: false }).show();
  return body;
}

/** What becomes of rows that name one which is deleted, as a button says it. @type {Record<string, string>} */
const WAYS = { clear: "Delete it; they do without", delete: "Delete them along with it" };

/**
 * Ask in which way a row is deleted that others name: the way, or null when it is left.
 * @param {Problem} problem @param {string} about @returns {Promise<string | null>}
 */
function wayOf(problem, about) {
  const before = /** @type {HTMLElement | null} */ (document.activeElement);
  const body = say(problem.words ?? problemWords(problem), "wrong", about);
  const row = document.createElement("div");
  row.className = "row-of mt-2";
  body.append(row);
  return new Promise((chosen) => {
    const end = (/** @type {string | null} */ way) => {
      chosen(way);
      if (row.contains(document.activeElement) || document.activeElement === document.body) before?.focus();
    };
    for (const way of Object.keys(problem.choices?.on_named ?? {})) {
      const button = document.createElement("button");
      button.type = "button";
      button.className = "btn btn-sm btn-outline-secondary";
      button.dataset.onNamed = way;
      button.textContent = WAYS[way] ?? way;
      button.addEventListener("click", () => {
        end(way);
        mended(about);
      });
      row.append(button);
    }
    body.parentElement?.addEventListener("hide.bs.toast", () => end(null), { once: true });
    /** @type {HTMLElement | null} */ (row.firstElementChild)?.focus();
  });
}

/** What a message was about is right now: it goes. @param {string} about */
export function mended(about) {
  for (const note of toasts().children) if (/** @type {HTMLElement} */ (note).dataset.about === about) note.remove();
}

/** What messages about the server itself are about. */
const SERVER = "server";

/** The server does not answer; said once, and gone as soon as it does. @param {string} words */
export const silent = (words) => say(`The server does not answer. ${words}`, "wrong", SERVER);

/** The server has answered. */
export const answers = () => box && mended(SERVER);

/** What an answer that went wrong says. @param {Response} answer @returns {Promise<Problem>} */
export async function problemOf(answer) {
  try {
    return await answer.json();
  } catch {
    return { detail: `The server answered ${answer.status}.` };
  }
}

/** @param {Problem} problem */
export const problemWords = (problem) => problem.detail || problem.title || "Something went wrong.";

/** What a call is about, whatever it asks. @param {string} path */
const aboutOf = (path) => path.replace(/\?.*/, "");

/** How many questions to the server are not answered yet. */
export const asked = { open: 0 };

/**
 * Ask the server: its answer, or null where there is none, of which is told unless `calm`.
 * @param {string} path @param {RequestInit} [how] @param {{waits?: string, calm?: boolean, stops?: boolean}} [also] `waits`: what is told while it takes long; what changes nothing can be stopped then (`stops`)
 * @returns {Promise<Response | null>}
 */
export async function reach(
  path,
  how = {},
  { waits = "", calm = false, stops = (how.method ?? "GET") === "GET" } = {},
) {
  const stop = new AbortController();
  const over = waits ? waitFor(waits, stops ? () => stop.abort() : null) : () => {};
  asked.open += 1;
  try {
    const answer = await fetch(path, { ...how, signal: stop.signal });
    answers();
    return answer;
  } catch {
    if (!calm && !stop.signal.aborted) silent("What was acknowledged is kept; try again in a moment.");
    return null;
  } finally {
    asked.open -= 1;
    over();
  }
}

/**
 * Ask the API; a problem is shown, until the same is asked well, and gives null.
 * @param {string} path @param {string} [method] @param {unknown} [body] @param {string} [waits] what is told while it takes long
 * @returns {Promise<any>}
 */
export async function ask(path, method = "GET", body = undefined, waits = "") {
  const answer = await reach(path, jsonOf(method, body), { waits });
  if (!answer) return null;
  if (!answer.ok) {
    const problem = await problemOf(answer);
    if (problem.choices?.on_named) {
      const way = await wayOf(problem, aboutOf(path));
      return way && ask(`${path}?on_named=${way}`, method, body, waits);
    }
    say(problemWords(problem), "wrong", aboutOf(path));
    return null;
  }
  mended(aboutOf(path));
  return answer.status === 204 ? {} : await answer.json();
}

/** A call with a body of JSON. @param {string} method @param {unknown} body @returns {RequestInit} */
export const jsonOf = (method, body) => ({
  method,
  headers: body === undefined ? {} : { "content-type": "application/json" },
  body: body === undefined ? undefined : JSON.stringify(body),
});
