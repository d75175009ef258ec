// Water in three dimensions: level sheets where the server says that water stands, a little wider, so that the ground cuts them.
import * as THREE from "../../../vendor/three.js";
import { LIT, uniforms } from "./light3d.js";
import { rows } from "../rows.js";
import { grid, heed, landApi, state, watch, xOf, yOf } from "../state.js";

/** Posts along the longer side of what is fetched. */
const MOST = 512;

/** Standing water, or water that runs: streaks the way it goes, white where it falls. @param {boolean} runs */
const waterMaterial = (runs) =>
  new THREE.ShaderMaterial({
    uniforms,
    transparent: true,
    depthWrite: false,
    side: THREE.DoubleSide,
    vertexShader: `
    varying vec3 at; varying float away; varying vec3 look; ${runs ? "attribute vec3 flow; varying vec3 flows;" : ""}
    void main() {
      ${runs ? "flows = flow;" : ""}
      vec4 place = modelMatrix * vec4(position, 1.0);
      at = place.xyz;
      look = cameraPosition - place.xyz;
      vec4 eye = viewMatrix * place;
      away = length(eye.xyz);
      gl_Position = projectionMatrix * eye;
    }`,
    fragmentShader: `
    ${LIT}
    varying vec3 at; varying float away; varying vec3 look;
    ${runs ? "varying vec3 flows;" : ""}
    void main() {
      // Small waves, by place only: the sky in them, more of it the flatter one looks.
      vec2 p = at.xz;
      vec3 up = normalize(vec3(
        0.05 * sin(p.x * 0.9 + p.y * 0.35) + 0.03 * sin(p.x * 2.3 - p.y * 1.7),
        1.0,
        0.05 * sin(p.y * 0.8 - p.x * 0.3) + 0.03 * sin(p.y * 2.1 + p.x * 1.3)));
      vec3 to = normalize(look);
      float flat_ = pow(1.0 - max(dot(to, up), 0.0), 3.0);
      float glint = pow(max(dot(reflect(-to, up), sun), 0.0), 60.0) * 0.35;
      // The most of its light is the sky's. What is known of shadows is where they lie on the bottom.
      vec3 lit = mix(waterInk, lightOf(vec3(0.0, 1.0, 0.0), 1.0, 1.0), 0.5);
      vec3 ink = mix(vec3(0.20, 0.42, 0.50) * lit, haze, 0.15 + 0.7 * flat_) + glint * sunInk;
      float solid = 0.5 + 0.35 * flat_;
      ${
        runs
          ? `// Along it, across it in metres, and how steeply it falls.
      float lane = floor(flows.y * 1.6);
      float streak = smoothstep(0.55, 1.0, sin(flows.x * 0.55 + lane * 2.4)) * smoothstep(0.5, 0.1, abs(fract(flows.y * 1.6) - 0.5));
      float foam = clamp(0.16 * streak + flows.z * (0.55 + 0.35 * sin(flows.x * 2.0 + lane * 1.7)), 0.0, 0.9);
      ink = mix(ink, vec3(0.93, 0.96, 0.96) * waterInk, foam);
      solid = max(solid, foam);`
          : ""
      }
      gl_FragColor = vec4(hazed(ink, away, at), solid);
    }`,
  });
const material = waterMaterial(false);
const running = waterMaterial(true);
/** Ribbons are so much wider than the water on either side: the banks cut them. [m] */
const OVER_M = 0.6;
/** From this fall on water is white; a third of it begins to be. */
const WHITE = 0.7;

export class Sheets {
  constructor(/** @type {THREE.Scene} */ scene, /** @type {() => void} */ request) {
    this.scene = scene;
    this.request = request;
    this.mesh = null;
    this.ribbons = null;
    this.stale = true;
    this.loading = false;
    this.quads = 0;
    const anew = () => {
      this.stale = true;
      this.request();
    };
    heed("stale", (message) => {
      if (message.layers.some((/** @type {string} */ l) => ["height", "look"].includes(l))) anew();
    });
    heed("all-stale", anew);
    watch(() => [state.at.water, state.at.pools, state.world.sea_level_m, state.show.tide], anew);
    watch(
      () => state.at.streams,
      () => {
        this.lay();
        this.request();
      },
    );
    this.lay();
  }

  /** A ribbon along each stream. */
  lay() {
    /** @type {number[]} */
    const places = [];
    /** @type {number[]} */
    const flow = [];
    /** @type {number[]} */
    const faces = [];
    for (const one of rows("streams")) {
      const { course } = one;
      let far = 0;
      course.forEach((/** @type {number[]} */ [x, y, z, width], /** @type {number} */ at) => {
        const before = course[Math.max(0, at - 1)];
        const after = course[Math.min(course.length - 1, at + 1)];
        const [east, north] = [after[0] - before[0], after[1] - before[1]];
        const long = Math.hypot(east, north) || 1;
        far += Math.hypot(x - before[0], y - before[1]);
        const half = width / 2 + OVER_M;
        const fall = Math.min(1, Math.max(0, (before[2] - after[2]) / long / WHITE - 0.3));
        for (const side of [-1, 1]) {
          places.push(x + (side * half * north) / long, z, -(y - (side * half * east) / long));
          flow.push(far, side * half, fall);
        }
        const first = places.length / 3 - 2;
        if (at) faces.push(first - 2, first - 1, first, first - 1, first + 1, first);
      });
    }
    if (this.ribbons) {
      this.scene.remove(this.ribbons);
      this.ribbons.geometry.dispose();
      this.ribbons = null;
    }
    if (!faces.length) return;
    const shape = new THREE.BufferGeometry();
    shape.setAttribute("position", new THREE.Float32BufferAttribute(places, 3));
    shape.setAttribute("flow", new THREE.Float32BufferAttribute(flow, 3));
    shape.setIndex(faces);
    this.ribbons = new THREE.Mesh(shape, running);
    this.ribbons.frustumCulled = false;
    this.scene.add(this.ribbons);
  }

  update() {
    for (const one of [this.mesh, this.ribbons]) if (one) one.visible = state.show.water;
    if (this.stale && !this.loading && !state.drawing && state.show.water && state.past === null) this.load();
  }

  async load() {
    this.loading = true;
    this.stale = false;
    let step = 1;
    while (Math.max(grid.rows, grid.cols) / step > MOST) step *= 2;
    try {
      const tide = state.show.tide ? `&tide=${state.show.tide}` : "";
      const answer = await fetch(
        `${landApi}/water?row0=0&col0=0&row1=${grid.rows}&col1=${grid.cols}&step=${step}&only=standing${tide}`,
      );
      if (!answer.ok) throw new Error(String(answer.status));
      const [rows, cols] = (answer.headers.get("X-Shape") || "0,0").split(",").map(Number);
      this.build(new Float32Array(await answer.arrayBuffer()), rows, cols, step);
    } catch {
      // It is asked for again when something has changed.
    } finally {
      this.loading = false;
      this.request();
    }
  }

  /** @param {Float32Array} surface @param {number} rows @param {number} cols @param {number} step */
  build(surface, rows, cols, step) {
    const places = [];
    const level = (/** @type {number} */ r, /** @type {number} */ c) =>
      r < 0 || c < 0 || r >= rows || c >= cols ? NaN : surface[r * cols + c];
    for (let r = -1; r < rows; r += 1) {
      // Level stretches of a row are one sheet.
      for (let c = -1; c < cols; c += 1) {
        const z = this.over(level, r, c);
        if (Number.isNaN(z)) continue;
        let end = c + 1;
        while (end < cols && this.over(level, r, end) === z) end += 1;
        const [west, east] = [xOf(Math.max(c, 0) * step), xOf(Math.min(end * step, grid.cols - 1))];
        const [north, south] = [yOf(Math.max(r, 0) * step), yOf(Math.min((r + 1) * step, grid.rows - 1))];
        places.push(
          west,
          z,
          -north,
          west,
          z,
          -south,
          east,
          z,
          -south,
          west,
          z,
          -north,
          east,
          z,
          -south,
          east,
          z,
          -north,
        );
        c = end - 1;
      }
    }
    if (this.mesh) {
      this.scene.remove(this.mesh);
      this.mesh.geometry.dispose();
      this.mesh = null;
    }
    this.quads = places.length / 18;
    if (!places.length) return;
    const shape = new THREE.BufferGeometry();
    shape.setAttribute("position", new THREE.Float32BufferAttribute(places, 3));
    this.mesh = new THREE.Mesh(shape, material);
    this.mesh.frustumCulled = false;
    this.scene.add(this.mesh);
  }

  /** The highest water at the corners of a cell. @param {(r: number, c: number) => number} level @param {number} r @param {number} c */
  over(level, r, c) {
    let most = NaN;
    for (const z of [level(r, c), level(r, c + 1), level(r + 1, c), level(r + 1, c + 1)])
      if (!Number.isNaN(z) && !(most >= z)) most = z;
    return most;
  }
}
