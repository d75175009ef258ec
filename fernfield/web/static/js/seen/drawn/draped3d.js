// Pictures that lie on what rooms have placed, in three dimensions: each goes wherever the body under it stands.
import * as THREE from "../../../vendor/three.js";
import { LIT, uniforms } from "./light3d.js";

/**
 * A picture on a body: triangles in the body's frame, three corners of right, ahead, up [m] and two places in the picture.
 * @typedef {{key: string, number: number, triangles: number[], picture: string, colour: string, strength: number}} Laid
 */

/** Numbers of a corner as it comes. */
const CORNER = 5;

/** @type {readonly Laid[]} */
let laid = [];
let turns = 0;
/** @type {Draped[]} */
const shown = [];

/** Show these pictures and no others; later ones over earlier ones. @param {readonly Laid[]} some */
export function drape(some) {
  laid = some;
  turns += 1;
  for (const one of shown) one.request();
}

const VERTEX = `
  ${LIT}
  attribute vec2 spotted;
  varying vec3 seen; varying float away; varying vec3 spot; varying vec2 on;
  uniform vec3 ink;
  void main() {
    vec4 at = modelMatrix * vec4(position, 1.0);
    seen = ink * (0.14 * (sunInk + skyInk) + 0.86 * litAt(normalize(mat3(modelMatrix) * normal), at.xyz, false));
    spot = at.xyz;
    on = spotted;
    vec4 eye = viewMatrix * at;
    away = length(eye.xyz);
    gl_Position = projectionMatrix * eye;
  }`;
const FRAGMENT = `
  ${LIT}
  uniform sampler2D picture; uniform float strength;
  varying vec3 seen; varying float away; varying vec3 spot; varying vec2 on;
  void main() { gl_FragColor = vec4(hazed(seen, away, spot), texture2D(picture, on).a * strength); }`;

export class Draped {
  constructor(
    /** @type {THREE.Scene} */ scene,
    /** @type {() => void} */ request,
    /** @type {import("./placed3d.js").Placed} */ placed,
  ) {
    this.group = new THREE.Group();
    scene.add(this.group);
    this.request = request;
    this.placed = placed;
    this.turns = -1;
    /** By where they come from. @type {Map<string, THREE.Texture>} */
    this.pictures = new Map();
    shown.push(this);
  }

  /** Each lies on its body where that stands now. */
  update() {
    if (this.turns !== turns) {
      this.turns = turns;
      this.build();
    }
    for (const mesh of this.group.children) {
      const { key, number } = /** @type {Laid} */ (mesh.userData.laid);
      const body = this.placed.byKey.get(key)?.[number];
      mesh.visible = Boolean(body);
      if (body) mesh.matrix.fromArray(body.place);
    }
  }

  build() {
    for (const mesh of this.group.children) {
      /** @type {THREE.Mesh} */ (mesh).geometry.dispose();
      /** @type {THREE.ShaderMaterial} */ (/** @type {THREE.Mesh} */ (mesh).material).dispose();
    }
    this.group.clear();
    const known = this.pictures;
    this.pictures = new Map(laid.map(({ picture }) => [picture, known.get(picture) ?? this.load(picture)]));
    for (const [path, texture] of known) if (!this.pictures.has(path)) texture.dispose();
    laid.forEach((one, order) => {
      const mesh = new THREE.Mesh(shapeOf(one.triangles), this.material(one));
      mesh.userData.laid = one;
      mesh.matrixAutoUpdate = false;
      mesh.frustumCulled = false;
      mesh.renderOrder = 1 + order / 1e6;
      this.group.add(mesh);
    });
  }

  /** Nothing until it has come. @param {string} picture */
  load(picture) {
    const canvas = Object.assign(document.createElement("canvas"), { width: 1, height: 1 });
    const texture = new THREE.CanvasTexture(canvas);
    texture.anisotropy = 8;
    const image = new Image();
    image.onload = () => {
      Object.assign(canvas, { width: image.width, height: image.height });
      canvas.getContext("2d")?.drawImage(image, 0, 0);
      // It is of another size now.
      texture.dispose();
      texture.needsUpdate = true;
      this.request();
    };
    image.src = picture;
    return texture;
  }

  /** @param {Laid} one */
  material({ picture, colour, strength }) {
    const own = {
      picture: { value: this.pictures.get(picture) },
      ink: { value: new THREE.Color(colour) },
      strength: { value: strength },
    };
    return new THREE.ShaderMaterial({
      uniforms: { ...uniforms, ...own },
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      transparent: true,
      depthWrite: false,
      // It lies in the very face that it marks.
      polygonOffset: true,
      polygonOffsetFactor: -2,
      polygonOffsetUnits: -8,
    });
  }
}

/** @param {number[]} triangles */
function shapeOf(triangles) {
  const count = triangles.length / CORNER;
  const [at, on] = [new Float32Array(count * 3), new Float32Array(count * 2)];
  for (let i = 0; i < count; i += 1) {
    const [right, ahead, up, across, along] = triangles.slice(i * CORNER, (i + 1) * CORNER);
    // Up is the second number here, south the third.
    at.set([right, up, -ahead], i * 3);
    on.set([across, along], i * 2);
  }
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.BufferAttribute(at, 3));
  shape.setAttribute("spotted", new THREE.BufferAttribute(on, 2));
  shape.computeVertexNormals();
  return shape;
}
