// The sun's dial: a drag sets its bearing and height; letting go is one revision.
import { drag, heldKeys } from "/static/js/kernel/shapes.js";
import { clamp, heed, state, watch } from "/static/js/seen/state.js";

/** @param {string} name @returns {any} */
const id = (name) => document.getElementById(name);
const RIM = 72;

function placeSun() {
  const sun = id("dial-sun");
  if (!sun) return;
  const [bearing, height] = [Number(id("sun-sun_bearing_deg").value), Number(id("sun-sun_height_deg").value)];
  const reach = RIM * (1 - height / 90);
  const turn = (bearing * Math.PI) / 180;
  const [x, y] = [Math.sin(turn) * reach, -Math.cos(turn) * reach];
  for (const [name, value] of Object.entries({ cx: x, cy: y })) sun.setAttribute(name, String(value));
  for (const [name, value] of Object.entries({ x1: x, y1: y })) id("dial-ray").setAttribute(name, String(value));
  id("dial").setAttribute("aria-valuenow", String(bearing));
}

function begin() {
  const face = id("dial");
  if (!face) return;
  const form = id("sun");
  const turn = (/** @type {PointerEvent} */ event) => {
    const rect = face.getBoundingClientRect();
    const [x, y] = [event.clientX - rect.left - rect.width / 2, event.clientY - rect.top - rect.height / 2];
    id("sun-sun_bearing_deg").value = String((Math.round((Math.atan2(x, -y) * 180) / Math.PI) + 360) % 360);
    id("sun-sun_height_deg").value = String(clamp(Math.round(90 * (1 - Math.hypot(x, y) / RIM)), 1, 90));
    form.dataset.typed = "yes";
    placeSun();
    look();
  };
  // Looked at before it is set: the land is drawn in it while the sun is turned.
  const look = () => {
    const [bearing, height] = ["bearing", "height"].map((name) => Number(id(`sun-sun_${name}_deg`).value));
    if (height >= 1 && height <= 90)
      state.sun = { sun_bearing_deg: ((bearing % 360) + 360) % 360, sun_height_deg: height };
  };
  drag(face, (event) => (turn(event), true), { move: (_, event) => turn(event), end: () => form.requestSubmit() });
  heldKeys(
    face,
    (event) => {
      const step = { ArrowRight: 5, ArrowLeft: -5 }[event.key];
      if (!step) return false;
      const field = id("sun-sun_bearing_deg");
      field.value = String((Number(field.value) + step + 360) % 360);
      form.dataset.typed = "yes";
      placeSun();
      look();
      return true;
    },
    () => form.requestSubmit(),
  );
  form.addEventListener("input", placeSun);
  // What was not taken, or was so before, is not looked at any more; what was taken comes as the world's own light.
  form.addEventListener("htmx:afterRequest", (/** @type {any} */ event) => {
    const { sun_bearing_deg: bearing, sun_height_deg: height } = state.world;
    const same = state.sun?.sun_bearing_deg === bearing && state.sun?.sun_height_deg === height;
    if (!event.detail.successful || same) state.sun = null;
  });
  placeSun();
}
heed("panel", () => state.stage === "light" && begin());
watch(
  () => state.at.light,
  () => {
    state.sun = null;
    setTimeout(placeSun);
  },
);
