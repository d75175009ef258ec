// The land in three dimensions: chunks of 256 posts at several steps, coloured by the plan's picture without its light,
// and lit here.
import * as THREE from "../../../vendor/three.js";
import { pictureOf } from "./plan.js";
import { hears } from "../live.js";
import { LIT, uniforms } from "./light3d.js";
import { FACES, LEVEL, patchSlopes, slopesOf, spoilSlopes } from "./slopes3d.js";
import { seeSunlit } from "./sunlit3d.js";
import { NEAR_SHADER, nearUniforms, seeNear } from "./near3d.js";
import { everyPost, inCells } from "./lattice3d.js";
import { clamp, colOf, grid, heed, landApi, rowOf, seenTracts, state, xOf, yOf } from "../state.js";

const CHUNK = 256;
/** Every so many posts, until a chunk has its own heights. */
const FIRST_STEP = 64;
const SKIRT_M = 6;
const MOST_LOADING = 4;

/** How finely each detail level draws: posts to a step near the eye, metres until the step doubles, metres around a walker
 * in which every post is drawn, pixels; triangles of growth, how far it is drawn, and by what the distances of its kinds are multiplied; tufts of ground cover.
 * @type {Record<string, {step: number, reach: number, around: number, ratio: number, triangles: number, plantReach: number, nearer: number, tufts: number}>} */
export const DETAIL = {
  low: { step: 8, reach: 500, around: 24, ratio: 0.5, triangles: 8_000, plantReach: 260, nearer: 0.15, tufts: 1_500 },
  middle: {
    step: 2,
    reach: 260,
    around: 80,
    ratio: 1,
    triangles: 160_000,
    plantReach: 900,
    nearer: 0.6,
    tufts: 16_000,
  },
  high: {
    step: 1,
    reach: 420,
    around: 80,
    ratio: 2,
    triangles: 1_500_000,
    plantReach: 2000,
    nearer: 1,
    tufts: 120_000,
  },
};
export const detail = () => DETAIL[state.show.detail] || DETAIL.middle;

/** At low detail haze is worked out at the corners, and there are no textures near the eye. @type {Record<string, string>} */
const SIMPLE = { SIMPLE: "" };
/** @type {Record<string, string>} */
const FULL = {};
const drawnAs = () => (state.show.detail === "low" ? SIMPLE : FULL);

const material = (/** @type {THREE.Texture} */ texture) =>
  new THREE.ShaderMaterial({
    defines: drawnAs(),
    uniforms: {
      ...uniforms,
      ...nearUniforms,
      picture: { value: texture },
      slopes: { value: LEVEL },
      part: { value: new THREE.Vector4(0, 0, 1, 1) },
    },
    vertexShader: `
      uniform vec4 part; attribute vec2 post; varying vec2 at; varying vec3 place; varying float away;
      #ifdef SIMPLE
        ${LIT}
        varying vec4 veil;
      #endif
      void main() {
        at = part.xy + post * part.zw;
        place = position;
        vec4 eye = modelViewMatrix * vec4(position, 1.0);
        away = length(eye.xyz);
        #ifdef SIMPLE
          // What is seen through haze is so much of the ink, and so much besides.
          vec3 besides = hazed(vec3(0.0), away, place);
          veil = vec4(besides, hazed(vec3(1.0), away, place).g - besides.g);
        #endif
        gl_Position = projectionMatrix * eye;
      }`,
    fragmentShader: `
      uniform sampler2D picture; varying vec2 at; varying vec3 place; varying float away;
      ${LIT}
      ${FACES}
      #ifdef SIMPLE
        varying vec4 veil;
      #else
        ${NEAR_SHADER}
      #endif
      float speck(vec2 p) { return fract(sin(dot(floor(p), vec2(12.9898, 78.233))) * 43758.5453); }
      float grain(vec2 p) {
        vec2 f = fract(p); f = f * f * (3.0 - 2.0 * f);
        return mix(mix(speck(p), speck(p + vec2(1, 0)), f.x), mix(speck(p + vec2(0, 1)), speck(p + vec2(1, 1)), f.x), f.y) - 0.5;
      }
      void main() {
        vec4 seen = texture2D(picture, at);
        // Between tracts there is nothing.
        if (seen.a < 0.5) discard;
        vec3 ink = seen.rgb;
        // Near the eye the picture's pixels are a metre wide: a fine unevenness gives the ground a scale.
        float near = clamp(1.0 - away / 60.0, 0.0, 1.0);
        #ifndef SIMPLE
          if (nearOn > 0.5) {
            ink = textured(ink, place, normalize(cross(dFdx(place), dFdy(place))), away);
            near = 0.0;
          }
        #endif
        if (near > 0.0)
          ink *= 1.0 + near * (0.16 * grain(place.xz * 1.7) + 0.14 * grain(place.xz * 6.3) + 0.12 * grain(place.xz * 19.0));
        vec3 light = litAt(faceAt(at), place, true);
        // Under water light falls on the bottom's part of the colour alone.
        if (seen.a > 0.995) ink *= light;
        else {
          float bottom = clamp((seen.a * 255.0 - 128.0) / 126.0, 0.0, 1.0);
          ink *= bottom * (0.1 + 0.9 * min(light.g, 1.0)) + (1.0 - bottom) * waterInk;
        }
        #ifdef SIMPLE
          gl_FragColor = vec4(ink * veil.a + veil.rgb, 1.0);
        #else
          gl_FragColor = vec4(hazed(ink, away, place), 1.0);
        #endif
      }`,
  });

/** Ground whose picture is on its way. */
const plain = Object.assign(document.createElement("canvas"), { width: 1, height: 1 });
Object.assign(/** @type {CanvasRenderingContext2D} */ (plain.getContext("2d")), { fillStyle: "#a3a272" }).fillRect(
  0,
  0,
  1,
  1,
);
const blank = new THREE.CanvasTexture(plain);
/** @type {Map<string, {texture: any, tile: any}>} */
const textures = new Map();

/** Whether some of a tract lies in a chunk. @param {number} row @param {number} col */
function holdsLand(row, col) {
  const [west, east] = [xOf(col * CHUNK), xOf((col + 1) * CHUNK)];
  const [north, south] = [yOf(row * CHUNK), yOf((row + 1) * CHUNK)];
  return seenTracts.some(
    (t) =>
      t.x < east && t.y < north && t.x + (t.cols - 1) * t.spacing_m > west && t.y + (t.rows - 1) * t.spacing_m > south,
  );
}

class Chunk {
  constructor(/** @type {number} */ row, /** @type {number} */ col, /** @type {() => void} */ request) {
    this.row0 = row * CHUNK;
    this.col0 = col * CHUNK;
    this.rows = Math.min(CHUNK, grid.rows - 1 - this.row0);
    this.cols = Math.min(CHUNK, grid.cols - 1 - this.col0);
    this.step = 0;
    this.wanted = 0;
    /** @type {any} */
    this.heights = null;
    /** Posts of the mesh. */
    this.n = 0;
    this.m = 0;
    this.loading = false;
    this.stale = false;
    this.request = request;
    this.material = material(blank);
    /** @type {any} */
    this.mesh = null;
    this.pictureKey = "";
    /** Where every post is drawn though it is known of all of them; null: everywhere. @type {{size: number, near: string, fine: (i: number, j: number) => boolean} | null} */
    this.cells = null;
  }

  get centre() {
    return [xOf(this.col0 + this.cols / 2), yOf(this.row0 + this.rows / 2)];
  }

  /** The largest step up to `step` that divides both sides. */
  fitting(/** @type {number} */ step) {
    let s = step;
    while (s > 1 && (this.rows % s || this.cols % s)) s /= 2;
    return s;
  }

  /** Stand there coarsely, from heights of the whole land. @param {Float32Array} values @param {number} wide */
  begin(values, wide) {
    if (this.heights || this.rows % FIRST_STEP || this.cols % FIRST_STEP) return;
    this.n = this.rows / FIRST_STEP + 1;
    this.m = this.cols / FIRST_STEP + 1;
    this.step = FIRST_STEP;
    const first = (this.row0 / FIRST_STEP) * wide + this.col0 / FIRST_STEP;
    this.heights = new Float32Array(this.n * this.m);
    for (let r = 0; r < this.n; r += 1) {
      for (let c = 0; c < this.m; c += 1) this.heights[r * this.m + c] = values[first + r * wide + c];
    }
    this.build();
  }

  async load(/** @type {number} */ step) {
    this.loading = true;
    this.stale = false;
    const query = `row0=${this.row0}&col0=${this.col0}&row1=${this.row0 + this.rows + 1}&col1=${this.col0 + this.cols + 1}&step=${step}&of=mean`;
    try {
      const answer = await fetch(`${landApi}/heights?${query}`);
      if (!answer.ok) throw new Error(String(answer.status));
      const [rows, cols] = (answer.headers.get("x-shape") || "").split(",").map(Number);
      this.heights = new Float32Array(await answer.arrayBuffer());
      this.n = rows;
      this.m = cols;
      this.step = step;
      this.build();
    } catch {
      this.stale = true;
    } finally {
      this.loading = false;
      this.request();
    }
  }

  build() {
    relief.turns += 1;
    const { n, m } = this;
    const positions = new Float32Array((n + 2) * (m + 2) * 3);
    const posts = new Float32Array((n + 2) * (m + 2) * 2);
    let k = 0;
    for (let r = -1; r <= n; r += 1) {
      for (let c = -1; c <= m; c += 1) {
        const rr = clamp(r, 0, n - 1);
        const cc = clamp(c, 0, m - 1);
        const z = this.heights[rr * m + cc] - (rr === r && cc === c ? 0 : SKIRT_M + this.step * grid.spacing);
        positions.set([xOf(this.col0 + cc * this.step), z, -yOf(this.row0 + rr * this.step)], k * 3);
        posts.set([cc * this.step, rr * this.step], k * 2);
        k += 1;
      }
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(positions, 3));
    geometry.setAttribute("post", new THREE.BufferAttribute(posts, 2));
    geometry.setIndex(new THREE.BufferAttribute(everyPost(n, m), 1));
    this.cells = null;
    geometry.computeBoundingSphere();
    if (this.mesh) {
      this.mesh.geometry.dispose();
      this.mesh.geometry = geometry;
    } else {
      this.mesh = new THREE.Mesh(geometry, this.material);
    }
  }

  /**
   * Draw every post within `around` metres of a walker, and every so many of the others.
   * @param {number} x @param {number} y @param {number} around @param {number} size posts to a step of the others
   */
  sharpen(x, y, around, size) {
    if (size < 2 || this.step !== 1 || this.rows % size || this.cols % size) return;
    const [row, col] = [(rowOf(y) - this.row0) / size, (colOf(x) - this.col0) / size];
    const near = `${Math.floor(row)}/${Math.floor(col)}/${size}`;
    if (this.cells?.near === near) return;
    const far = around / grid.spacing / size + 1;
    const [i0, j0] = [Math.floor(row), Math.floor(col)];
    const fine = (/** @type {number} */ i, /** @type {number} */ j) => Math.hypot(i - i0, j - j0) <= far;
    this.cells = { size, near, fine };
    this.mesh.geometry.setIndex(new THREE.BufferAttribute(inCells(this.n, this.m, size, fine), 1));
    relief.turns += 1;
  }

  /** Put new heights of a window in. @param {number[]} window @param {number} every how many posts apart those that were sent are @param {(row: number, col: number) => number} heightAt */
  patch([row0, col0, row1, col1], every, heightAt) {
    if (!this.heights || !this.mesh) return false;
    const { n, m, step } = this;
    const position = this.mesh.geometry.getAttribute("position");
    let changed = false;
    for (let r = Math.max(0, Math.ceil((row0 - this.row0) / step)); r < n && this.row0 + r * step < row1; r += 1) {
      for (let c = Math.max(0, Math.ceil((col0 - this.col0) / step)); c < m && this.col0 + c * step < col1; c += 1) {
        const z = heightAt(this.row0 + r * step, this.col0 + c * step);
        this.heights[r * m + c] = z;
        position.setY((r + 1) * (m + 2) + c + 1, z);
        changed = true;
      }
    }
    if (changed) {
      relief.turns += 1;
      position.needsUpdate = true;
      this.mesh.geometry.computeBoundingSphere();
      // What stands between the posts that were sent is asked for when the hand rests.
      if (every > step) this.stale = true;
    }
    return changed;
  }

  heightAt(/** @type {number} */ col, /** @type {number} */ row) {
    if (!this.heights) return null;
    // Of a cell that is drawn by its corners these alone count.
    const { size = 1, fine } = this.cells ?? {};
    const cell = (/** @type {number} */ at, /** @type {number} */ posts) =>
      clamp(Math.floor(at / size), 0, (posts - 1) / size - 1);
    const [down, across] = [(row - this.row0) / this.step, (col - this.col0) / this.step];
    const every = fine && !fine(cell(down, this.n), cell(across, this.m)) ? size : 1;
    const r = clamp(down, 0, this.n - 1) / every;
    const c = clamp(across, 0, this.m - 1) / every;
    const r0 = Math.min(Math.floor(r), (this.n - 1) / every - 1);
    const c0 = Math.min(Math.floor(c), (this.m - 1) / every - 1);
    const at = (/** @type {number} */ i, /** @type {number} */ j) => this.heights[(i * this.m + j) * every];
    const top = at(r0, c0) + (at(r0, c0 + 1) - at(r0, c0)) * (c - c0);
    const low = at(r0 + 1, c0) + (at(r0 + 1, c0 + 1) - at(r0 + 1, c0)) * (c - c0);
    return top + (low - top) * (r - r0);
  }

  /** The plan's tile of a level that the chunk lies in; asked for when it is not there. */
  pictureAt(/** @type {number} */ level) {
    const size = 256 * 2 ** level;
    return pictureOf(level, Math.floor(this.row0 / size), Math.floor(this.col0 / size));
  }

  /** Colour the chunk by the plan's tile of a level. */
  paint(/** @type {number} */ level) {
    // A coarser picture stands in while the one that is wanted is on its way.
    let tile = this.pictureAt(level);
    for (let coarser = level + 1; !tile?.ready && coarser <= 7; coarser += 1) {
      const other = this.pictureAt(coarser);
      if (other?.ready) [tile, level] = [other, coarser];
    }
    if (!tile) return;
    if (this.material.defines !== drawnAs()) {
      this.material.defines = drawnAs();
      this.material.needsUpdate = true;
    }
    const { row, col } = tile;
    const size = 256 * 2 ** level;
    let held = textures.get(tile.key);
    if (held?.tile !== tile) {
      if (!tile.ready) return;
      held?.texture.dispose();
      const texture = new THREE.CanvasTexture(tile.canvas);
      texture.colorSpace = THREE.NoColorSpace;
      texture.generateMipmaps = false;
      texture.minFilter = THREE.LinearFilter;
      texture.magFilter = THREE.LinearFilter;
      texture.flipY = false;
      held = { texture, tile };
      textures.set(tile.key, held);
    }
    this.material.uniforms.slopes.value = slopesOf(level, row, col, this.request);
    const pixels = 2 ** level;
    const { width, height } = held.tile.canvas;
    this.material.uniforms.picture.value = held.texture;
    // Posts of the chunk to places in the tile: pixel centres lie on posts.
    this.material.uniforms.part.value.set(
      ((this.col0 - col * size) / pixels + 0.5) / width,
      ((this.row0 - row * size) / pixels + 0.5) / height,
      1 / pixels / width,
      1 / pixels / height,
    );
    this.pictureKey = held.tile.key;
  }
}

heed("tile", (tile) => {
  const held = textures.get(tile.key);
  if (held && tile.ready) held.texture.needsUpdate = true;
});

/**
 * Heights of every so many posts of a window, with straight lines between them.
 * @param {number[]} window @param {number} every @param {Float32Array} values @returns {(row: number, col: number) => number}
 */
function between([row0, col0, row1, col1], every, values) {
  const tall = Math.ceil((row1 - row0) / every);
  const wide = Math.ceil((col1 - col0) / every);
  return (row, col) => {
    const down = Math.min((row - row0) / every, tall - 1);
    const across = Math.min((col - col0) / every, wide - 1);
    const [i, j] = [Math.floor(down), Math.floor(across)];
    const z = values[i * wide + j];
    if (i === down && j === across) return z;
    const [below, beside] = [Math.min(i + 1, tall - 1), Math.min(j + 1, wide - 1)];
    const top = z + (values[i * wide + beside] - z) * (across - j);
    const low = values[below * wide + j];
    return top + (low + (values[below * wide + beside] - low) * (across - j) - top) * (down - i);
  };
}

/** How often the land that is drawn has changed its shape: who stands on it looks again. */
export const relief = { turns: 0 };

/** All chunks of the land. */
export class Land {
  /** @param {THREE.Scene} scene @param {() => void} request ask for another frame */
  constructor(scene, request) {
    this.scene = scene;
    this.request = request;
    /** @type {Chunk[]} */
    this.chunks = [];
    /** The same by their row and column. @type {Map<number, Chunk>} */
    this.at = new Map();
    this.across = Math.ceil((grid.cols - 1) / CHUNK);
    for (let r = 0; r < Math.ceil((grid.rows - 1) / CHUNK); r += 1) {
      for (let c = 0; c < this.across; c += 1) {
        if (!holdsLand(r, c)) continue;
        const chunk = new Chunk(r, c, request);
        this.chunks.push(chunk);
        this.at.set(r * this.across + c, chunk);
      }
    }
    this.first();
    hears("heights", (message) => {
      const heightAt = between(message.window, message.step, new Float32Array(message.body.slice(message.offset)));
      let changed = false;
      for (const chunk of this.chunks) changed = chunk.patch(message.window, message.step, heightAt) || changed;
      patchSlopes(message.window, heightAt);
      if (message.step > 1) spoilSlopes(message.window);
      if (changed) this.request();
    });
    heed("stale", (message) => {
      const [row0, col0, row1, col1] = message.window;
      if (message.layers.includes("height") && !message.heights) spoilSlopes(message.window);
      for (const chunk of this.chunks) {
        const apart = row1 < chunk.row0 || row0 > chunk.row0 + CHUNK || col1 < chunk.col0 || col0 > chunk.col0 + CHUNK;
        if (!apart && message.layers.includes("height") && (!message.heights || state.view === "plan"))
          chunk.stale = true;
      }
      this.request();
    });
    heed("all-stale", () => {
      spoilSlopes([0, 0, grid.rows, grid.cols]);
      for (const chunk of this.chunks) chunk.stale = true;
      this.request();
    });
  }

  /** All of the land at once, coarsely, so that none of it is missing while the rest is on its way. */
  async first() {
    const query = `row0=0&col0=0&row1=${grid.rows}&col1=${grid.cols}&step=${FIRST_STEP}&of=mean`;
    const answer = await fetch(`${landApi}/heights?${query}`);
    if (!answer.ok) return;
    const wide = Number((answer.headers.get("x-shape") || "").split(",")[1]);
    const values = new Float32Array(await answer.arrayBuffer());
    for (const chunk of this.chunks) chunk.begin(values, wide);
    this.request();
  }

  /** How many parts of what is near still wait for their heights. */
  get waits() {
    return this.chunks.filter((chunk) => chunk.loading || !chunk.heights).length;
  }

  /** Load and colour what is needed around (x, y), so far off from the eye. [m] */
  update(/** @type {number} */ x, /** @type {number} */ y, /** @type {number} */ away) {
    seeNear(x, y, this.request, away);
    seeSunlit(x, y, away, this.request);
    const { step: finest, reach, around } = detail();
    const order = this.chunks
      .map((chunk) => {
        const half = (CHUNK * grid.spacing) / 2;
        const [cx, cy] = chunk.centre;
        return { chunk, away: Math.hypot(Math.max(0, Math.abs(cx - x) - half), Math.max(0, Math.abs(cy - y) - half)) };
      })
      .sort((a, b) => a.away - b.away);
    let loading = this.chunks.filter((c) => c.loading).length;
    for (const { chunk, away } of order) {
      const doubled = Math.max(0, Math.floor(Math.log2(Math.max(away, 1) / reach) + 1));
      const near = state.walking && away < around ? 1 : finest;
      const step = chunk.fitting(Math.min(64, near * 2 ** doubled));
      const wanted = chunk.step !== step || (chunk.stale && !state.drawing);
      if (wanted && !chunk.loading && loading < MOST_LOADING) {
        loading += 1;
        chunk.load(step);
      }
      if (chunk.mesh && !chunk.mesh.parent) this.scene.add(chunk.mesh);
      if (state.walking && chunk.mesh) chunk.sharpen(x, y, around, finest);
      chunk.paint(Math.min(7, state.walking && away < around ? 0 : Math.max(0, doubled - 1)));
    }
  }

  /** Elevation at (x, y) as drawn, or null where nothing is loaded. */
  heightAt(/** @type {number} */ x, /** @type {number} */ y) {
    const col = clamp(colOf(x), 0, grid.cols - 1);
    const row = clamp(rowOf(y), 0, grid.rows - 1);
    const r = Math.min(Math.floor(row / CHUNK), Math.ceil((grid.rows - 1) / CHUNK) - 1);
    const c = Math.min(Math.floor(col / CHUNK), this.across - 1);
    return this.at.get(r * this.across + c)?.heightAt(col, row) ?? null;
  }
}
