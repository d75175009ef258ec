// The ground's bench: settings of the tools, the form of the brush, what strokes keep to, sheets, plots, levels, areas.
import { refresh, setBrush, take } from "./bench.js";
import { drawOutline } from "./outline.js";
import { ask, problemWords, say } from "./say.js";
import { brush, keep, lays, on, state, tell, tool, TOOLS } from "./state.js";

const box = document.getElementById("bench");
const base = `/api/worlds/${state.world.id}`;
const all = (selector) => /** @type {any[]} */ ([...box.querySelectorAll(selector)]);

/** A field's value as the API takes it; undefined where it is left out. */
function valueOf(field) {
  if (field.type === "checkbox") return field.checked;
  if (field.value === "") return undefined;
  return field.type === "number" ? Number(field.value) : field.value;
}

/** What a form says. Fields that its choices hide are left out. */
function valuesOf(form) {
  const values = {};
  for (const field of form.elements) {
    if (!field.name || field.closest("[data-when][hidden]")) continue;
    if (field.name === "plots") values.plots = [...(values.plots || []), ...(field.checked ? [field.value] : [])];
    else {
      const value = valueOf(field);
      if (value !== undefined) values[field.name] = value;
    }
  }
  return values;
}

const put = (form, values) => {
  for (const field of form.elements) {
    if (!(field.name in values) || field === document.activeElement) continue;
    const value = values[field.name];
    if (field.type === "checkbox") field.checked = field.name === "plots" ? (value || []).includes(field.value) : Boolean(value);
    else field.value = value ?? "";
  }
};

/** What is kept in the browser goes into the panel. */
function fill() {
  const own = brush();
  if (!own || state.stage !== "ground") return;
  const what = TOOLS[tool()];
  for (const words of all("[data-tool-words]")) words.textContent = what.words || { open: "Marks posts as a hole: a cave mouth, a well.", close: "Closes a hole." }[tool()] || "";
  for (const part of all("[data-brush], [data-fold='form']")) part.hidden = lays();
  for (const form of all("[data-own]")) {
    form.hidden = form.dataset.own !== tool();
    if (form.hidden) continue;
    put(form, { ...own.own, turn_deg: own.turn_deg });
    whenShown(form);
  }
  for (const form of all("[data-form]")) put(form, own);
  for (const words of all("[data-form-words]")) words.textContent = [own.shape !== "round" && own.shape, own.tip, own.turn_by !== "fixed" && { random: "turned by chance", path: "along the stroke" }[own.turn_by]].filter(Boolean).join(", ") || "round";
  const kept = state.keepTo || {};
  for (const form of all("[data-keep]")) put(form, { plots: [], outside: false, feather_m: 0, from_m: null, to_m: null, from_deg: null, to_deg: null, water: "", ...kept });
  for (const words of all("[data-keep-words]")) words.textContent = state.keepTo ? keepWords(state.keepTo) : "everywhere";
  if (state.sheet && !state.world.sheets.some((s) => s.key === state.sheet)) state.sheet = "";
  for (const button of all("button[data-sheet]")) button.setAttribute("aria-pressed", String(button.dataset.sheet === state.sheet));
  for (const form of all("[data-sheet-form]")) form.hidden = form.dataset.sheetForm !== state.sheet;
  for (const fold of all("details[data-fold]")) fold.open = Boolean(state.folds[fold.dataset.fold]);
  for (const form of all("form")) whenShown(form);
}

function keepWords(k) {
  return [
    k.plots?.length && `${k.outside ? "outside" : "in"} ${k.plots.length} plot${k.plots.length > 1 ? "s" : ""}`,
    (k.from_m !== undefined || k.to_m !== undefined) && "elevations",
    (k.from_deg !== undefined || k.to_deg !== undefined) && "slopes",
    k.water,
  ].filter(Boolean).join(", ");
}

/** Show the parts of a form that go with what is chosen in it. */
function whenShown(form) {
  for (const part of form.querySelectorAll("[data-when]")) {
    const [name, value] = part.dataset.when.split("=");
    part.hidden = form.elements[name]?.value !== value;
  }
}

for (const what of ["brush", "bench"]) on(what, fill);
box.addEventListener("toggle", (event) => {
  const name = event.target.dataset?.fold;
  if (!name) return;
  state.folds[name] = event.target.open;
  keep();
}, { capture: true });

box.addEventListener("change", (event) => {
  const form = event.target.form;
  if (!form) return;
  whenShown(form);
  if (form.matches("[data-send$=move]")) tell("rows");
  if (form.matches("[data-own], [data-form], [data-keep]")) {
    delete form.dataset.typed;
    if (!event.target.reportValidity()) return;
  }
  if (event.target.id === "book-level") {
    if (event.target.value !== "") takeLevel(Number(event.target.value));
  } else if (form.dataset.own) {
    const value = valueOf(event.target) ?? null;
    if (event.target.name === "turn_deg") setBrush({ turn_deg: value ?? 0 });
    else setBrush({ own: { ...brush().own, [event.target.name]: value } });
  } else if (form.matches("[data-form]")) setBrush({ [event.target.name]: valueOf(event.target) ?? "" });
  else if (form.matches("[data-keep]")) setKeep(valuesOf(form));
});
box.addEventListener("reset", (event) => {
  if (event.target.matches("[data-keep]")) setTimeout(() => setKeep({}));
});

function setKeep(values) {
  const said = { ...values };
  if (!said.plots?.length) for (const name of ["plots", "outside", "feather_m"]) delete said[name];
  state.keepTo = Object.keys(said).length ? said : null;
  keep();
  // Whoever limits a stroke wants to see where.
  const shown = new Set(state.show.overlays);
  if (state.keepTo) shown.add("kept");
  else shown.delete("kept");
  state.show.overlays = [...shown];
  tell("show-changed");
  fill();
}

/** Plots that were deleted, here or by somebody else, are kept to no more. */
function dropGone() {
  const plots = state.keepTo?.plots || [];
  const left = plots.filter((key) => state.world.plots.some((plot) => plot.key === key));
  if (left.length < plots.length) setKeep({ ...state.keepTo, plots: left });
}
on("rows", dropGone);

/** Flatten works towards an elevation. */
export function takeLevel(elevation) {
  take("flatten");
  setBrush({ own: { ...brush().own, target_m: Math.round(elevation * 100) / 100 } });
  say(`Flatten works towards ${elevation.toFixed(2)} m.`, "calm");
}

on("take-level", (elevation) => state.stage === "ground" && takeLevel(elevation));

/** A key for a new row, from its name. */
const keyOf = (name) => `${name.toLowerCase().replace(/[^a-z0-9]+/g, "-").replace(/^-|-$/g, "").slice(0, 30) || "row"}-${Math.random().toString(36).slice(2, 6)}`;

async function send(form) {
  const [method, path] = form.dataset.send.split(" ");
  const body = valuesOf(form);
  if (form.dataset.sheetForm) body.weight /= 100;
  if (form.dataset.position) body.position = Number(form.dataset.position);
  if (form.hasAttribute("data-sheeted") && state.sheet) body.sheet = state.sheet;
  if (form.dataset.boxed && !body.plot) body.box = JSON.parse(form.dataset.boxed);
  const key = keyOf(body.name || "");
  const answer = await ask(path.replace("*", key), method, body);
  if (!answer) return;
  delete form.dataset.typed;
  if (path.endsWith("/sheets/*")) state.sheet = key;
  if (answer.job) window.htmx.ajax("GET", `/jobs/${answer.job}/card`, { source: "#area-job", target: "#area-job", swap: "innerHTML" });
  else if (form.querySelector("[name=name][placeholder]")) form.reset();
}

async function upload(form, path, fields) {
  const body = new FormData();
  const file = form.elements.file.files[0];
  body.append("file", file);
  for (const [name, value] of Object.entries(fields(file))) body.append(name, value);
  const answer = await fetch(path, { method: "POST", body });
  if (!answer.ok) {
    say(await problemWords(answer));
    return null;
  }
  form.reset();
  delete form.dataset.typed;
  return answer.json();
}
const bare = (file) => file.name.replace(/\.[^.]*$/, "").slice(0, 60) || "Picture";

box.addEventListener("submit", async (event) => {
  const form = event.target;
  if (form.matches("[data-own], [data-form], [data-keep]")) event.preventDefault();
  if (form.dataset.send) {
    event.preventDefault();
    send(form);
  } else if (form.dataset.upload) {
    event.preventDefault();
    const made = await upload(form, form.dataset.upload, (file) => ({ name: bare(file), key: keyOf(bare(file)) }));
    if (made) refresh();
  } else if (form.matches("[data-picture]")) {
    event.preventDefault();
    const made = await upload(form, `${base}/pictures`, (file) => ({ name: bare(file) }));
    if (!made) return;
    say(`${made.name} is among the tips and imprints.`, "calm");
    refresh();
  } else if (form.dataset.draw === "plot") {
    event.preventDefault();
    const name = form.elements.name.value;
    form.reset();
    delete form.dataset.typed;
    drawOutline("plot", (points) => ask(`${base}/plots/${keyOf(name)}`, "PUT", { name, points, tract: state.world.tract }));
  }
});

box.addEventListener("click", async (event) => {
  const button = event.target.closest("button");
  if (!button) return;
  if (button.dataset.sheet !== undefined) {
    state.sheet = button.dataset.sheet;
    keep();
    fill();
  }
  if (button.dataset.call) {
    const [method, path] = button.dataset.call.split(" ");
    ask(path, method, button.dataset.body ? JSON.parse(button.dataset.body) : undefined);
  }
  if (button.dataset.takeLevel) takeLevel(Number(button.dataset.takeLevel));
  if (button.dataset.pick) {
    const [x, y] = button.dataset.pick.split(" ").map((id) => document.getElementById(id));
    drawOutline("place", ([[px, py]]) => {
      x.value = String(px);
      y.value = String(py);
      tell("rows");
    });
  }
  if (button.hasAttribute("data-box")) {
    const form = button.form;
    drawOutline("box", ([[ax, ay], [bx, by]]) => {
      const [x0, y0, x1, y1] = [Math.min(ax, bx), Math.min(ay, by), Math.max(ax, bx), Math.max(ay, by)];
      form.dataset.boxed = JSON.stringify([x0, y0, x1, y1]);
      form.elements.plot.value = "";
      form.querySelector("[data-box-words]").textContent = `Rectangle of ${(x1 - x0).toFixed(0)} by ${(y1 - y0).toFixed(0)} m at E ${x0.toFixed(0)} N ${y0.toFixed(0)}`;
      tell("rows");
    });
  }
  if (button.hasAttribute("data-check-symmetry")) {
    const found = await ask(`/api/tracts/${state.world.tract}/symmetry`);
    const words = box.querySelector("[data-symmetry-words]");
    if (found && words) {
      words.textContent = found.symmetric
        ? `The land is symmetrical, to ${found.largest_m.toFixed(3)} m.`
        : `It differs by up to ${found.largest_m.toFixed(2)} m, at E ${found.x.toFixed(0)} N ${found.y.toFixed(0)}; ${found.mean_m.toFixed(3)} m on the mean.`;
    }
  }
});

dropGone();
fill();
