// Growth in three dimensions: plants as instances of the shapes that the server makes, simpler from further away.
import * as THREE from "../../../vendor/three.js";
import { INKED, LIT, uniforms } from "./light3d.js";
import { detail } from "./relief3d.js";
import { rows } from "../rows.js";
import { boot, grid, heed, landApi, state, watch, xOf, yOf } from "../state.js";

/** Posts on the side of a square that is fetched at once. */
const CELL = 128;
/** Numbers of a plant as it is fetched, and of a corner of a shape. */
const FETCHED = 11;
const CORNER = 11;
/** Metres that the eye goes before plants are sorted again by how far off they are. */
const STEP_M = 6;
const DETAILS = 3;
/** How a plant may look, as they are numbered. */
const VARIANTS = ["plain", "bare", "snowed", "dead", "darker"];

const material = new THREE.ShaderMaterial({
  uniforms,
  vertexColors: true,
  side: THREE.DoubleSide,
  vertexShader: `
    attribute vec4 dry; attribute float tinted; attribute float sway;
    ${LIT}
    uniform float wind; varying vec3 seen; varying float away; varying vec3 spot;
    void main() {
      mat4 place = modelMatrix * instanceMatrix;
      vec3 up = normalize(mat3(place) * normal);
      // A crown lets light through: its faces differ less than the ground's.
      vec3 light = 0.15 * (sunInk + skyInk) + 0.85 * litAt(normalize(up + vec3(0.0, 0.9, 0.0)), place[3].xyz, false);
      vec2 foot = place[3].xz;
      float own = fract(sin(dot(foot, vec2(12.9898, 78.233))) * 43758.5453);
      seen = mix(color.rgb, dry.rgb, dry.a * tinted) * light * (0.9 + 0.2 * own);
      vec4 at = place * vec4(position, 1.0);
      float gust = sin(wind * 1.7 + foot.x * 0.11 + own * 3.0) + 0.5 * sin(wind * 3.1 + foot.y * 0.17);
      at.xz += vec2(0.10, 0.06) * gust * sway * length(place[1].xyz) * position.y * step(0.001, wind);
      spot = at.xyz;
      vec4 eye = viewMatrix * at;
      away = length(eye.xyz);
      gl_Position = projectionMatrix * eye;
    }`,
  fragmentShader: INKED,
});

/** The colour of a kind as three numbers from 0 to 1. @param {string} text */
const inkOf = (text) => [1, 3, 5].map((at) => parseInt(text.slice(at, at + 2), 16) / 255);

/**
 * A cell's plants, sorted by kind: for each its matrix, place and tint.
 * @typedef {{kind: string, count: number, matrices: Float32Array, dry: Float32Array}} Stand
 * @typedef {{stands: Stand[], count: number, stale: boolean, wanted: boolean, away: number}} Cell
 */

/** Growth in square cells of the land, those near the eye only. */
export class Growth {
  constructor(/** @type {THREE.Scene} */ scene, /** @type {() => void} */ request) {
    this.scene = scene;
    this.request = request;
    /** @type {Map<string, Cell>} */
    this.cells = new Map();
    /** Shapes by kind and detail: null while they are fetched. @type {Map<string, any>} */
    this.shapes = new Map();
    /** Drawn meshes by kind and detail. @type {Map<string, THREE.InstancedMesh>} */
    this.meshes = new Map();
    this.loading = 0;
    this.shown = 0;
    this.triangles = 0;
    this.sorted = { x: NaN, y: NaN, z: NaN };
    this.again = true;
    const spoil = (/** @type {number[]} */ [row0, col0, row1, col1]) => {
      for (const [key, cell] of this.cells) {
        const [r, c] = key.split("/").map((v) => Number(v) * CELL);
        if (row1 >= r && row0 <= r + CELL && col1 >= c && col0 <= c + CELL) cell.stale = true;
      }
    };
    heed("stale", (message) => {
      if (message.layers.some((/** @type {string} */ l) => ["height", "growth", "look"].includes(l)))
        spoil(message.window);
      this.request();
    });
    const everything = () => spoil([0, 0, grid.rows, grid.cols]);
    heed("all-stale", everything);
    const anew = () => {
      for (const mesh of this.meshes.values()) this.drop(mesh);
      this.meshes.clear();
      for (const shape of this.shapes.values()) shape?.dispose();
      this.shapes.clear();
      everything();
      this.again = true;
      this.request();
    };
    watch(() => state.shown, anew);
    watch(() => state.at.kinds, anew);
    watch(
      () => state.grows,
      () => {
        this.again = true;
        this.request();
      },
    );
  }

  drop(/** @type {THREE.InstancedMesh} */ mesh) {
    this.scene.remove(mesh);
    mesh.dispose();
    mesh.geometry.dispose();
  }

  /** @param {number} x @param {number} y @param {THREE.Vector3} lens Where the eye is: x, up, south. */
  update(x, y, lens) {
    const { plantReach } = detail();
    const wanted = [];
    if (state.grows) {
      for (let r = 0; r * CELL < grid.rows - 1; r += 1) {
        for (let c = 0; c * CELL < grid.cols - 1; c += 1) {
          const half = (CELL * grid.spacing) / 2;
          const away = Math.hypot(xOf(c * CELL + CELL / 2) - x, yOf(r * CELL + CELL / 2) - y) - half;
          if (away < plantReach) wanted.push([away, r, c]);
        }
      }
    }
    wanted.sort((a, b) => a[0] - b[0]);
    for (const cell of this.cells.values()) cell.wanted = false;
    for (const [away, r, c] of wanted) {
      const key = `${r}/${c}`;
      const cell = this.cells.get(key);
      if (cell) Object.assign(cell, { wanted: true, away });
      if ((!cell || cell.stale) && this.loading < 3 && !state.drawing) this.load(key, r, c, away);
    }
    const moved = Math.hypot(lens.x - this.sorted.x, lens.y - this.sorted.y, lens.z - this.sorted.z);
    if (this.again || !(moved < STEP_M)) this.sort(lens);
  }

  async load(/** @type {string} */ key, /** @type {number} */ r, /** @type {number} */ c, /** @type {number} */ away) {
    this.loading += 1;
    const old = this.cells.get(key);
    /** @type {Cell} */
    const cell = { stands: old?.stands || [], count: old?.count || 0, stale: false, wanted: true, away };
    this.cells.set(key, cell);
    const row1 = Math.min((r + 1) * CELL, grid.rows);
    const col1 = Math.min((c + 1) * CELL, grid.cols);
    try {
      const answer = await fetch(`${landApi}/growth?row0=${r * CELL}&col0=${c * CELL}&row1=${row1}&col1=${col1}`);
      if (!answer.ok) throw new Error(String(answer.status));
      this.fill(cell, new Float32Array(await answer.arrayBuffer()));
      this.again = true;
    } catch {
      cell.stale = true;
    } finally {
      this.loading -= 1;
      this.request();
    }
  }

  fill(/** @type {Cell} */ cell, /** @type {Float32Array} */ plants) {
    cell.count = plants.length / FETCHED;
    const kinds = rows("kinds");
    /** @type {Map<string, number[]>} */
    const byKind = new Map();
    for (let i = 0; i < plants.length; i += FETCHED) {
      const of = kinds[plants[i]]?.key;
      if (!of) continue;
      // A plant that looks otherwise than its kind has a shape of its own.
      const kind = `${of}/${VARIANTS[plants[i + 1]]}`;
      if (!byKind.has(kind)) byKind.set(kind, []);
      byKind.get(kind)?.push(i);
    }
    const matrix = new THREE.Matrix4();
    const lean = new THREE.Quaternion();
    const turn = new THREE.Quaternion();
    const up = new THREE.Vector3(0, 1, 0);
    cell.stands = [...byKind].map(([kind, list]) => {
      const matrices = new Float32Array(list.length * 16);
      const dry = new Float32Array(list.length);
      list.forEach((i, at) => {
        const [x, y, z, height, width, degrees, east, north, tint] = plants.subarray(i + 2, i + FETCHED);
        const normal = new THREE.Vector3(east, Math.sqrt(Math.max(0, 1 - east * east - north * north)), -north);
        lean.setFromUnitVectors(up, normal);
        turn.setFromAxisAngle(up, (-degrees * Math.PI) / 180);
        matrix.compose(new THREE.Vector3(x, z, -y), lean.multiply(turn), new THREE.Vector3(width, height, width));
        matrices.set(matrix.elements, at * 16);
        dry[at] = tint;
      });
      return { kind, count: list.length, matrices, dry };
    });
  }

  /** Put every plant into the mesh of its kind and of how far off it is, the nearest first. @param {THREE.Vector3} lens */
  sort(lens) {
    this.again = false;
    this.sorted = { x: lens.x, y: lens.y, z: lens.z };
    const { nearer } = detail();
    let { triangles: room } = detail();
    const kinds = new Map(rows("kinds").map((kind) => [kind.key, kind]));
    /** @type {Map<string, {kind: any, shape: any, from: [Stand, number][]}>} */
    const wanted = new Map();
    this.shown = 0;
    this.triangles = 0;
    const near = [...this.cells.values()].filter((cell) => cell.wanted).sort((a, b) => a.away - b.away);
    for (const cell of near) {
      for (const stand of cell.stands) {
        const [of] = stand.kind.split("/");
        const kind = kinds.get(of);
        if (!kind || state.kindsHidden.includes(of)) continue;
        const limits = [kind.simpler_m, kind.card_m, kind.gone_m].map((limit) => limit * nearer);
        for (let i = 0; i < stand.count; i += 1) {
          const m = stand.matrices;
          const away = Math.hypot(m[i * 16 + 12] - lens.x, m[i * 16 + 13] - lens.y, m[i * 16 + 14] - lens.z);
          // What is gone by its kind stays a card as long as there is room: the land is looked at from far above too.
          const finest = limits.findIndex((limit) => away < limit);
          const level = finest < 0 ? DETAILS - 1 : Math.min(finest, DETAILS - 1);
          const key = `${stand.kind}/${level}`;
          let into = wanted.get(key);
          if (!into) {
            into = { kind, shape: this.shapeOf(stand.kind, level), from: [] };
            wanted.set(key, into);
          }
          const cost = into.shape ? into.shape.getAttribute("position").count / 3 : 0;
          if (!into.shape || room < cost) continue;
          room -= cost;
          this.triangles += cost;
          into.from.push([stand, i]);
        }
      }
    }
    for (const [key, mesh] of this.meshes) {
      if (wanted.get(key)?.from.length) continue;
      mesh.count = 0;
      mesh.visible = false;
    }
    for (const [key, { kind, shape, from }] of wanted) {
      if (!from.length) continue;
      const mesh = this.meshOf(key, shape, from.length);
      const [r, g, b] = inkOf(kind.dry_colour);
      const dry = mesh.geometry.getAttribute("dry");
      from.forEach(([stand, i], at) => {
        mesh.instanceMatrix.array.set(stand.matrices.subarray(i * 16, i * 16 + 16), at * 16);
        dry.array.set([r, g, b, stand.dry[i]], at * 4);
      });
      mesh.count = from.length;
      mesh.visible = true;
      mesh.instanceMatrix.needsUpdate = true;
      dry.needsUpdate = true;
      this.shown += from.length;
    }
  }

  /** A mesh with room for so many; it grows by halves. @param {string} key @param {any} shape @param {number} count */
  meshOf(key, shape, count) {
    const known = this.meshes.get(key);
    if (known && known.instanceMatrix.count >= count) return known;
    if (known) this.drop(known);
    const room = Math.ceil(count * 1.5) + 16;
    const geometry = new THREE.BufferGeometry();
    for (const name of ["position", "normal", "color", "tinted", "sway"])
      geometry.setAttribute(name, shape.getAttribute(name));
    geometry.setAttribute("dry", new THREE.InstancedBufferAttribute(new Float32Array(room * 4), 4));
    const mesh = new THREE.InstancedMesh(geometry, material, room);
    mesh.frustumCulled = false;
    this.meshes.set(key, mesh);
    this.scene.add(mesh);
    return mesh;
  }

  /** The shape of a kind at a detail; fetched when it is asked for first. @param {string} kind with its variant @param {number} level */
  shapeOf(kind, level) {
    const key = `${kind}/${level}`;
    if (!this.shapes.has(key)) {
      this.shapes.set(key, null);
      this.fetchShape(key, kind, level);
    }
    return this.shapes.get(key);
  }

  async fetchShape(/** @type {string} */ key, /** @type {string} */ kind, /** @type {number} */ level) {
    const shapes = this.shapes;
    try {
      const [of, variant] = kind.split("/");
      const path = `/api/worlds/${boot.world.id}/kinds/${of}/shape?detail=${level}&variant=${variant}`;
      const answer = await fetch(path);
      if (!answer.ok) throw new Error(String(answer.status));
      shapes.set(key, geometryOf(new Float32Array(await answer.arrayBuffer())));
      this.again = true;
    } catch {
      // It is asked for again when plants are sorted the next time.
      shapes.delete(key);
    } finally {
      this.request();
    }
  }
}

/** @param {Float32Array} corners */
function geometryOf(corners) {
  const count = corners.length / CORNER;
  const take = (/** @type {number} */ first, /** @type {number} */ size, turned = false) => {
    const out = new Float32Array(count * size);
    for (let i = 0; i < count; i += 1) {
      const at = i * CORNER + first;
      // Up is the second number here, south the third.
      if (turned) out.set([corners[at], corners[at + 2], -corners[at + 1]], i * 3);
      else out.set(corners.subarray(at, at + size), i * size);
    }
    return new THREE.BufferAttribute(out, size);
  };
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", take(0, 3, true));
  shape.setAttribute("normal", take(3, 3, true));
  shape.setAttribute("color", take(6, 3));
  shape.setAttribute("tinted", take(9, 1));
  shape.setAttribute("sway", take(10, 1));
  return shape;
}
