// Setting up a world that is there: bounds and what is lost by another spacing are drawn before anything is done.
import { bodyOf, settleChoices } from "./forms.js";
import { problemWords, say, watchHtmx } from "./say.js";

const id = (name) => document.getElementById(name);
watchHtmx();
for (const form of document.forms) settleChoices(form);

document.querySelector("[data-tract-choice]")?.addEventListener("change", (event) => {
  location.search = `?tract=${event.target.value}`;
});

/** The tract, and the bounds that are asked for, in one picture. */
function bounds() {
  const svg = id("bounds");
  const [width, depth] = [Number(svg.dataset.width), Number(svg.dataset.depth)];
  const { x0, y0, x1, y1 } = bodyOf(id("crop"));
  if ([x0, y0, x1, y1].some((v) => v === undefined)) return;
  const [west, east] = [Math.min(0, x0), Math.max(width, x1)];
  const [south, north] = [Math.min(0, y0), Math.max(depth, y1)];
  const pad = 0.03 * Math.max(east - west, north - south);
  svg.setAttribute("viewBox", `${west - pad} ${-north - pad} ${east - west + 2 * pad} ${north - south + 2 * pad}`);
  const part = (name, values) => {
    const found = document.createElementNS("http://www.w3.org/2000/svg", name);
    for (const [key, value] of Object.entries(values)) found.setAttribute(key, String(value));
    return found;
  };
  svg.replaceChildren(
    part("image", { href: svg.dataset.plan, x: 0, y: -depth, width, height: depth, preserveAspectRatio: "none" }),
    part("rect", { class: "old", x: 0, y: -depth, width, height: depth }),
    part("rect", { class: "new", x: Math.min(x0, x1), y: -Math.max(y0, y1), width: Math.abs(x1 - x0), height: Math.abs(y1 - y0) }),
  );
  document.querySelector("[data-crop-words]").textContent = `${(x1 - x0).toFixed(0)} × ${(y1 - y0).toFixed(0)} m afterwards`;
}
id("crop").addEventListener("input", bounds);
bounds();

document.querySelector("[data-show-loss]").addEventListener("click", async () => {
  const spacing = id("respace-to").value;
  const path = `/api/tracts/${document.body.dataset.tract}/loss`;
  const answer = await fetch(`${path}?spacing_m=${spacing}`);
  if (!answer.ok) {
    say(await problemWords(answer));
    return;
  }
  const { greatest_m, rms_m } = await answer.json();
  id("loss").src = `${path}.png?spacing_m=${spacing}`;
  id("loss-words").textContent = `at ${spacing} m: at most ${greatest_m.toFixed(2)} m, ${rms_m.toFixed(3)} m in the mean (RMS)`;
  id("loss").closest("figure").hidden = false;
});
