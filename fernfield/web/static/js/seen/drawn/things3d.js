// What stands on the land in three dimensions: pieces, starts and figures.
import * as THREE from "../../../vendor/three.js";
import { LIT, uniforms } from "./light3d.js";
import { relief } from "./relief3d.js";
import { each } from "../rows.js";
import { boot, seenTracts, state, watch } from "../state.js";

const plain = (options = {}) =>
  new THREE.ShaderMaterial({
    uniforms,
    vertexColors: true,
    ...options,
    vertexShader: `
      ${LIT}
      varying vec3 ink; varying float away;
      void main() {
        mat4 place = modelMatrix;
        #ifdef USE_INSTANCING
          place = modelMatrix * instanceMatrix;
        #endif
        vec4 at = place * vec4(position, 1.0);
        ink = color.rgb * lightOf(normalize(mat3(place) * normal), sunlitAt(at.xyz).x);
        vec4 eye = viewMatrix * at;
        away = length(eye.xyz);
        gl_Position = projectionMatrix * eye;
      }`,
    fragmentShader: `
      ${LIT}
      varying vec3 ink; varying float away;
      void main() { gl_FragColor = vec4(hazed(ink, away), 1.0); }`,
  });
const material = plain();

/** One geometry from several, each with a colour. @param {[any, string][]} parts */
function joined(parts) {
  const positions = [];
  const normals = [];
  const colours = [];
  for (const [part, colour] of parts) {
    const flat = part.index ? part.toNonIndexed() : part;
    const ink = new THREE.Color(colour);
    positions.push(...flat.getAttribute("position").array);
    normals.push(...flat.getAttribute("normal").array);
    for (let i = 0; i < flat.getAttribute("position").count; i += 1) colours.push(ink.r, ink.g, ink.b);
  }
  const whole = new THREE.BufferGeometry();
  whole.setAttribute("position", new THREE.Float32BufferAttribute(positions, 3));
  whole.setAttribute("normal", new THREE.Float32BufferAttribute(normals, 3));
  whole.setAttribute("color", new THREE.Float32BufferAttribute(colours, 3));
  return whole;
}

/** @param {import("../../types.js").Piece} kind */
function pieceShape(kind) {
  const { width, depth, height, form, colour } = kind;
  if (form === "house") {
    const wall = height * 0.62;
    const box = new THREE.BoxGeometry(width, wall, depth);
    box.translate(0, wall / 2, 0);
    const roof = new THREE.CylinderGeometry(0.001, width * 0.76, height - wall, 4, 1);
    roof.rotateY(Math.PI / 4);
    roof.scale(1, 1, depth / width);
    roof.translate(0, wall + (height - wall) / 2, 0);
    return joined([
      [box, colour],
      [roof, "#5b5349"],
    ]);
  }
  if (form === "shaft") {
    const shaft = new THREE.CylinderGeometry(width * 0.3, width * 0.5, height, 8);
    shaft.translate(0, height / 2, 0);
    return joined([[shaft, colour]]);
  }
  if (form === "mound") {
    const mound = new THREE.ConeGeometry(width / 2, height, 8);
    mound.scale(1, 1, depth / width);
    mound.translate(0, height / 2, 0);
    return joined([[mound, colour]]);
  }
  const block = new THREE.BoxGeometry(width, height, depth);
  block.translate(0, height / 2, 0);
  return joined([[block, colour]]);
}

/** @param {string} colour */
function startShape(colour) {
  const pole = new THREE.CylinderGeometry(0.12, 0.12, 5, 5);
  pole.translate(0, 2.5, 0);
  const arrow = new THREE.ConeGeometry(0.9, 2.6, 4);
  arrow.rotateX(-Math.PI / 2);
  arrow.translate(0, 5, -1);
  return joined([
    [pole, "#1e2925"],
    [arrow, colour],
  ]);
}

/** Pieces and starts. */
export class Things {
  constructor(/** @type {THREE.Scene} */ scene, /** @type {() => void} */ request) {
    this.group = new THREE.Group();
    scene.add(this.group);
    this.shapes = new Map();
    this.turns = -1;
    const again = () => {
      this.build();
      request();
    };
    watch(() => state.at.things, again);
    this.build();
  }

  /** One mesh for all that have the same shape. */
  build() {
    for (const mesh of this.group.children) /** @type {THREE.InstancedMesh} */ (mesh).dispose();
    this.group.clear();
    /** @type {Map<string, import("../rows.js").Row[]>} */
    const alike = new Map();
    for (const thing of each("things")) {
      const kind = boot.kit[thing.kit];
      const team = boot.teams.find((t) => t.team === thing.team);
      const key = kind ? kind.name : `start ${team?.colour}`;
      if (!this.shapes.has(key)) this.shapes.set(key, kind ? pieceShape(kind) : startShape(team?.colour || "#56605a"));
      if (!alike.has(key)) alike.set(key, []);
      alike.get(key)?.push(thing);
    }
    for (const [key, things] of alike) {
      const mesh = new THREE.InstancedMesh(this.shapes.get(key), material, things.length);
      mesh.frustumCulled = false;
      mesh.userData.things = things;
      this.group.add(mesh);
    }
    this.turns = -1;
  }

  /** Put the feet of all on the land as it is drawn now. */
  stand(/** @type {import("./relief3d.js").Land} */ land) {
    if (this.turns === relief.turns) return;
    this.turns = relief.turns;
    const place = new THREE.Matrix4();
    for (const one of this.group.children) {
      const mesh = /** @type {THREE.InstancedMesh} */ (one);
      mesh.userData.things.forEach((/** @type {import("../rows.js").Row} */ thing, /** @type {number} */ i) => {
        const foot = land.heightAt(thing.x, thing.y) ?? thing.z - thing.over_m;
        place.makeRotationY((-thing.turn_deg * Math.PI) / 180).setPosition(thing.x, foot + thing.over_m, -thing.y);
        mesh.setMatrixAt(i, place);
      });
      mesh.instanceMatrix.needsUpdate = true;
    }
  }
}

/** A person of 1.8 m or a vehicle of 4.2 m, to see how large the land is. */
export class Figures {
  constructor(/** @type {THREE.Scene} */ scene, /** @type {() => void} */ request) {
    this.group = new THREE.Group();
    scene.add(this.group);
    this.seen = "";
    this.request = request;
  }

  static shapeOf(/** @type {string} */ sort) {
    const at = (
      /** @type {THREE.BufferGeometry} */ geometry,
      /** @type {number} */ x,
      /** @type {number} */ y,
      /** @type {number} */ z,
    ) => geometry.translate(x, y, z);
    if (sort === "person") {
      return joined([
        [at(new THREE.CylinderGeometry(0.17, 0.13, 0.85, 8), 0, 0.425, 0), "#4a4f55"],
        [at(new THREE.CylinderGeometry(0.2, 0.24, 0.62, 8), 0, 1.16, 0), "#a2431f"],
        [at(new THREE.IcosahedronGeometry(0.165, 1), 0, 1.635, 0), "#d9b08c"],
      ]);
    }
    return joined([
      [at(new THREE.BoxGeometry(1.8, 0.7, 4.2), 0, 0.75, 0), "#27637f"],
      [at(new THREE.BoxGeometry(1.6, 0.65, 2.1), 0, 1.4, 0.2), "#d7e6ec"],
      ...[
        [-0.85, -1.35],
        [0.85, -1.35],
        [-0.85, 1.35],
        [0.85, 1.35],
      ].map(
        ([x, z]) =>
          /** @type {[any, string]} */ ([
            at(new THREE.CylinderGeometry(0.36, 0.36, 0.24, 10).rotateZ(Math.PI / 2), x, 0.36, z),
            "#1e2925",
          ]),
      ),
    ]);
  }

  update(/** @type {any} */ land) {
    const seen = JSON.stringify(state.figures);
    if (seen !== this.seen) {
      this.seen = seen;
      for (const old of this.group.children) if (old instanceof THREE.Mesh) old.geometry.dispose();
      this.group.clear();
      for (const figure of state.figures) this.group.add(new THREE.Mesh(Figures.shapeOf(figure.sort), material));
    }
    state.figures.forEach((figure, i) =>
      this.group.children[i].position.set(figure.x, land.heightAt(figure.x, figure.y) ?? 0, -figure.y),
    );
  }
}
