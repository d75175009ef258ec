// The list of worlds: a question takes the focus, and Escape means no.
import "/static/js/kernel/focus.js";
import "/static/js/kernel/forms.js";
import { closed, opened } from "/static/js/kernel/layers.js";

document.body.addEventListener("htmx:afterSettle", () => {
  const question = /** @type {HTMLElement | null} */ (document.querySelector("[role=alertdialog]"));
  if (!question) {
    closed("question");
    return;
  }
  if (question.dataset.asked) return;
  question.dataset.asked = "yes";
  const keep = /** @type {HTMLElement} */ (question.querySelector("[data-keep]"));
  keep.focus();
  opened("question", () => keep.click());
});
