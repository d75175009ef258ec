// What takes long says what it does, and how to stop it: over the map where there is one, else at the foot of the page.

/** What is shorter says nothing. [ms] */
const WORDS_MS = 1000;
/** From here on it can be stopped. [ms] */
const STOP_MS = 2000;

/** @type {Map<symbol, {words: string, stop: (() => void) | null}>} */
const waits = new Map();

function place() {
  const found = document.getElementById("waits");
  if (found) return found;
  const made = Object.assign(document.createElement("div"), { id: "waits", className: "asks waits", hidden: true });
  made.setAttribute("role", "status");
  document.querySelector("main")?.append(made);
  return made;
}

function show() {
  const box = place();
  box.hidden = waits.size === 0;
  box.replaceChildren(
    ...[...waits.values()].flatMap(({ words, stop }) => {
      const line = Object.assign(document.createElement("span"), { textContent: `${words} …` });
      if (!stop) return [line];
      const button = Object.assign(document.createElement("button"), {
        type: "button",
        className: "btn btn-sm btn-outline-secondary",
        textContent: "Stop",
      });
      button.setAttribute("aria-label", `Stop: ${words}`);
      button.addEventListener("click", stop);
      return [line, button];
    }),
  );
}

/**
 * Something takes a while: what it does is told when it is long, and it can be stopped when it is longer.
 * @param {string} words
 * @param {(() => void) | null} [stop]
 * @param {number} [after] when it is known to be long already [ms]
 * @returns what is to be called when it is over
 */
export function waitFor(words, stop = null, after = WORDS_MS) {
  const key = Symbol(words);
  const first = setTimeout(() => {
    waits.set(key, { words, stop: null });
    show();
  }, after);
  const second = setTimeout(() => {
    if (!stop) return;
    waits.set(key, { words, stop });
    show();
  }, STOP_MS);
  return () => {
    clearTimeout(first);
    clearTimeout(second);
    if (waits.delete(key)) show();
  };
}
