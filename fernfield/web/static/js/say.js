// Messages to the person: what was wrong, what was kept.

/**
 * Show a message for a while.
 * @param {string} words
 * @param {"wrong"|"calm"} [sort]
 */
export function say(words, sort = "wrong") {
  const box = document.getElementById("toasts");
  const note = document.createElement("div");
  note.className = sort === "calm" ? "notice calm" : "notice";
  note.setAttribute("role", sort === "calm" ? "status" : "alert");
  const text = document.createElement("span");
  text.textContent = words;
  const close = document.createElement("button");
  close.type = "button";
  close.className = "press";
  close.textContent = "Close";
  close.addEventListener("click", () => note.remove());
  note.append(text, close);
  box.append(note);
  while (box.children.length > 3) box.firstElementChild.remove();
  setTimeout(() => note.remove(), sort === "calm" ? 4000 : 12000);
}

/** The words of an answer that went wrong. @param {Response} answer */
export async function problemWords(answer) {
  try {
    const body = await answer.json();
    return body.detail || body.title || `The server answered ${answer.status}.`;
  } catch {
    return `The server answered ${answer.status}.`;
  }
}

/**
 * Ask the API; a problem is shown and gives null.
 * @param {string} path @param {string} [method] @param {unknown} [body]
 */
export async function ask(path, method = "GET", body = undefined) {
  try {
    const answer = await fetch(path, {
      method,
      headers: body === undefined ? {} : { "content-type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
    if (!answer.ok) {
      say(await problemWords(answer));
      return null;
    }
    return answer.status === 204 ? {} : await answer.json();
  } catch {
    say("The server does not answer. What was acknowledged is kept; try again in a moment.");
    return null;
  }
}

/** Errors of htmx requests are told in the same place. */
export function watchHtmx() {
  document.body.addEventListener("htmx:responseError", (event) => {
    const text = event.detail.xhr.responseText;
    let words = `The server answered ${event.detail.xhr.status}.`;
    try {
      words = JSON.parse(text).detail || words;
    } catch {
      // Not JSON: the status has to do.
    }
    say(words);
  });
  document.body.addEventListener("htmx:sendError", () => say("The server does not answer. Nothing was changed."));
}
