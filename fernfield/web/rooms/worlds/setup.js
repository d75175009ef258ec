// Setting up a world that is there: bounds and what is lost by another spacing are drawn before anything is done.
import "/static/js/kernel/focus.js";
import { bodyOf } from "/static/js/kernel/forms.js";
import { ask } from "/static/js/kernel/say.js";
import { id, svg } from "/static/js/kernel/shapes.js";

const { world, tract } = document.body.dataset;

document.querySelector("[data-tract-choice]")?.addEventListener("change", (event) => {
  location.search = `?tract=${/** @type {HTMLSelectElement} */ (event.target).value}`;
});
// What was set is shown: the title and the icon are fetched anew, and nothing that is typed or pressed is touched.
document.body.addEventListener("fern:renewed", () => {
  for (const part of ["setup-title", "icon"])
    window.htmx.ajax("GET", `/worlds/${world}/setup?tract=${tract}`, {
      source: `#${part}`,
      target: `#${part}`,
      select: `#${part}`,
      swap: "morph:outerHTML",
    });
});
document.body.addEventListener("fern:binned", () => location.assign("/"));

/** The tract, and the bounds that are asked for, in one picture. */
function bounds() {
  const picture = id("bounds");
  const [width, depth] = [Number(picture.dataset.width), Number(picture.dataset.depth)];
  const { x0, y0, x1, y1 } = bodyOf(id("crop"));
  if ([x0, y0, x1, y1].some((v) => v === undefined)) return;
  const [west, east] = [Math.min(0, x0), Math.max(width, x1)];
  const [south, north] = [Math.min(0, y0), Math.max(depth, y1)];
  const pad = 0.03 * Math.max(east - west, north - south);
  picture.setAttribute("viewBox", `${west - pad} ${-north - pad} ${east - west + 2 * pad} ${north - south + 2 * pad}`);
  picture.replaceChildren(
    svg("image", { href: picture.dataset.plan, x: 0, y: -depth, width, height: depth, preserveAspectRatio: "none" }),
    svg("rect", { class: "old", x: 0, y: -depth, width, height: depth }),
    svg("rect", {
      class: "new",
      x: Math.min(x0, x1),
      y: -Math.max(y0, y1),
      width: Math.abs(x1 - x0),
      height: Math.abs(y1 - y0),
    }),
  );
  /** @type {HTMLElement} */ (document.querySelector("[data-crop-words]")).textContent =
    `${(x1 - x0).toFixed(0)} × ${(y1 - y0).toFixed(0)} m afterwards`;
}
id("crop").addEventListener("input", bounds);
bounds();

document.querySelector("[data-show-loss]")?.addEventListener("click", async () => {
  const spacing = id("respace-spacing_m").value;
  const path = `/api/tracts/${tract}/loss`;
  const found = await ask(`${path}?spacing_m=${spacing}`);
  if (!found) return;
  id("loss").src = `${path}.png?spacing_m=${spacing}`;
  id("loss-words").textContent =
    `at ${spacing} m: at most ${found.greatest_m.toFixed(2)} m, ${found.rms_m.toFixed(3)} m in the mean (RMS)`;
  id("loss").closest("figure").hidden = false;
});
