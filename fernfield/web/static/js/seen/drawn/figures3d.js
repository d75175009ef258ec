// People and vehicles that stand on the land for scale.
import * as THREE from "../../../vendor/three.js";
import { material } from "./placed3d.js";
import { state } from "../state.js";

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
    if (sort.endsWith("ball"))
      return joined([
        [at(new THREE.IcosahedronGeometry(0.5, 3), 0, 0.5, 0), sort === "grey ball" ? "#777777" : "#f4f4f4"],
      ]);
    if (sort === "person") {
      return joined([
        [at(new THREE.CylinderGeometry(0.17, 0.13, 0.85, 8), 0, 0.425, 0), "#4a4f55"],
        [at(new THREE.CylinderGeometry(0.2, 0.24, 0.62, 8), 0, 1.16, 0), "#a2431f"],
        [at(new THREE.IcosahedronGeometry(0.165, 1), 0, 1.635, 0), "#d9b08c"],
      ]);
    }
    if (sort === "boat") {
      const hull = at(new THREE.BoxGeometry(1.5, 0.7, 3.8), 0, 0.1, 0);
      const bow = at(new THREE.ConeGeometry(0.75, 1.2, 4).rotateY(Math.PI / 4).rotateX(-Math.PI / 2), 0, 0.1, -2.4);
      return joined([
        [hull, "#7b580c"],
        [bow, "#7b580c"],
        [at(new THREE.CylinderGeometry(0.2, 0.24, 0.7, 8), 0, 0.8, 0.6), "#a2431f"],
        [at(new THREE.IcosahedronGeometry(0.165, 1), 0, 1.3, 0.6), "#d9b08c"],
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

  /** @param {any} land @param {import("../state.js").Spot} middle of what is looked at, where balls stand to judge light by */
  update(land, middle) {
    const judges = state.show.judge
      ? ["grey ball", "person", "white ball"].map((sort, i) => ({ sort, x: middle.x + 1.6 * (i - 1), y: middle.y }))
      : [];
    /** @type {import("../../types.js").Figure[]} */
    const figures = [...state.figures, ...judges, ...state.walkers];
    const seen = JSON.stringify(figures.map((one) => one.sort));
    if (seen !== this.seen) {
      this.seen = seen;
      for (const old of this.group.children) if (old instanceof THREE.Mesh) old.geometry.dispose();
      this.group.clear();
      for (const figure of figures) this.group.add(new THREE.Mesh(Figures.shapeOf(figure.sort), material));
    }
    figures.forEach((figure, i) => {
      const body = this.group.children[i];
      body.position.set(figure.x, figure.z ?? land.heightAt(figure.x, figure.y) ?? 0, -figure.y);
      body.rotation.y = (-(figure.facing ?? 0) * Math.PI) / 180;
      body.scale.setScalar(figure.size ?? 1);
    });
  }
}
