// What rooms place on the land, in three dimensions: a room says which shape a row has, and all that have the same are
// drawn at once, with their feet on the land as it is now.
import * as THREE from "../../../vendor/three.js";
import { INKED, LIT, uniforms } from "./light3d.js";
import { detail as detailSet, relief } from "./relief3d.js";
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

/**
 * One body of a row, as it stands in the row's own frame.
 * @typedef {object} Body
 * @property {(detail: number) => string} path of its triangles, by how much of them there is: 2 near, 0 far away
 * @property {number} [right] of its foot from the row's place, and ahead [m]
 * @property {number} [ahead]
 * @property {number} [turn] further than the row, in degrees
 * @property {number} [tilt] forward, in degrees
 * @property {number} [over] its foot over the ground [m]
 * @property {number} [size]
 * @property {number[] | null} [lies] half its width and depth where it lies along the ground [m]
 * @property {{from: [number, number], to: [number, number], length: number, part: number} | null} [deck] what carries it from the ground at two ends, and how far along it lies
 * @property {number | null} [z] the elevation of its foot where no ground says it [m]
 * @property {{key: string, top: number} | null} [on] the row that it stands on, and how high over the foot of that [m]
 * @property {number} [reach] how large it is [m]
 * @property {string} [ink] its colour where it is no more than a point
 */

/** What rooms have drawn: a collection, and the bodies of a row. @type {{name: string, bodies: (row: Row) => Body[]}[]} */
const drawings = [];
/** @type {Placed[]} */
const shown = [];

/**
 * Draw the rows of a collection in three dimensions: where they lie, as they are turned, with their feet on the land.
 * @param {string} name of the collection @param {(row: Row) => Body[]} bodies what a row is drawn as
 */
export function addDrawn(name, bodies) {
  const one = { name, bodies };
  drawings.push(one);
  for (const placed of shown) placed.follow(one);
}

/** What is shown of rows has changed, though they have not: all are built anew. */
export const drawAnew = () => shown.forEach((placed) => placed.build());

/** What is a few pixels large is a point of its colour: one corner instead of some hundred. */
const points = new THREE.ShaderMaterial({
  uniforms: { ...uniforms, tall: { value: 800 } },
  vertexColors: true,
  vertexShader: `
      ${LIT}
      uniform float tall;
      attribute float size;
      varying vec3 seen; varying float away; varying vec3 spot;
      void main() {
        seen = color.rgb * (0.14 * (sunInk + skyInk) + 0.86 * litAt(vec3(0.0, 1.0, 0.0), position, false));
        spot = position;
        vec4 eye = viewMatrix * vec4(position, 1.0);
        away = length(eye.xyz);
        gl_Position = projectionMatrix * eye;
        gl_PointSize = size * projectionMatrix[1][1] * 0.5 * tall / gl_Position.w;
      }`,
  fragmentShader: INKED,
});

/** So many times its own size away, a body is drawn simpler, simplest, as a point, and not at all; at the highest detail. */
const SIMPLER = [24, 84, 220, 2500];
const LEAST_NEARER = 0.28;
/** A point is so much of what it stands for: no piece fills the square around it. */
const FILLS = 0.7;
/** The eye has to go so far, beside how far away it is, before details are chosen anew. */
const MOVED = 0.12;

/** `place` is its part of the places of those alike. @typedef {{path: string, row: Row, body: Body, foot: number, place: Float32Array}} One */
/** Bodies that look alike: their places, one matrix after the other, and a mesh for each detail. @typedef {{ones: One[], places: Float32Array, meshes: (THREE.InstancedMesh | null)[]}} Alike */

/** All that rooms have placed. */
export class Placed {
  constructor(/** @type {THREE.Scene} */ scene, /** @type {() => void} */ request) {
    this.group = new THREE.Group();
    scene.add(this.group);
    this.request = request;
    /** By their paths; null while they are fetched. @type {Map<string, THREE.BufferGeometry | null>} */
    this.shapes = new Map();
    /** @type {Alike[]} */
    this.alike = [];
    /** The bodies of a row, by its key. @type {Map<string, One[]>} */
    this.byKey = new Map();
    this.turns = -1;
    this.detail = detailSet();
    this.eye = new THREE.Vector3(1e9, 0, 0);
    this.far = new THREE.Points(new THREE.BufferGeometry(), points);
    this.far.frustumCulled = false;
    this.far.onBeforeRender = (renderer) => {
      points.uniforms.tall.value = renderer.getDrawingBufferSize(SIZE).y;
    };
    scene.add(this.far);
    shown.push(this);
    for (const one of drawings) this.follow(one);
    watch(
      () => state.gone,
      () => this.build(),
    );
  }

  /** @param {typeof drawings[0]} one */
  follow({ name }) {
    watch(
      () => state.at[name],
      () => this.build(),
    );
    this.build();
  }

  /** One group for all that look alike. */
  build() {
    /** @type {Map<string, One[]>} */
    const alike = new Map();
    this.byKey.clear();
    for (const { name, bodies } of drawings) {
      for (const row of each(name)) {
        if (state.gone.includes(row.key)) continue;
        for (const body of bodies(row)) {
          const one = { path: body.path(2), row, body, foot: 0, place: NOWHERE };
          const others = alike.get(one.path);
          if (others) others.push(one);
          else alike.set(one.path, [one]);
          const own = this.byKey.get(row.key);
          if (own) own.push(one);
          else this.byKey.set(row.key, [one]);
        }
      }
    }
    this.alike = [...alike.values()].map((ones) => {
      const places = new Float32Array(ones.length * 16);
      ones.forEach((one, i) => {
        one.place = places.subarray(i * 16, (i + 1) * 16);
      });
      return { ones, places, meshes: [null, null, null] };
    });
    this.dress();
    this.turns = -1;
    this.request();
  }

  /** Give every group the meshes whose shapes are there. */
  dress() {
    for (const mesh of this.group.children) /** @type {THREE.InstancedMesh} */ (mesh).dispose();
    this.group.clear();
    for (const alike of this.alike) {
      alike.meshes = [0, 1, 2].map((detail) => {
        const shape = this.shape(alike.ones[0].body.path(detail));
        if (!shape) return null;
        const mesh = new THREE.InstancedMesh(shape, material, alike.ones.length);
        mesh.frustumCulled = false;
        mesh.count = 0;
        this.group.add(mesh);
        return mesh;
      });
    }
    const most = this.alike.reduce((sum, { ones }) => sum + ones.length, 0);
    const far = this.far.geometry;
    far.dispose();
    for (const [name, items] of /** @type {[string, number][]} */ (Object.entries({ position: 3, color: 3, size: 1 })))
      far.setAttribute(name, new THREE.BufferAttribute(new Float32Array(most * items), items));
    far.setDrawRange(0, 0);
    this.eye.set(1e9, 0, 0);
  }

  /** @param {string} path */
  shape(path) {
    if (!this.shapes.has(path)) this.fetch(path);
    return this.shapes.get(path) ?? null;
  }

  /** @param {string} path */
  async fetch(path) {
    this.shapes.set(path, null);
    try {
      const answer = await fetch(path);
      if (!answer.ok) throw new Error(String(answer.status));
      this.shapes.set(path, geometryOf(new Float32Array(await answer.arrayBuffer())));
      this.dress();
      this.request();
    } catch {
      // It is asked for again when rows have changed.
      this.shapes.delete(path);
    }
  }

  /** Put the feet of all on the land as it is drawn now, and give each the detail that is seen from where the eye is. */
  stand(/** @type {import("./relief3d.js").Land} */ land, /** @type {THREE.Vector3} */ eye) {
    const moved = this.turns !== relief.turns || this.detail !== detailSet();
    this.detail = detailSet();
    if (moved) {
      this.turns = relief.turns;
      this.place(land);
    }
    if (!moved && this.eye.distanceTo(eye) < MOVED * Math.max(20, eye.y - (land.heightAt(eye.x, -eye.z) ?? 0))) return;
    this.eye.copy(eye);
    const { position, color, size } = /** @type {Record<string, THREE.BufferAttribute>} */ (
      this.far.geometry.attributes
    );
    let far = 0;
    const { nearer } = detailSet();
    const [near, middle] = SIMPLER.map((times) => times * nearer);
    // A point is never so near that one sees that it is none.
    const [, , last, most] = SIMPLER.map((times) => times * Math.max(nearer, LEAST_NEARER));
    for (const { ones, places, meshes } of this.alike) {
      const counts = [0, 0, 0];
      for (let i = 0; i < ones.length; i += 1) {
        const at = i * 16;
        const reach = ones[i].body.reach ?? 3;
        const away = Math.hypot(places[at + 12] - eye.x, places[at + 13] - eye.y, places[at + 14] - eye.z);
        if (away > last * reach && ones[i].body.ink) {
          if (away > most * reach) continue;
          const ink = TINT.set(/** @type {string} */ (ones[i].body.ink));
          position.setXYZ(far, places[at + 12], places[at + 13] + reach * 0.3, places[at + 14]);
          color.setXYZ(far, ink.r, ink.g, ink.b);
          size.setX(far, reach * FILLS);
          far += 1;
          continue;
        }
        let detail = away < near * reach ? 2 : away < middle * reach ? 1 : 0;
        // What has not come yet is drawn as what has.
        if (!meshes[detail]) detail = meshes.findIndex(Boolean);
        const mesh = meshes[detail];
        if (!mesh) continue;
        mesh.instanceMatrix.array.set(places.subarray(at, at + 16), counts[detail] * 16);
        counts[detail] += 1;
      }
      meshes.forEach((mesh, detail) => {
        if (!mesh) return;
        mesh.count = counts[detail];
        mesh.visible = counts[detail] > 0;
        mesh.instanceMatrix.needsUpdate = true;
      });
    }
    this.far.geometry.setDrawRange(0, far);
    this.far.visible = far > 0;
    for (const one of [position, color, size]) one.needsUpdate = true;
  }

  /** @param {import("./relief3d.js").Land} land */
  place(land) {
    // Those that stand on others come after them.
    /** @type {One[]} */
    const later = [];
    for (const { ones } of this.alike) {
      for (const one of ones) {
        if (one.body.on) later.push(one);
        else this.set(land, one);
      }
    }
    for (let round = 0; round < 4; round += 1) for (const one of later) this.set(land, one);
  }

  /** @param {import("./relief3d.js").Land} land @param {One} one */
  set(land, one) {
    const { row, body } = one;
    const turn = ((row.turn_deg ?? 0) * Math.PI) / 180;
    const [cos, sin] = [Math.cos(turn), Math.sin(turn)];
    const [right, ahead] = [body.right ?? 0, body.ahead ?? 0];
    const x = row.x + right * cos + ahead * sin;
    const y = row.y - right * sin + ahead * cos;
    const facing = turn + ((body.turn ?? 0) * Math.PI) / 180;
    const over = body.over ?? 0;
    let foot = (land.heightAt(x, y) ?? (row.z ?? 0) - (row.over_m ?? 0)) + over;
    lean.identity();
    if (body.deck) {
      const { from, to, length, part } = body.deck;
      const [first, last] = [land.heightAt(...from) ?? foot - over, land.heightAt(...to) ?? foot - over];
      const rise = (last - first) / length;
      foot = first + (last - first) * part + over;
      up.set(-rise * Math.cos(facing), 1, -rise * Math.sin(facing)).normalize();
      lean.makeRotationFromQuaternion(quaternion.setFromUnitVectors(UP, up));
    } else if (body.lies) {
      const [fx, fy] = [Math.sin(facing), Math.cos(facing)];
      const [half, deep] = body.lies;
      const at = (/** @type {number} */ a, /** @type {number} */ b) => land.heightAt(x + a, y + b) ?? foot - over;
      const [east, west] = [at(fy * half, -fx * half), at(-fy * half, fx * half)];
      const [front, back] = [at(fx * deep, fy * deep), at(-fx * deep, -fy * deep)];
      const [across, along] = [(east - west) / (2 * half), (front - back) / (2 * deep)];
      foot = (east + west + front + back) / 4 + over;
      up.set(-(across * fy + along * fx), 1, along * fy - across * fx).normalize();
      lean.makeRotationFromQuaternion(quaternion.setFromUnitVectors(UP, up));
    }
    if (body.z !== null && body.z !== undefined) foot = body.z;
    if (body.on) {
      const below = this.byKey.get(body.on.key)?.[0];
      if (below) foot = below.foot + body.on.top + over;
    }
    one.foot = foot;
    own.makeRotationY(-facing);
    if (body.tilt) own.multiply(frame.makeRotationX((-body.tilt * Math.PI) / 180));
    if (body.size && body.size !== 1) own.multiply(frame.makeScale(body.size, body.size, body.size));
    frame.multiplyMatrices(lean, own).setPosition(x, foot, -y);
    one.place.set(frame.elements);
  }
}

const NOWHERE = new Float32Array(16);
const UP = new THREE.Vector3(0, 1, 0);
const [frame, lean, own] = [new THREE.Matrix4(), new THREE.Matrix4(), new THREE.Matrix4()];
const up = new THREE.Vector3();
const quaternion = new THREE.Quaternion();
const SIZE = new THREE.Vector2();
const TINT = new THREE.Color();

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
