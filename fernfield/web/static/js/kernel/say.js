// Messages to the person: what was wrong, what was kept. Bootstrap's toasts.

/** @typedef {{field: string, message: string}} FieldError */
/** @typedef {{title?: string, detail?: string, status?: number, errors?: FieldError[]}} Problem */

/** @type {HTMLElement | null} */
let box = null;

function toasts() {
  box ??= document.getElementById("toasts");
  if (!box) throw new Error("the page has no place for messages");
  return box;
}

/**
 * Show a message for a while.
 * @param {string} words
 * @param {"wrong"|"calm"} [sort]
 */
export function say(words, sort = "wrong") {
  const note = document.createElement("div");
  note.className = `toast align-items-center ${sort === "calm" ? "calm" : "wrong"}`;
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
  // What went wrong stays until it has been read.
  new window.bootstrap.Toast(note, { delay: 4000, autohide: sort === "calm", animation: false }).show();
}

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

/**
 * Ask the API; a problem is shown and gives null.
 * @param {string} path @param {string} [method] @param {unknown} [body]
 * @returns {Promise<any>}
 */
export async function ask(path, method = "GET", body = undefined) {
  try {
    const answer = await fetch(path, {
      method,
      headers: body === undefined ? {} : { "content-type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
    if (!answer.ok) {
      say(problemWords(await problemOf(answer)));
      return null;
    }
    return answer.status === 204 ? {} : await answer.json();
  } catch {
    say("The server does not answer. What was acknowledged is kept; try again in a moment.");
    return null;
  }
}
