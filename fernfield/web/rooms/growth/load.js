// The load gauge: what the growth costs the machine that the world is made for, also as it would be.
import Alpine from "/static/js/kernel/alpine.js";
import { reach } from "/static/js/kernel/say.js";
import { row, rows, subject } from "/static/js/seen/rows.js";
import { heed, landApi, state, watch } from "/static/js/seen/state.js";

/** @type {{found: import("/static/js/types.js").Answers["Gauged"] | null, from: string, density: string}} */
const gauge = Alpine.reactive({ found: null, from: "", density: "" });
let timer = 0;

/** Ask soon: many changes are asked for once. */
function askSoon() {
  clearTimeout(timer);
  timer = setTimeout(askLoad, 300);
}
async function askLoad() {
  if (state.stage !== "growth" || !state.folds["growth-load"]) return;
  const query = new URLSearchParams();
  const start = row("things", gauge.from);
  if (start) {
    query.set("x", String(start.x));
    query.set("y", String(start.y));
  }
  if (gauge.density !== "" && subject("mix")) {
    query.set("mix", subject("mix"));
    query.set("density_per_ha", gauge.density);
  }
  const answer = await reach(`${landApi}/load?${query}`, {}, { waits: "Counting what there is to draw", calm: true });
  if (answer?.ok) gauge.found = await answer.json();
}
watch(() => [state.world.revision, state.folds["growth-load"], gauge.from, gauge.density], askSoon);
heed("panel", () => {
  if (state.stage !== "growth") return;
  gauge.density = "";
  askSoon();
  const field = /** @type {HTMLInputElement | null} */ (document.getElementById("mix-density_per_ha"));
  field?.addEventListener("input", () => {
    gauge.density = field.checkValidity() ? field.value : "";
  });
  field?.form?.addEventListener("submit", () => {
    gauge.density = "";
  });
});

const large = (/** @type {number} */ value) => Math.round(value).toLocaleString("en");

Alpine.data("load", () => ({
  get starts() {
    return rows("things").filter((one) => one.sort === "start");
  },
  get lines() {
    if (!gauge.found) return [];
    const { load, shares, machine } = gauge.found;
    const line = (/** @type {string} */ name, /** @type {string} */ label, /** @type {string} */ words) => ({
      name,
      label,
      words,
      part: Math.min(shares[name], 1),
      over: shares[name] > 1,
    });
    return [
      line("instances", "Instances", `${large(load.instances)} of ${large(machine.instances)}`),
      line("triangles", "Triangles", `${large(load.triangles)} of ${large(machine.triangles)}`),
      line("memory", "Memory", `${load.memory_mib.toFixed(1)} of ${machine.memory_mib} MiB`),
      line("calls", "Draw calls", `${load.calls} of ${machine.calls}`),
    ];
  },
  get words() {
    if (!gauge.found) return "";
    const over = this.lines.filter((line) => line.over).map((line) => line.label.toLowerCase());
    const would = gauge.density === "" ? "" : `At ${gauge.density} a hectare: `;
    return would + (over.length ? `too much for it: ${over.join(", ")}.` : "it bears this.");
  },
  get kinds() {
    const counts = Object.entries(gauge.found?.kinds ?? {});
    const tufts = Object.entries(gauge.found?.tufts ?? {});
    return [
      ...counts.map(([kind, count]) => ({ kind, name: row("kinds", kind)?.name ?? kind, count: large(count) })),
      ...tufts.map(([key, count]) => ({
        kind: `sward:${key}`,
        name: `${row("swards", key)?.name ?? key}, tufts near the eye`,
        count: large(count),
      })),
    ];
  },
  /** @param {Event} event */
  from(event) {
    gauge.from = /** @type {HTMLSelectElement} */ (event.target).value;
  },
}));
