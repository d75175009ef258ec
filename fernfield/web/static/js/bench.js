// The bench: the stage's panel comes from the server; tools, brush and forms work here.
import { setSea } from "./facts.js";
import { ask } from "./say.js";
import { brush, clamp, keep, lays, on, state, STRENGTHS, tell, tool, unitOf } from "./state.js";

const box = document.getElementById("bench");

/** Go to a stage: fetch its panel. */
export function goTo(stage) {
  state.stage = stage;
  state.place = null;
  keep();
  for (const button of document.querySelectorAll("[data-stage]")) {
    if (button.dataset.stage === stage) button.setAttribute("aria-current", "step");
    else button.removeAttribute("aria-current");
  }
  tell("stage", stage);
  return fetchPanel();
}

function fetchPanel(headers = {}) {
  // Its own source: htmx lets requests of one element wait for each other, and keeps the newest.
  const context = { source: "#bench", target: "#bench", swap: "innerHTML", headers };
  return window.htmx.ajax("GET", `/worlds/${state.world.id}/bench/${state.stage}?tract=${state.world.tract}`, context);
}

/** The world changed: fetch the present stage's panel again, but take nothing away that is being typed. */
export function refresh() {
  return fetchPanel({ "X-Renewal": "yes" });
}

// A form in which somebody has typed what the server has not been told yet says so itself.
box.addEventListener("input", (event) => {
  if (event.target.form) event.target.form.dataset.typed = "yes";
});
for (const what of ["submit", "change"]) {
  box.addEventListener(what, (event) => {
    const form = event.target.form || event.target;
    if (what === "submit" || form.dataset.settle) delete form.dataset.typed;
  });
}

box.addEventListener("htmx:beforeSwap", (event) => {
  if (event.target !== box) return;
  const { requestConfig, xhr } = event.detail;
  const renewal = Boolean(requestConfig.headers["X-Renewal"]);
  // A panel that comes late, after another stage was chosen, is no longer wanted.
  const late = xhr.getResponseHeader("x-stage") !== state.stage;
  if (late || (renewal && box.querySelector("form[data-typed]"))) event.detail.shouldSwap = false;
});

function press() {
  for (const [attribute, value] of [["tool", tool()], ["cover", state.cover], ["place", state.place], ["thing", state.chosen]]) {
    for (const button of box.querySelectorAll(`button[data-${attribute}]`)) {
      button.setAttribute("aria-pressed", String(button.dataset[attribute] === value));
    }
  }
}

/** Take a tool of the present stage. */
export function take(name) {
  state.tools[state.stage] = name;
  keep();
  press();
  tell("brush");
}

box.addEventListener("click", (event) => {
  const button = event.target.closest("button");
  if (!button) return;
  if (button.dataset.tool) take(button.dataset.tool);
  if (button.dataset.cover) {
    state.cover = button.dataset.cover;
    keep();
    press();
  }
  if (button.dataset.place) {
    state.place = state.place === button.dataset.place ? null : button.dataset.place;
    press();
    tell("place");
  }
  if (button.dataset.thing) tell("choose", button.dataset.thing);
  if (button.hasAttribute("data-walk")) tell("walk", null);
});
for (const what of ["chosen", "place"]) on(what, press);

box.addEventListener("htmx:afterSwap", (event) => {
  if (event.target === box) box.dataset.shows = state.stage;
  press();
  dial();
  const mix = box.querySelector("[data-mix]");
  if (mix) state.mix = mix.dataset.mix;
  tell("bench");
});
document.body.addEventListener("htmx:afterSwap", (event) => {
  const card = box.querySelector("[data-job-kind='handover']");
  if (card?.dataset.jobState === "done" && !card.dataset.seen && event.target.id !== "bench") {
    card.dataset.seen = "yes";
    refresh();
  }
});

// Forms that set one thing at once: the sea and the sun.

box.addEventListener("submit", (event) => {
  const form = event.target;
  if (form.dataset.settle !== "sea" && form.dataset.settle !== "sun") return;
  event.preventDefault();
  settle(form);
});
box.addEventListener("change", (event) => {
  const form = event.target.closest("form[data-settle]");
  if (form) settle(form);
});
box.addEventListener("input", (event) => {
  const mate = event.target.dataset?.mate;
  if (mate) document.getElementById(mate).value = event.target.value;
  if (event.target.closest("form[data-settle='sun']")) placeSun();
});

function settle(form) {
  if (!form.reportValidity()) return;
  if (form.dataset.settle === "sea") {
    const level = Number(form.elements.sea_level_m.value);
    if (level !== state.world.sea_level_m) setSea(level);
    return;
  }
  const sun = { sun_bearing_deg: Number(form.elements.sun_bearing_deg.value), sun_height_deg: Number(form.elements.sun_height_deg.value) };
  if (sun.sun_bearing_deg === state.world.sun_bearing_deg && sun.sun_height_deg === state.world.sun_height_deg) return;
  Object.assign(state.world, sun);
  ask(`/api/worlds/${state.world.id}`, "PATCH", sun);
}

// The sun's dial

function placeSun() {
  const sun = document.getElementById("dial-sun");
  if (!sun) return;
  const bearing = (Number(document.getElementById("bearing").value) * Math.PI) / 180;
  const reach = 72 * (1 - Number(document.getElementById("height").value) / 90);
  const x = Math.sin(bearing) * reach;
  const y = -Math.cos(bearing) * reach;
  sun.setAttribute("cx", x);
  sun.setAttribute("cy", y);
  const ray = document.getElementById("dial-ray");
  ray.setAttribute("x1", x);
  ray.setAttribute("y1", y);
  for (const mate of box.querySelectorAll("[data-mate]")) mate.value = document.getElementById(mate.dataset.mate).value;
}

function dial() {
  const face = document.getElementById("dial");
  if (!face) return;
  placeSun();
  const turn = (event) => {
    const rect = face.getBoundingClientRect();
    const x = event.clientX - rect.left - rect.width / 2;
    const y = event.clientY - rect.top - rect.height / 2;
    const bearing = (Math.round((Math.atan2(x, -y) * 180) / Math.PI) + 360) % 360;
    const height = clamp(Math.round(90 * (1 - Math.hypot(x, y) / 72)), 1, 90);
    document.getElementById("bearing").value = String(bearing);
    document.getElementById("height").value = String(height);
    placeSun();
  };
  const done = () => settle(box.querySelector("form[data-settle='sun']"));
  face.addEventListener("pointerdown", (event) => {
    face.setPointerCapture(event.pointerId);
    turn(event);
    face.addEventListener("pointermove", turn);
    face.addEventListener("pointerup", () => {
      face.removeEventListener("pointermove", turn);
      done();
    }, { once: true });
  });
  face.addEventListener("keydown", (event) => {
    const step = { ArrowRight: 5, ArrowLeft: -5 }[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    const field = document.getElementById("bearing");
    field.value = String((Number(field.value) + step + 360) % 360);
    placeSun();
    done();
  });
}

// The brush

const RADII = [1, 400];
const toPart = (value, [low, high]) => (100 * Math.log(value / low)) / Math.log(high / low);
const fromPart = (part, [low, high]) => low * (high / low) ** (part / 100);
const tidy = (value) => (value < 10 ? Math.round(value * 10) / 10 : Math.round(value));

document.addEventListener("alpine:init", () => {
  window.Alpine.data("brush", () => ({
    turn: 0,
    init() {
      on("brush", () => {
        this.turn += 1;
      });
    },
    get own() {
      return this.turn >= 0 ? brush() || { radius: 1, softness: 0, strength: 1 } : null;
    },
    get unit() {
      return this.turn >= 0 && !lays() ? unitOf(tool()) : "%/s";
    },
    get radius() {
      return tidy(this.own.radius);
    },
    get softness() {
      return Math.round(this.own.softness);
    },
    get strength() {
      return tidy(this.own.strength);
    },
    get radiusPart() {
      return toPart(this.own.radius, RADII);
    },
    get strengthPart() {
      return toPart(this.own.strength, STRENGTHS[this.unit]);
    },
    get strengthLow() {
      return STRENGTHS[this.unit][0];
    },
    get strengthHigh() {
      return STRENGTHS[this.unit][1];
    },
    get strengthRange() {
      return `${this.strengthLow} to ${this.strengthHigh} ${this.unit}`;
    },
    get effect() {
      const verbs = { raise: "adds", lower: "takes", flatten: "moves", smooth: "smooths", roughen: "roughens", weather: "works", open: "opens", close: "closes", paint: "lays", take_away: "lifts", sow: "sows", thin: "thins" };
      const amount = this.unit === "m/s" ? `${this.strength} m` : `${this.strength} %`;
      return `${verbs[tool()] || ""} ${amount} each second`;
    },
    get full() {
      return 100 * (1 - this.own.softness / 100);
    },
    get outline() {
      const flat = this.full;
      let path = "M29 60";
      for (let i = 0; i <= 24; i += 1) {
        const t = i / 24;
        path += `L${(29 + (100 - flat) * t).toFixed(1)} ${(60 - 43 * t * t * (3 - 2 * t)).toFixed(1)}`;
      }
      for (let i = 24; i >= 0; i -= 1) {
        const t = i / 24;
        path += `L${(229 - (100 - flat) * t).toFixed(1)} ${(60 - 43 * t * t * (3 - 2 * t)).toFixed(1)}`;
      }
      return `${path}Z`;
    },
    get marks() {
      const flat = this.full;
      return `M${129 - flat} 17V66M${129 + flat} 17V66M29 60V66M229 60V66`;
    },
    get topWords() {
      return `${this.strength} ${this.unit}`;
    },
    get fullWords() {
      return `${tidy((2 * this.own.radius * this.full) / 100)} m full`;
    },
    get acrossWords() {
      return `${tidy(2 * this.own.radius)} m`;
    },
    slideRadius(event) {
      this.put("radius", tidy(fromPart(Number(event.target.value), RADII)));
    },
    typeRadius(event) {
      this.typed(event, "radius", RADII);
    },
    slideSoftness(event) {
      this.typed(event, "softness", [0, 100]);
    },
    slideStrength(event) {
      this.put("strength", tidy(fromPart(Number(event.target.value), STRENGTHS[this.unit])));
    },
    typeStrength(event) {
      this.typed(event, "strength", STRENGTHS[this.unit]);
    },
    typed(event, name, [low, high]) {
      const value = Number(event.target.value);
      if (event.target.value === "" || !(value >= low && value <= high)) {
        event.target.reportValidity();
        return;
      }
      this.put(name, value);
    },
    put(name, value) {
      setBrush({ [name]: value });
    },
  }));
});

/** Change the present tool's brush. @param {{radius?: number, softness?: number, strength?: number}} values */
export function setBrush(values) {
  const own = brush();
  if (!own) return;
  Object.assign(own, values);
  own.radius = clamp(own.radius, ...RADII);
  own.softness = clamp(own.softness, 0, 100);
  keep();
  tell("brush");
}
