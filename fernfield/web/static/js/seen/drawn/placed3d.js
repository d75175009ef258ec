// What rooms place on the land, in three dimensions: a room says which shape a row has, and all that have the same are
// drawn at once, with their feet on the land as it is now.
import * as THREE from "../../../vendor/three.js";
import { INKED, LIT, uniforms } from "./light3d.js";
import { relief } from "./relief3d.js";
import { each } from "../rows.js";
import { state, watch } from "../state.js";

/** @typedef {import("../rows.js").Row} Row */

/** Numbers of a corner of a shape as it is fetched. */
const CORNER = 9;

export const material = new THREE.ShaderMaterial({
  uniforms,
  vertexColors: true,
  vertexShader: `
      ${LIT}
      varying vec3 seen; varying float away; varying vec3 spot;
      void main() {
        mat4 place = modelMatrix;
        #ifdef USE_INSTANCING
          place = modelMatrix * instanceMatrix;
        #endif
        vec4 at = place * vec4(position, 1.0);
        // The ground gives walls some of its light back.
        seen = color.rgb * (0.14 * (sunInk + skyInk) + 0.86 * litAt(normalize(mat3(place) * normal), at.xyz, false));
        spot = at.xyz;
        vec4 eye = viewMatrix * at;
        away = length(eye.xyz);
        gl_Position = projectionMatrix * eye;
      }`,
  fragmentShader: INKED,
});

/** What rooms have drawn: a collection, and the path of a row's shape. @type {{name: string, shape: (row: Row) => string}[]} */
const drawings = [];
/** @type {Placed[]} */
const shown = [];

/**
 * Draw the rows of a collection in three dimensions: where they lie, as they are turned, as far over the ground as they say.
 * @param {string} name of the collection @param {(row: Row) => string} shape the path of a row's triangles
 */
export function addDrawn(name, shape) {
  const one = { name, shape };
  drawings.push(one);
  for (const placed of shown) placed.follow(one);
}

/** All that rooms have placed. */
export class Placed {
  constructor(/** @type {THREE.Scene} */ scene, /** @type {() => void} */ request) {
    this.group = new THREE.Group();
    scene.add(this.group);
    this.request = request;
    /** By their paths; null while they are fetched. @type {Map<string, THREE.BufferGeometry | null>} */
    this.shapes = new Map();
    this.turns = -1;
    shown.push(this);
    for (const one of drawings) this.follow(one);
  }

  /** @param {typeof drawings[0]} one */
  follow({ name }) {
    watch(
      () => state.at[name],
      () => this.build(),
    );
    this.build();
  }

  /** One mesh for all that have the same shape. */
  build() {
    for (const mesh of this.group.children) /** @type {THREE.InstancedMesh} */ (mesh).dispose();
    this.group.clear();
    /** @type {Map<string, Row[]>} */
    const alike = new Map();
    for (const { name, shape } of drawings) {
      for (const row of each(name)) {
        const path = shape(row);
        const rows = alike.get(path);
        if (rows) rows.push(row);
        else alike.set(path, [row]);
      }
    }
    for (const [path, rows] of alike) {
      if (!this.shapes.has(path)) this.fetch(path);
      const shape = this.shapes.get(path);
      if (!shape) continue;
      const mesh = new THREE.InstancedMesh(shape, material, rows.length);
      mesh.frustumCulled = false;
      mesh.userData.rows = rows;
      this.group.add(mesh);
    }
    this.turns = -1;
    this.request();
  }

  /** @param {string} path */
  async fetch(path) {
    this.shapes.set(path, null);
    try {
      const answer = await fetch(path);
      if (!answer.ok) throw new Error(String(answer.status));
      this.shapes.set(path, geometryOf(new Float32Array(await answer.arrayBuffer())));
      this.build();
    } catch {
      // It is asked for again when rows have changed.
      this.shapes.delete(path);
    }
  }

  /** Put the feet of all on the land as it is drawn now. */
  stand(/** @type {import("./relief3d.js").Land} */ land) {
    if (this.turns === relief.turns) return;
    this.turns = relief.turns;
    const place = new THREE.Matrix4();
    for (const one of this.group.children) {
      const mesh = /** @type {THREE.InstancedMesh} */ (one);
      mesh.userData.rows.forEach((/** @type {Row} */ row, /** @type {number} */ i) => {
        const over = row.over_m ?? 0;
        const foot = land.heightAt(row.x, row.y) ?? (row.z ?? 0) - over;
        place.makeRotationY((-(row.turn_deg ?? 0) * Math.PI) / 180).setPosition(row.x, foot + over, -row.y);
        mesh.setMatrixAt(i, place);
      });
      mesh.instanceMatrix.needsUpdate = true;
    }
  }
}

/** @param {Float32Array} corners */
function geometryOf(corners) {
  const count = corners.length / CORNER;
  const parts = [new Float32Array(count * 3), new Float32Array(count * 3), new Float32Array(count * 3)];
  for (let i = 0; i < count; i += 1) {
    const [x, y, z, east, north, up] = corners.subarray(i * CORNER, i * CORNER + 6);
    // Up is the second number here, south the third.
    parts[0].set([x, z, -y], i * 3);
    parts[1].set([east, up, -north], i * 3);
    parts[2].set(corners.subarray(i * CORNER + 6, (i + 1) * CORNER), i * 3);
  }
  const shape = new THREE.BufferGeometry();
  ["position", "normal", "color"].forEach((name, at) =>
    shape.setAttribute(name, new THREE.BufferAttribute(parts[at], 3)),
  );
  return shape;
}
