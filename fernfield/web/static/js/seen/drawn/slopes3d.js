// How the land slopes, by the tiles of the plan: what light falls on where it is drawn in three dimensions.
import * as THREE from "../../../vendor/three.js";
import { grid, landApi, state } from "../state.js";

const TILE = 256;
const MOST = 160;
const MOST_LOADING = 3;
/** Half of what two bytes hold: a number from -1 to 1 is kept in two of the four channels, and smoothed between pixels. */
const HALF = 32_767.5;

const level = new THREE.DataTexture(new Uint8Array([127, 255, 127, 255]), 1, 1, THREE.RGBAFormat);
level.needsUpdate = true;
/** Level ground. */
export const LEVEL = level;

/** For a shader: `faceAt(at)` is which way the ground faces there, from the texture `slopes`. */
export const FACES = `
  uniform sampler2D slopes;
  vec3 faceAt(vec2 at) {
    vec4 two = texture2D(slopes, at) * 255.0;
    vec2 way = (two.xz * 256.0 + two.yw) / ${HALF.toFixed(1)} - 1.0;
    return vec3(way.x, sqrt(max(1.0 - dot(way, way), 0.0)), -way.y);
  }`;

/** @param {number} count @param {number} at */
const inside = (count, at) => Math.min(Math.max(at, 0), count - 1);

/** The heights of a tile's pixels with those beside it, and which way each pixel faces. */
class Slopes {
  /** @param {number} at the level @param {number} row @param {number} col */
  constructor(at, row, col) {
    this.step = 2 ** at;
    this.row0 = row * TILE * this.step;
    this.col0 = col * TILE * this.step;
    this.rows = Math.min(TILE, Math.ceil((grid.rows - this.row0) / this.step));
    this.cols = Math.min(TILE, Math.ceil((grid.cols - this.col0) / this.step));
    // One more on each side, where the land goes on.
    this.up = this.row0 ? 1 : 0;
    this.left = this.col0 ? 1 : 0;
    /** @type {Float32Array | null} */
    this.heights = null;
    this.high = 0;
    this.wide = 0;
    /** @type {THREE.DataTexture | null} */
    this.texture = null;
    this.loading = false;
    this.stale = true;
    this.touched = 0;
  }

  async load() {
    this.loading = true;
    this.stale = false;
    loading += 1;
    const { row0, col0, step } = this;
    const row1 = Math.min(row0 + (this.rows + 1) * step, grid.rows);
    const col1 = Math.min(col0 + (this.cols + 1) * step, grid.cols);
    const query = `row0=${row0 - this.up * step}&col0=${col0 - this.left * step}&row1=${row1}&col1=${col1}&step=${step}&of=mean`;
    try {
      const answer = await fetch(`${landApi}/heights?${query}`);
      if (!answer.ok) throw new Error(String(answer.status));
      [this.high, this.wide] = (answer.headers.get("x-shape") || "").split(",").map(Number);
      this.heights = new Float32Array(await answer.arrayBuffer());
      this.face(0, 0, this.rows, this.cols);
    } catch {
      this.stale = true;
    } finally {
      this.loading = false;
      loading -= 1;
    }
  }

  /** Work out which way the pixels of a part face: Horn's differences, as the plan's light has them. @param {number} r0 @param {number} c0 @param {number} r1 @param {number} c1 */
  face(r0, c0, r1, c1) {
    const { high, wide, rows, cols, up, left } = this;
    const h = /** @type {Float32Array} */ (this.heights);
    this.texture ??= Object.assign(
      new THREE.DataTexture(new Uint8Array(rows * cols * 4), cols, rows, THREE.RGBAFormat),
      {
        minFilter: THREE.LinearFilter,
        magFilter: THREE.LinearFilter,
      },
    );
    const out = /** @type {Uint8Array} */ (this.texture.image.data);
    const scale = 1 / (8 * grid.spacing * this.step);
    for (let r = r0; r < r1; r += 1) {
      const [a, b, c] = [r - 1, r, r + 1].map((at) => inside(high, at + up) * wide);
      for (let col = c0; col < c1; col += 1) {
        const m = inside(wide, col + left);
        const [l, e] = [inside(wide, col + left - 1), inside(wide, col + left + 1)];
        const east = (h[a + e] - h[a + l] + 2 * (h[b + e] - h[b + l]) + (h[c + e] - h[c + l])) * scale;
        const north = (h[a + l] - h[c + l] + 2 * (h[a + m] - h[c + m]) + (h[a + e] - h[c + e])) * scale;
        const long = HALF / Math.sqrt(1 + east * east + north * north);
        const x = Math.round(HALF - east * long);
        const y = Math.round(HALF - north * long);
        const k = (r * cols + col) * 4;
        out[k] = x >> 8;
        out[k + 1] = x & 255;
        out[k + 2] = y >> 8;
        out[k + 3] = y & 255;
      }
    }
    this.texture.needsUpdate = true;
  }

  /** Put new heights of a window in. @param {number[]} window @param {(row: number, col: number) => number} heightAt */
  patch([row0, col0, row1, col1], heightAt) {
    if (!this.heights) return;
    const { step, up, left, high, wide } = this;
    const first = [Math.ceil((row0 - this.row0) / step), Math.ceil((col0 - this.col0) / step)];
    const last = [Math.ceil((row1 - this.row0) / step), Math.ceil((col1 - this.col0) / step)];
    const [r0, c0] = [Math.max(first[0], -up), Math.max(first[1], -left)];
    const [r1, c1] = [Math.min(last[0], high - up), Math.min(last[1], wide - left)];
    if (r0 >= r1 || c0 >= c1) return;
    for (let r = r0; r < r1; r += 1)
      for (let c = c0; c < c1; c += 1)
        this.heights[(r + up) * wide + c + left] = heightAt(this.row0 + r * step, this.col0 + c * step);
    this.face(Math.max(r0 - 1, 0), Math.max(c0 - 1, 0), Math.min(r1 + 1, this.rows), Math.min(c1 + 1, this.cols));
  }
}

/** @type {Map<string, Slopes>} */
const held = new Map();
let loading = 0;

/** How a tile of the plan slopes; asked for where it is not there. @param {number} at the level @param {number} row @param {number} col @param {() => void} request ask for another frame */
export function slopesOf(at, row, col, request) {
  const key = `${at}/${row}/${col}`;
  let one = held.get(key);
  if (!one) {
    one = new Slopes(at, row, col);
    held.set(key, one);
    forget();
  }
  one.touched = performance.now();
  if (one.stale && !one.loading && !state.drawing && loading < MOST_LOADING) one.load().then(request);
  return one.texture ?? LEVEL;
}

function forget() {
  if (held.size <= MOST) return;
  const old = [...held].filter(([, one]) => !one.loading).sort((a, b) => a[1].touched - b[1].touched);
  for (const [key, one] of old.slice(0, held.size - MOST * 0.75)) {
    one.texture?.dispose();
    held.delete(key);
  }
}

/** New heights of a window. @param {number[]} window @param {(row: number, col: number) => number} heightAt */
export function patchSlopes(window, heightAt) {
  for (const one of held.values()) one.patch(window, heightAt);
}

/** What is known of a window is out of date. @param {number[]} window */
export function spoilSlopes([row0, col0, row1, col1]) {
  for (const one of held.values()) {
    const [high, wide] = [(one.rows + 1) * one.step, (one.cols + 1) * one.step];
    if (row1 < one.row0 - one.step || row0 > one.row0 + high) continue;
    if (col1 < one.col0 - one.step || col0 > one.col0 + wide) continue;
    one.stale = true;
  }
}
