// Ground cover near the eye: tufts made here from the density that the server tells, never fetched one by one.
import * as THREE from "../../../vendor/three.js";
import { INKED, LIT, uniforms } from "./light3d.js";
import { detail } from "./relief3d.js";
import { rows } from "../rows.js";
import { clamp, colOf, grid, heed, landApi, rowOf, state, watch, xOf, yOf } from "../state.js";

/** Posts on the side of the window around the eye that is known at once. */
const POSTS = 160;
/** Metres that the eye goes before tufts are laid anew. */
const STEP_M = 3;

const material = new THREE.ShaderMaterial({
  uniforms,
  side: THREE.DoubleSide,
  vertexShader: `
    ${LIT}
    attribute vec3 ink; uniform float wind; varying vec3 seen; varying float away; varying vec3 spot;
    void main() {
      vec4 at = modelMatrix * instanceMatrix * vec4(position, 1.0);
      vec2 foot = instanceMatrix[3].xz;
      at.xz += vec2(0.12, 0.07) * sin(wind * 2.3 + foot.x * 0.21 + foot.y * 0.13) * position.y * position.y
        * length(instanceMatrix[1].xyz) * step(0.001, wind);
      seen = ink * (0.76 + 0.34 * position.y) * litAt(vec3(0.0, 1.0, 0.0), instanceMatrix[3].xyz, true);
      spot = at.xyz;
      vec4 eye = viewMatrix * at;
      away = length(eye.xyz);
      gl_Position = projectionMatrix * eye;
    }`,
  fragmentShader: INKED,
});

/** Four blades from one foot, one metre tall. */
function tuft() {
  const corners = [];
  for (let k = 0; k < 4; k += 1) {
    const [a, b] = [k * 1.571 + 0.3, k * 1.571 + 1.2];
    const lean = [0.34, 0.16, 0.28, 0.22][k];
    const tip = [Math.cos(a) * lean, [1, 0.86, 0.94, 0.72][k], Math.sin(a) * lean];
    corners.push(Math.cos(b) * 0.045, 0, Math.sin(b) * 0.045, -Math.cos(b) * 0.045, 0, -Math.sin(b) * 0.045, ...tip);
  }
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.Float32BufferAttribute(corners, 3));
  return shape;
}

/** A fixed number from 0 to 1 for a place in the lattice of tufts. @param {number} i @param {number} j @param {number} lane */
function chance(i, j, lane) {
  let n = Math.imul(i ^ Math.imul(lane, 0x9e3779b1), 0x85ebca6b) ^ Math.imul(j, 0xc2b2ae35);
  n = Math.imul(n ^ (n >>> 15), 0x2c1b3c6d);
  n = Math.imul(n ^ (n >>> 12), 0x297a2d39);
  return ((n ^ (n >>> 15)) >>> 0) / 4294967296;
}

const inkOf = (/** @type {string} */ text) => [1, 3, 5].map((at) => parseInt(text.slice(at, at + 2), 16) / 255);

/** What is known around the eye. @typedef {{row0: number, col0: number, rows: number, cols: number, keys: string[], planes: Uint8Array, heights: Float32Array}} Known */

export class Swards {
  constructor(/** @type {THREE.Scene} */ scene, /** @type {() => void} */ request) {
    this.scene = scene;
    this.request = request;
    /** @type {Map<string, any>} */
    this.meshes = new Map();
    /** @type {Known | null} */
    this.known = null;
    this.loading = false;
    this.stale = true;
    this.shown = 0;
    this.laid = { x: NaN, y: NaN, z: NaN };
    const anew = () => {
      this.stale = true;
      this.request();
    };
    heed("stale", (message) => {
      if (message.layers.some((/** @type {string} */ l) => ["height", "cover", "look"].includes(l))) anew();
    });
    heed("all-stale", anew);
    for (const name of ["swards", "covers", "cover-rules"]) watch(() => state.at[name], anew);
    watch(
      () => state.grows,
      () => {
        this.laid.x = NaN;
        this.request();
      },
    );
  }

  /** @param {THREE.Vector3} lens Where the eye is: x, up, south. */
  update(lens) {
    const list = rows("swards");
    const reach = Math.max(0, ...list.map((one) => one.reach_m));
    // From high above nothing of it is seen, and nothing is asked for.
    const over = this.known ? lens.y - (this.heightAt(lens.x, -lens.z) ?? lens.y) : 0;
    if (!list.length || !state.grows || over > reach) {
      this.hide();
      if (!list.length || !state.grows) return;
    }
    const [row, col] = [Math.round(rowOf(-lens.z)), Math.round(colOf(lens.x))];
    const half = POSTS / 2;
    const k = this.known;
    const middle = k ? [k.row0 + k.rows / 2, k.col0 + k.cols / 2] : [NaN, NaN];
    const far = Math.max(Math.abs(row - middle[0]), Math.abs(col - middle[1]));
    if ((this.stale || !(far < half / 2)) && !this.loading && !state.drawing && state.past === null)
      this.load(row, col);
    const moved = Math.hypot(lens.x - this.laid.x, lens.y - this.laid.y, lens.z - this.laid.z);
    if (k && over <= reach && !(moved < STEP_M)) this.lay(lens);
  }

  hide() {
    for (const mesh of this.meshes.values()) mesh.visible = false;
    this.shown = 0;
    this.laid.x = NaN;
  }

  async load(/** @type {number} */ row, /** @type {number} */ col) {
    this.loading = true;
    this.stale = false;
    const row0 = clamp(row - POSTS / 2, 0, Math.max(0, grid.rows - POSTS));
    const col0 = clamp(col - POSTS / 2, 0, Math.max(0, grid.cols - POSTS));
    const row1 = Math.min(row0 + POSTS, grid.rows);
    const col1 = Math.min(col0 + POSTS, grid.cols);
    const of = `row0=${row0}&col0=${col0}&row1=${row1}&col1=${col1}`;
    try {
      const [shares, ground] = await Promise.all([fetch(`${landApi}/swards?${of}`), fetch(`${landApi}/heights?${of}`)]);
      if (!shares.ok || !ground.ok) throw new Error(String(shares.status));
      this.known = {
        row0,
        col0,
        rows: row1 - row0,
        cols: col1 - col0,
        keys: (shares.headers.get("X-Swards") || "").split(",").filter(Boolean),
        planes: new Uint8Array(await shares.arrayBuffer()),
        heights: new Float32Array(await ground.arrayBuffer()),
      };
      this.laid.x = NaN;
    } catch {
      // It is asked for again when the eye has moved on.
      this.stale = true;
    } finally {
      this.loading = false;
      this.request();
    }
  }

  /** @param {number} x @param {number} y */
  heightAt(x, y) {
    const k = this.known;
    if (!k) return null;
    const [r, c] = [rowOf(y) - k.row0, colOf(x) - k.col0];
    const [r0, c0] = [Math.floor(r), Math.floor(c)];
    if (r0 < 0 || c0 < 0 || r0 + 1 >= k.rows || c0 + 1 >= k.cols) return null;
    const [v, u] = [r - r0, c - c0];
    const at = r0 * k.cols + c0;
    const upper = k.heights[at] * (1 - u) + k.heights[at + 1] * u;
    const lower = k.heights[at + k.cols] * (1 - u) + k.heights[at + k.cols + 1] * u;
    return upper * (1 - v) + lower * v;
  }

  /** Lay the tufts around the eye, thinner toward their reach. @param {THREE.Vector3} lens */
  lay(lens) {
    this.laid = { x: lens.x, y: lens.y, z: lens.z };
    this.shown = 0;
    const k = /** @type {Known} */ (this.known);
    let { tufts: room } = detail();
    for (const mesh of this.meshes.values()) mesh.visible = false;
    for (const sward of rows("swards")) {
      const plane = k.keys.indexOf(sward.key);
      if (plane < 0 || sward.per_m2 <= 0) continue;
      // A machine that draws little sees less far, as densely.
      const reach = Math.min(sward.reach_m, Math.sqrt(room / Math.max(1, sward.per_m2) / 1.6));
      const mesh = this.meshOf(sward.key, Math.ceil(sward.per_m2 * Math.PI * reach * reach) + 64);
      const side = 1 / Math.sqrt(sward.per_m2);
      const [green, dry] = [inkOf(sward.colour), inkOf(sward.dry_colour)];
      const inks = mesh.geometry.getAttribute("ink");
      const matrix = mesh.instanceMatrix.array;
      const most = mesh.instanceMatrix.count;
      let count = 0;
      const [cx, cy] = [lens.x, -lens.z];
      for (let j = Math.floor((cy - reach) / side); j <= (cy + reach) / side && count < most; j += 1) {
        for (let i = Math.floor((cx - reach) / side); i <= (cx + reach) / side && count < most; i += 1) {
          const x = (i + chance(i, j, 1)) * side;
          const y = (j + chance(i, j, 2)) * side;
          const far = Math.hypot(x - cx, y - cy) / reach;
          if (far >= 1) continue;
          const [r, c] = [Math.round(rowOf(y)) - k.row0, Math.round(colOf(x)) - k.col0];
          if (r < 0 || c < 0 || r >= k.rows || c >= k.cols) continue;
          const share = k.planes[plane * k.rows * k.cols + r * k.cols + c] / 255;
          // Fewer and fewer toward the reach, so that no edge is seen.
          const draw = chance(i, j, 3);
          if (draw >= share * Math.min(1, (1 - far) * 2.5)) continue;
          const z = this.heightAt(x, y);
          if (z === null) continue;
          const tall = sward.tall_min_m + (sward.tall_max_m - sward.tall_min_m) * chance(i, j, 4);
          const turn = chance(i, j, 5) * 6.2832;
          const wide = tall * (0.7 + 0.6 * chance(i, j, 6));
          const [cos, sin] = [Math.cos(turn) * wide, Math.sin(turn) * wide];
          matrix.set([cos, 0, -sin, 0, 0, tall, 0, 0, sin, 0, cos, 0, x, z - 0.02, -y, 1], count * 16);
          const dryness = chance(i, j, 7) * 0.8;
          const bright = 0.85 + 0.3 * chance(i, j, 8);
          inks.array.set(
            [0, 1, 2].map((n) => (green[n] + (dry[n] - green[n]) * dryness) * bright),
            count * 3,
          );
          count += 1;
        }
      }
      mesh.count = count;
      mesh.visible = count > 0;
      mesh.instanceMatrix.needsUpdate = true;
      inks.needsUpdate = true;
      this.shown += count;
      room = Math.max(0, room - count);
    }
  }

  /** A mesh with room for so many. @param {string} key @param {number} count */
  meshOf(key, count) {
    const known = this.meshes.get(key);
    if (known && known.instanceMatrix.count >= count) return known;
    if (known) {
      this.scene.remove(known);
      known.dispose();
      known.geometry.dispose();
    }
    const geometry = tuft();
    geometry.setAttribute("ink", new THREE.InstancedBufferAttribute(new Float32Array(count * 3), 3));
    const mesh = new THREE.InstancedMesh(geometry, material, count);
    mesh.frustumCulled = false;
    this.meshes.set(key, mesh);
    this.scene.add(mesh);
    return mesh;
  }
}
