// Light in three dimensions: one way for land, plants, tufts, water and pieces alike, with the figures of the plan's own.
import * as THREE from "../../../vendor/three.js";
import { boot, state } from "../state.js";

// Colours come ready from the server: none is converted on the way.
THREE.ColorManagement.enabled = false;

const { daylight } = boot;
const RAD = Math.PI / 180;
/** What is far off goes into this. */
export const HAZE = new THREE.Color("#d3d8d0");

/** @type {THREE.Texture} */
const white = new THREE.DataTexture(new Uint8Array([255, 255, 255, 255]), 1, 1, THREE.RGBAFormat);
white.needsUpdate = true;

/** What every material that light falls on shares. */
export const uniforms = {
  haze: { value: HAZE },
  /** How much of what is seen is lost a metre, and from how far off on. */
  thick: { value: 0.00022 },
  clear: { value: 0 },
  sun: { value: new THREE.Vector3(0, 1, 0) },
  sky: { value: new THREE.Vector3(0, 1, 0) },
  sunInk: { value: new THREE.Vector3(...daylight.sun_ink) },
  skyInk: { value: new THREE.Vector3(...daylight.sky_ink) },
  /** Where the sun reaches: all of the land, and more finely around where one looks; west, north, and parts a metre. */
  sunlitFar: { value: white },
  sunlitNear: { value: white },
  farAt: { value: new THREE.Vector4(0, 0, 0, 0) },
  nearAt: { value: new THREE.Vector4(0, 0, 0, 0) },
  /** Seconds since the wind rose; 0 where there is none. */
  wind: { value: 0 },
};

/** A vector to a place in the sky: east, up, south. @param {THREE.Vector3} into @param {number} bearing @param {number} height [°] */
const towards = (into, bearing, height) =>
  into.set(
    Math.sin(bearing * RAD) * Math.cos(height * RAD),
    Math.sin(height * RAD),
    -Math.cos(bearing * RAD) * Math.cos(height * RAD),
  );

/** The sun that is looked at: one that is being turned, or the world's. */
export const sunNow = () =>
  state.sun ?? { sun_bearing_deg: state.world.sun_bearing_deg, sun_height_deg: state.world.sun_height_deg };

/** The sun stands where it is looked at now. */
export function turnSun() {
  const { sun_bearing_deg: bearing, sun_height_deg: height } = sunNow();
  towards(uniforms.sun.value, bearing, height);
  towards(uniforms.sky.value, bearing + daylight.sky_bearing_deg, daylight.sky_height_deg);
  uniforms.sky.value.multiplyScalar(daylight.sky_contrast);
}

const figure = (/** @type {number} */ value) => value.toFixed(4);

/**
 * For a shader: `sunlitAt(place)` is how much of the sun comes there, past the ground and past growth too; `lightOf(up, sunlit)` is how bright a face is that looks
 * up there, 1 for level ground in the sun, and `hazed(ink, away)` what is seen of it from so far off.
 */
export const LIT = `
  uniform vec3 haze; uniform float thick; uniform float clear;
  uniform vec3 sun; uniform vec3 sky; uniform vec3 sunInk; uniform vec3 skyInk;
  uniform sampler2D sunlitFar; uniform sampler2D sunlitNear; uniform vec4 farAt; uniform vec4 nearAt;
  vec2 sunlitAt(vec3 place) {
    vec2 all = farAt.z > 0.0 ? texture2D(sunlitFar, (place.xz - farAt.xy) * farAt.zw).rg : vec2(1.0);
    if (nearAt.z <= 0.0) return all;
    vec2 near = (place.xz - nearAt.xy) * nearAt.zw;
    vec2 edge = min(near, 1.0 - near);
    return mix(all, texture2D(sunlitNear, near).rg, clamp(min(edge.x, edge.y) * 30.0, 0.0, 1.0));
  }
  vec3 lightOf(vec3 up, float sunlit) {
    float light = clamp(dot(up, sun) * sunlit / max(sun.y, ${figure(daylight.lowest)}), 0.0, ${figure(daylight.brightest)});
    float above = clamp(1.0 + dot(up, sky) - sky.y, ${figure(daylight.sky_least)}, ${figure(daylight.sky_most)});
    float more = light < 1.0 ? (above * ${figure(daylight.shaped)} - ${figure(daylight.unshaped)}) * (1.0 - light) : 0.0;
    return skyInk + sunInk * light + more;
  }
  vec3 hazed(vec3 ink, float away) { return mix(haze, ink, exp(-max(away - clear, 0.0) * thick)); }`;

/** The fragment shader of what is lit corner by corner: the vertex shader says `seen`, its colour in the light, and `away`. */
export const INKED = `
  ${LIT}
  varying vec3 seen; varying float away;
  void main() { gl_FragColor = vec4(hazed(seen, away), 1.0); }`;
