// The overlook: the same land in three dimensions, drawn on demand, with the brush in it too.
import { waitFor } from "../../kernel/waits.js";
import * as THREE from "../../../vendor/three.js";
import { steer } from "../hands/cursor.js";
import { camera as plan } from "./plan.js";
import { follow } from "../hands/pointer.js";
import { tookFrame } from "./near3d.js";
import { HAZE, lit, turnSun, uniforms } from "./light3d.js";
import { pours, Sky } from "./sky3d.js";
import { detail, Land } from "./relief3d.js";
import { ringPoints, ringWords } from "./ring.js";
import { Growth } from "./growth3d.js";
import { Swards } from "./swards3d.js";
import { Sheets } from "./water3d.js";
import { Figures } from "./figures3d.js";
import { Draped } from "./draped3d.js";
import { Placed } from "./placed3d.js";
import Alpine from "../../kernel/alpine.js";
import { brush, clamp, entered, grid, heed, inShown, keep, state, watch, xOf, yOf } from "../state.js";

const pane = /** @type {HTMLElement} */ (document.getElementById("look"));
const canvas = /** @type {HTMLCanvasElement} */ (document.getElementById("overlook"));

/** @type {any} */
let parts = null;
let waiting = false;
/** Set while somebody walks: where the eye is. @type {{x: number, y: number, z: number, facing: number, pitch: number} | null} */
/** @type {any} */
let eye = null;
export const drawn = { frames: 0 };

/** How far the eye may go: by all that is shown; where it begins: by the tract that was entered. [m] */
const size = Math.max(grid.east - grid.west, grid.north - grid.south);
const first = Math.max(entered.cols - 1, entered.rows - 1) * entered.spacing_m;
/** The orbit: the spot looked at, how far off, from which bearing, and how steeply down. */
const orbit = state.camera || {
  x: xOf(plan.col),
  y: yOf(plan.row),
  away: first * 0.62,
  bearing: 200,
  tilt: 33,
};

function build() {
  const renderer = new THREE.WebGLRenderer({ canvas, antialias: state.show.detail !== "low" });
  renderer.outputColorSpace = THREE.LinearSRGBColorSpace;
  renderer.setClearColor(HAZE, 1);
  const scene = new THREE.Scene();
  const lens = new THREE.PerspectiveCamera(50, 1, 0.2, 40_000);
  const ring = new THREE.Group();
  const line = (/** @type {string} */ colour) =>
    new THREE.LineLoop(
      new THREE.BufferGeometry(),
      new THREE.LineBasicMaterial({ color: colour, depthTest: false, transparent: true }),
    );
  ring.add(line("#1e2925"), line("#faf8f1"));
  ring.renderOrder = 5;
  scene.add(ring);
  const placed = new Placed(scene, request);
  parts = {
    renderer,
    scene,
    lens,
    ring,
    sky: new Sky(scene, request),
    land: new Land(scene, request),
    growth: new Growth(scene, request),
    swards: new Swards(scene, request),
    placed,
    draped: new Draped(scene, request, placed),
    figures: new Figures(scene, request),
    water: new Sheets(scene, request),
  };
  window.fern.overlook = { drawn, orbit, spotUnder, parts, pixelOf };
}

/** Show or hide the overlook. @param {boolean} shown */
export function showOverlook(shown) {
  if (!shown) return;
  if (!parts) build();
  fit();
  request();
}

/** Stand at eye level, or null to leave. @param {any} place */
export function stand(place) {
  const rests = eye && place && Object.keys(place).every((name) => Math.abs(place[name] - eye[name]) < 1e-3);
  eye = place;
  // Who stands still sees the same.
  if (rests) return;
  turning = true;
  request();
}

function fit() {
  if (!parts || pane.clientWidth === 0) return;
  const { renderer, lens } = parts;
  renderer.setPixelRatio(Math.min(window.devicePixelRatio || 1, detail().ratio));
  renderer.setSize(pane.clientWidth, pane.clientHeight, false);
  lens.aspect = pane.clientWidth / pane.clientHeight;
  lens.updateProjectionMatrix();
}

/** Called when the land that was waited for is there, or is looked at no more. @type {(() => void) | null} */
let arrived = null;
watch(
  () => state.view,
  () => {
    arrived?.();
    arrived = null;
  },
);
/** When the last frame was drawn. [ms] */
let frameAt = 0;
/** Whether the eye has moved since, by a hand or on its feet. */
let turning = false;
/** Whether the wind blows: then a frame follows a frame. */
const blowing = () => state.view !== "plan" && !quiet.matches && ((state.show.wind && state.grows) || pours());
const quiet = matchMedia("(prefers-reduced-motion: reduce)");
/** Draw at the next frame. */
export function request() {
  if (waiting || !parts || state.view === "plan") return;
  waiting = true;
  requestAnimationFrame((now) => {
    waiting = false;
    if (turning) tookFrame(now - frameAt);
    turning = false;
    frameAt = now;
    if (blowing()) request();
    paint();
  });
}

function placeLens() {
  const { lens, land } = parts;
  lens.fov = eye ? 68 : 50;
  lens.near = eye ? 0.15 : 1;
  lens.updateProjectionMatrix();
  if (eye) {
    lens.position.set(eye.x, eye.z, -eye.y);
    const facing = (eye.facing * Math.PI) / 180;
    const pitch = (eye.pitch * Math.PI) / 180;
    lens.lookAt(
      eye.x + Math.sin(facing) * Math.cos(pitch),
      eye.z + Math.sin(pitch),
      -(eye.y + Math.cos(facing) * Math.cos(pitch)),
    );
    return;
  }
  const bearing = (orbit.bearing * Math.PI) / 180;
  const tilt = (orbit.tilt * Math.PI) / 180;
  const ground = land.heightAt(orbit.x, orbit.y) ?? state.world.sea_level_m;
  const x = orbit.x + Math.sin(bearing) * Math.cos(tilt) * orbit.away;
  const y = orbit.y + Math.cos(bearing) * Math.cos(tilt) * orbit.away;
  const under = land.heightAt(clamp(x, grid.west, grid.east), clamp(y, grid.south, grid.north)) ?? ground;
  lens.position.set(x, Math.max(ground + Math.sin(tilt) * orbit.away, under + 3), -y);
  lens.lookAt(orbit.x, ground, -orbit.y);
}

function paint() {
  const { renderer, scene, lens, land, growth, swards, water } = parts;
  turnSun(Boolean(eye), orbit.away);
  uniforms.wind.value = blowing()
    ? (performance.now() / 1000) * (lit.now.drawn ? 1 : Math.min(lit.now.wind_m_s / 3, 4))
    : 0;
  placeLens();
  renderer.setClearColor(HAZE, 1);
  parts.sky.update(lens, land, Boolean(eye));
  const [x, y] = eye ? [eye.x, eye.y] : [orbit.x, orbit.y];
  land.update(x, y, eye ? 0 : orbit.away);
  // A frame that was asked for before the view was left waits for nothing.
  if (land.waits === 0 || state.view === "plan") {
    arrived?.();
    arrived = null;
  } else arrived ??= waitFor(eye ? "Bringing the land around the walker in" : "Bringing the land into view");
  growth.update(x, y, lens.position);
  swards.update(lens.position);
  water.update();
  parts.placed.stand(land, lens.position);
  parts.draped.update();
  parts.figures.update(land, eye ? ahead(eye) : orbit);
  // The pointer may have come to rest before the land under it had arrived.
  if (hovering && !state.cursor && !eye) state.cursor = spotUnder(...hovering);
  drawRing();
  placeWords();
  renderer.render(scene, lens);
  drawn.frames += 1;
}

const NO_BRUSH = { softness: 100, shape: "round", turn_deg: 0 };

/** A few metres before an eye. @param {{x: number, y: number, facing: number}} from */
function ahead({ x, y, facing }) {
  const turn = (facing * Math.PI) / 180;
  return { x: x + 6 * Math.sin(turn), y: y + 6 * Math.cos(turn) };
}

function drawRing() {
  const { ring, land } = parts;
  // Without a brush the keyboard's place is shown by a small ring.
  const own = brush() ?? (state.byKeys ? { ...NO_BRUSH, radius: orbit.away / 60 } : null);
  ring.visible = Boolean(own && state.cursor && !eye);
  if (!own || !ring.visible) return;
  const [outer, inner] = ring.children;
  for (const [loop, part] of [
    [outer, 1],
    [inner, 1 - own.softness / 100],
  ]) {
    const points = [];
    for (const [east, north] of ringPoints(own, part)) {
      const cursor = /** @type {import("../state.js").Spot} */ (state.cursor);
      const { x, y } = inShown({ x: cursor.x + east, y: cursor.y + north });
      points.push(x, (land.heightAt(x, y) ?? 0) + 0.4, -y);
    }
    loop.geometry.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
    loop.geometry.computeBoundingSphere();
  }
}

/** Radius and strength beside the brush, as on the plan. */
function placeWords() {
  const box = /** @type {HTMLElement} */ (document.getElementById("ring-words"));
  box.hidden = !parts.ring.visible || !brush();
  if (box.hidden) return;
  box.textContent = ringWords();
  const cursor = /** @type {import("../state.js").Spot} */ (state.cursor);
  const [x, y] = pixelOf(cursor.x, cursor.y);
  box.style.left = `${Math.min(x + 16, pane.clientWidth - box.offsetWidth - 6)}px`;
  box.style.top = `${Math.max(y - 34, 6)}px`;
}

/** The spot under a pixel of the pane: the first place where the ray meets the land, or null. @param {number} px @param {number} py */
function spotUnder(px, py) {
  const { lens, land } = parts;
  const ray = new THREE.Vector3((px / pane.clientWidth) * 2 - 1, 1 - (py / pane.clientHeight) * 2, 0.5)
    .unproject(lens)
    .sub(lens.position)
    .normalize();
  const at = lens.position.clone();
  const step = Math.max(grid.spacing, 1);
  const over = (/** @type {THREE.Vector3} */ p) => p.y - (land.heightAt(p.x, -p.z) ?? -1e9);
  let before = 0;
  for (let away = 0; away < size * 4;) {
    const p = at.clone().addScaledVector(ray, away);
    const inside = p.x >= grid.west && -p.z >= grid.south && p.x <= grid.east && -p.z <= grid.north;
    const gap = inside ? over(p) : 1e9;
    if (gap <= 0) {
      let [low, high] = [before, away];
      for (let i = 0; i < 24; i += 1) {
        const middle = (low + high) / 2;
        if (over(at.clone().addScaledVector(ray, middle)) > 0) low = middle;
        else high = middle;
      }
      const hit = at.clone().addScaledVector(ray, high);
      return { x: hit.x, y: -hit.z };
    }
    before = away;
    away += inside ? Math.max(step, gap * 0.35) : Math.max(step, size / 400);
  }
  return null;
}

/** Where a spot on the ground is on the pane. @param {number} x @param {number} y @returns {[number, number]} */
function pixelOf(x, y) {
  const p = new THREE.Vector3(x, parts.land.heightAt(x, y) ?? 0, -y).project(parts.lens);
  return [((p.x + 1) / 2) * pane.clientWidth, ((1 - p.y) / 2) * pane.clientHeight];
}

// The hand and the keyboard: the brush as on the plan; Shift turns.

/** Where a pointer hovers. @type {[number, number] | null} */
let hovering = null;
pane.addEventListener("pointermove", (event) => {
  const rect = pane.getBoundingClientRect();
  hovering = [event.clientX - rect.left, event.clientY - rect.top];
});
pane.addEventListener("pointerleave", () => {
  hovering = null;
});

/** The camera was moved. */
function moved() {
  turning = true;
  keepCamera();
  request();
}

/** @param {number} dx @param {number} dy */
function move(dx, dy) {
  const scale = (orbit.away * 0.93) / pane.clientHeight;
  const bearing = (orbit.bearing * Math.PI) / 180;
  const east = -dx * -Math.cos(bearing) * scale + dy * -Math.sin(bearing) * scale;
  const north = -dx * Math.sin(bearing) * scale + dy * -Math.cos(bearing) * scale;
  Object.assign(orbit, inShown({ x: orbit.x + east, y: orbit.y + north }));
  moved();
}

/** Go nearer by a factor. @param {number} factor */
export function nearer(factor) {
  orbit.away = clamp(orbit.away / factor, 12, size * 3);
  moved();
}

/** Turn the view and tilt it. @param {number} bearing @param {number} tilt [°] */
export function turnBy(bearing, tilt) {
  orbit.bearing = (orbit.bearing + bearing + 360) % 360;
  orbit.tilt = clamp(orbit.tilt + tilt, 6, 88);
  moved();
}

follow(pane, {
  spot: (px, py) => (parts && !eye ? spotUnder(px, py) : null),
  move,
  zoom: nearer,
  turn: (dx, dy) => turnBy(dx * 0.35, dy * 0.25),
  twist: (degrees) => turnBy(degrees, 0),
  away: () => Boolean(eye),
});
steer(pane, {
  middle: () => ({ x: orbit.x, y: orbit.y }),
  screen: () => orbit.away * 0.93,
  pixel: ({ x, y }) => pixelOf(x, y),
  reveal: (spot) => {
    const [px, py] = pixelOf(spot.x, spot.y);
    const out = px < 0 || py < 0 || px > pane.clientWidth || py > pane.clientHeight;
    if (out) Object.assign(orbit, spot);
    moved();
  },
  // The eye stands at the bearing and looks the other way.
  bearing: () => orbit.bearing + 180,
  away: () => Boolean(eye),
});

function keepCamera() {
  state.camera = { ...orbit };
  keep();
}

for (const what of ["tile", "stale", "all-stale", "lit"]) heed(what, request);
Alpine.effect(() => {
  void [
    state.cursor,
    state.byKeys,
    state.shown,
    state.progress,
    state.figures,
    state.walkers,
    state.at.light,
    state.sun,
    state.mood,
    state.at.lamps,
    state.at.mists,
    state.at.water,
    state.at.mixes,
    state.at.kinds,
  ];
  void JSON.stringify(brush());
  request();
});
watch(
  () => state.shown,
  () => fit(),
);
new ResizeObserver(() => {
  fit();
  request();
}).observe(pane);
