// What a form's revision did stands beside it, with a way to take it back while it is the newest.
import { hears } from "../live.js";
import { actions, state } from "../state.js";

document.addEventListener("fern:answer", (event) => {
  const { note, answer } =
    /** @type {CustomEvent<{note: HTMLElement, answer: {revision: number, words: string, changed?: boolean}}>} */ (
      event
    ).detail;
  // What changed nothing has nothing to take back but the work of others.
  if (!answer.changed || answer.revision < state.world.revision) return;
  const undo = Object.assign(document.createElement("button"), {
    type: "button",
    className: "btn btn-link btn-sm",
    textContent: "Undo",
  });
  undo.dataset.undoes = String(answer.revision);
  undo.setAttribute("aria-label", `Undo: ${answer.words}`);
  undo.addEventListener("click", () => actions.undo());
  note.append(" ", undo);
});
hears("revised", (message) => {
  for (const undo of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-undoes]")))
    if (Number(undo.dataset.undoes) < message.number) undo.remove();
});
