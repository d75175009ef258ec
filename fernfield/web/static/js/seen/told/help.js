// Help in place: F1 opens the help of what has the focus, a mark on the bench that of the tool in the hand.
import { id } from "../../kernel/shapes.js";
import { actions, heed, state } from "../state.js";

const sheet = id("help-sheet");

/** What the help of an element is called: its own key, that of its field's description, or that of where it stands. @param {Element | null} element */
function keyOf(element) {
  const own = element?.closest("[data-help]")?.getAttribute("data-help");
  if (own) return own;
  const tool = element?.closest("[data-tool]")?.getAttribute("data-tool");
  if (tool) return `tool.${tool}`;
  const stage = element?.closest("[data-stage]")?.getAttribute("data-stage");
  if (stage) return `stage.${stage}`;
  const overlay = element?.closest("[data-overlay]")?.getAttribute("data-overlay");
  if (overlay) return `overlay.${overlay}`;
  if (element?.closest(".pane")) return "page.keyboard";
  const mark = element?.closest("[data-section], .section") ? "section" : element?.closest(".alt") ? "altitudes" : "";
  if (mark) return `page.${mark}`;
  const fold = element?.closest("[data-fold]")?.getAttribute("data-fold") ?? "";
  return FOLDS[fold] ?? (state.tool ? `tool.${state.tool}` : `stage.${state.stage}`);
}
/** Folds that the manual has a text of. @type {Record<string, string>} */
const FOLDS = { sheets: "page.sheets", plots: "page.plots", area: "page.area", seed: "page.seed" };

/** Open the sheet with a text. @param {string} key */
async function show(key) {
  await window.htmx
    .ajax("GET", `/help/${key}`, { source: "#help-text", target: "#help-text", swap: "innerHTML" })
    .catch(() => {});
  window.bootstrap.Offcanvas.getOrCreateInstance(sheet).show();
}
actions.help = () => show(keyOf(document.activeElement));
/** The first heading of the bench has a mark that opens the help of the tool in the hand. */
heed("panel", () => {
  const heading = document.querySelector("#bench h2");
  if (!heading || heading.querySelector("[data-help-open]")) return;
  const mark = Object.assign(document.createElement("button"), { type: "button", className: "help-mark" });
  mark.textContent = "?";
  mark.dataset.helpOpen = "";
  mark.setAttribute("aria-label", "Help with this stage and its tool");
  mark.title = "Help: F1";
  heading.append(mark);
});
document.addEventListener("click", (event) => {
  const button = /** @type {Element} */ (event.target).closest("[data-help-open]");
  if (button) show(button.getAttribute("data-help-open") || keyOf(null));
});
