// Light in three dimensions: one way for land, plants, tufts, water and pieces alike, with the figures of the plan's own.
import * as THREE from "../../../vendor/three.js";
import { ask } from "../../kernel/say.js";
import { announce, boot, heed, shown, shownAs, state, watch } from "../state.js";

/** @typedef {import("../../types.js").Answers["DaylightTold"]} Daylight */

// Colours come ready from the server: none is converted on the way.
THREE.ColorManagement.enabled = false;

const { daylight } = boot;
const RAD = Math.PI / 180;
/** How thick haze is over the distance that one sees. */
const SEEN = 3.912;
/** Mists that are drawn at once, the nearest first. */
export const MOST_MISTS = 8;
/** What is far off goes into this. */
export const HAZE = new THREE.Color();
const PAPER = new THREE.Color("#d3d8d0");

/** How the world is lit as it is looked at now. @type {{now: Daylight}} */
export const lit = { now: boot.light };

/** @type {THREE.Texture} */
const white = new THREE.DataTexture(new Uint8Array([255, 255, 255, 255]), 1, 1, THREE.RGBAFormat);
white.needsUpdate = true;
const many = (/** @type {() => THREE.Vector4} */ make) => Array.from({ length: MOST_MISTS }, make);

/** What every material that light falls on shares. */
export const uniforms = {
  haze: { value: HAZE },
  /** How much of what is seen is lost a metre, and from how far off on; over which height it grows thin, and from where. */
  thick: { value: 0.00022 },
  clear: { value: 0 },
  hazeTop: { value: 0 },
  hazeBase: { value: 0 },
  sun: { value: new THREE.Vector3(0, 1, 0) },
  sky: { value: new THREE.Vector3(0, 1, 0) },
  sunInk: { value: new THREE.Vector3() },
  skyInk: { value: new THREE.Vector3() },
  waterInk: { value: new THREE.Vector3(1, 1, 1) },
  /** Where the sun reaches and how much of the sky is seen: all of the land, and more finely around where one looks; west, north, and parts a metre. */
  sunlitFar: { value: white },
  sunlitNear: { value: white },
  farAt: { value: new THREE.Vector4(0, 0, 0, 0) },
  nearAt: { value: new THREE.Vector4(0, 0, 0, 0) },
  /** The same of what lamps add. */
  lampsFar: { value: white },
  lampsNear: { value: white },
  lampsFarAt: { value: new THREE.Vector4(0, 0, 0, 0) },
  lampsNearAt: { value: new THREE.Vector4(0, 0, 0, 0) },
  /** Banks of mist: east, foot, south and how much is lost a metre in the middle; and one by radius and height. */
  mistCount: { value: 0 },
  mistAt: { value: many(() => new THREE.Vector4()) },
  mistBy: { value: many(() => new THREE.Vector4()) },
  mistInk: { value: new THREE.Vector3(1, 1, 1) },
  /** Seconds since the wind rose; 0 where there is none. */
  wind: { value: 0 },
};

/** A vector to a place in the sky: east, up, south. @param {THREE.Vector3} into @param {number} bearing @param {number} height [°] */
export const towards = (into, bearing, height) =>
  into.set(
    Math.sin(bearing * RAD) * Math.cos(height * RAD),
    Math.sin(height * RAD),
    -Math.cos(bearing * RAD) * Math.cos(height * RAD),
  );

/** Where the light comes from that throws shadows: one that is being turned, or the world's. [°] */
export function thrown() {
  const { drawn, bearing_deg, height_deg } = lit.now;
  const bearing = drawn && state.sun ? state.sun.sun_bearing_deg : bearing_deg;
  const height = drawn && state.sun ? state.sun.sun_height_deg : height_deg;
  return { bearing, height };
}

/** The light stands where it is looked at now. @param {boolean} stands whether somebody stands in it @param {number} away how far off what is looked at is [m] */
export function turnSun(stands, away) {
  const { bearing, height } = thrown();
  const { now } = lit;
  towards(uniforms.sun.value, bearing, height);
  towards(uniforms.sky.value, bearing + daylight.sky_bearing_deg, daylight.sky_height_deg);
  uniforms.sky.value.multiplyScalar(daylight.sky_contrast);
  uniforms.sunInk.value.fromArray(now.sun_ink);
  uniforms.skyInk.value.fromArray(now.sky_ink);
  uniforms.waterInk.value.fromArray(now.water_ink);
  uniforms.mistInk.value.fromArray(now.mists_ink);
  // Seen from above, the sheet has the colour of its paper around it.
  if (now.drawn && !stands) HAZE.copy(PAPER);
  else HAZE.fromArray(now.haze_ink);
  uniforms.hazeTop.value = now.haze_top_m ?? 0;
  uniforms.hazeBase.value = state.world.sea_level_m;
  // What is looked at is clear; what lies further off goes into the haze.
  uniforms.clear.value = stands ? 0 : away * (now.drawn ? 1.1 : 0.5);
  const drawn = stands ? 0.0011 : 0.12 / Math.max(away, 300);
  uniforms.thick.value = now.drawn ? drawn : SEEN / now.haze_m;
}

let asking = false;
let again = false;
/** Ask how the world is lit. While that is asked, it is asked once more at most. */
async function askAnew() {
  again = asking;
  if (asking) return;
  asking = true;
  const found = await ask(
    `/api/worlds/${state.world.id}/daylight?${shownAs({ ...shown(), overlays: [], rule: null, keep_to: null })}`,
  );
  asking = false;
  if (found) {
    lit.now = found;
    announce("lit", found);
  }
  if (again) askAnew();
}
watch(() => [state.at.light, state.at.moods, state.mood, state.past], askAnew);
watch(
  () => state.sun,
  () => (lit.now.drawn && state.view === "plan") || askAnew(),
);
watch(() => state.view, askAnew);
heed("all-stale", askAnew);

const figure = (/** @type {number} */ value) => value.toFixed(4);

/**
 * For a shader: `fallsAt(place)` is how much of the sun comes there past the ground, past growth too, and how much of the
 * sky; `lightOf(up, sunlit, share)` is how bright a face is that looks up there, 1 for level ground in the sun,
 * `lampsAt(place)` what lamps add; `litAt(up, place, grown)` all of it; and `hazed(ink, away, place)` what is seen of it
 * from so far off, through haze and mists.
 */
export const LIT = `
  uniform vec3 haze; uniform float thick; uniform float clear; uniform float hazeTop; uniform float hazeBase;
  uniform vec3 sun; uniform vec3 sky; uniform vec3 sunInk; uniform vec3 skyInk; uniform vec3 waterInk;
  uniform sampler2D sunlitFar; uniform sampler2D sunlitNear; uniform vec4 farAt; uniform vec4 nearAt;
  uniform sampler2D lampsFar; uniform sampler2D lampsNear; uniform vec4 lampsFarAt; uniform vec4 lampsNearAt;
  uniform int mistCount; uniform vec4 mistAt[${MOST_MISTS}]; uniform vec4 mistBy[${MOST_MISTS}]; uniform vec3 mistInk;
  vec3 fallsAt(vec3 place) {
    vec3 all = farAt.z > 0.0 ? texture2D(sunlitFar, (place.xz - farAt.xy) * farAt.zw).rgb : vec3(1.0);
    if (nearAt.z <= 0.0) return all;
    vec2 near = (place.xz - nearAt.xy) * nearAt.zw;
    vec2 edge = min(near, 1.0 - near);
    return mix(all, texture2D(sunlitNear, near).rgb, clamp(min(edge.x, edge.y) * 30.0, 0.0, 1.0));
  }
  vec3 lampsAt(vec3 place) {
    if (lampsFarAt.z <= 0.0) return vec3(0.0);
    vec3 all = texture2D(lampsFar, (place.xz - lampsFarAt.xy) * lampsFarAt.zw).rgb;
    if (lampsNearAt.z > 0.0) {
      vec2 near = (place.xz - lampsNearAt.xy) * lampsNearAt.zw;
      vec2 edge = min(near, 1.0 - near);
      all = mix(all, texture2D(lampsNear, near).rgb, clamp(min(edge.x, edge.y) * 30.0, 0.0, 1.0));
    }
    return all * all * 4.0;
  }
  vec3 lightOf(vec3 up, float sunlit, float share) {
    float light = clamp(dot(up, sun) * sunlit / max(sun.y, ${figure(daylight.lowest)}), 0.0, ${figure(daylight.brightest)});
    float above = clamp(1.0 + dot(up, sky) - sky.y, ${figure(daylight.sky_least)}, ${figure(daylight.sky_most)});
    float more = light < 1.0 ? (above * ${figure(daylight.shaped)} - ${figure(daylight.unshaped)}) * (1.0 - light) : 0.0;
    // Where the sky is hidden, ground gives some of its light back.
    return (skyInk + more * skyInk.g * ${figure(1 / daylight.sky_ink[1])}) * mix(${figure(daylight.given_back)}, 1.0, share) + sunInk * light;
  }
  vec3 litAt(vec3 up, vec3 place, bool grown) {
    vec3 falls = fallsAt(place);
    return lightOf(up, grown ? falls.g : falls.r, falls.b) + lampsAt(place);
  }
  float erf_(float x) { return tanh(1.202 * x + 0.11 * x * x * x); }
  vec3 hazed(vec3 ink, float away, vec3 place) {
    float through = max(away - clear, 0.0) * thick;
    float rise = place.y - cameraPosition.y;
    if (hazeTop > 0.0) {
      // The mean of what falls off with the height, along the way that is looked.
      float low = exp(-clamp((cameraPosition.y - hazeBase) / hazeTop, -1.0, 40.0));
      float high = exp(-clamp((place.y - hazeBase) / hazeTop, -1.0, 40.0));
      through *= abs(rise) > 0.02 * hazeTop ? clamp((low - high) * hazeTop / rise, 0.0, 2.8) : low;
    }
    vec3 seen = mix(haze, ink, exp(-through));
    for (int i = 0; i < ${MOST_MISTS}; i += 1) {
      if (i >= mistCount) break;
      // Thickest in the middle, and less by the square of how far off, in radii and heights: what lies on the way.
      vec3 by = vec3(mistBy[i].x, mistBy[i].y, mistBy[i].x);
      vec3 from = (cameraPosition - mistAt[i].xyz) * by, way = (place - cameraPosition) * by;
      float a = dot(way, way), b = dot(from, way), c = dot(from, from);
      if (a <= 1e-6) continue;
      float root = sqrt(a);
      float lost = mistAt[i].w * away * exp(-(c - b * b / a)) * 0.8862 / root * (erf_(root + b / root) - erf_(b / root));
      seen = mix(mistInk, seen, exp(-max(lost, 0.0)));
    }
    return seen;
  }`;

/** The fragment shader of what is lit corner by corner: the vertex shader says `seen`, its colour in the light, `away` and `spot`. */
export const INKED = `
  ${LIT}
  varying vec3 seen; varying float away; varying vec3 spot;
  void main() { gl_FragColor = vec4(hazed(seen, away, spot), 1.0); }`;
