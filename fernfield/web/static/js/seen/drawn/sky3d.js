// The sky, what lies past the edge of the land, mists, and rain and snow: all by what the server tells of the light.
import * as THREE from "../../../vendor/three.js";
import { HAZE, LIT, MOST_MISTS, lit, towards, uniforms } from "./light3d.js";
import { relief } from "./relief3d.js";
import { rows } from "../rows.js";
import { grid, heed, shown, shownAs, state, watch } from "../state.js";

/** Drops or flakes around the eye, and how far around. [m] */
const DROPS = 5000;
const AROUND = 11;
/** How far what lies past the edge goes. [m] */
const BEYOND = 60_000;

const sky = {
  picture: { value: /** @type {any} */ (null) },
  turn: { value: 0 },
  sunAt: { value: new THREE.Vector3() },
  moonAt: { value: new THREE.Vector3() },
  moonTurn: { value: 0 },
  disc: { value: 0 },
  moon: { value: 0 },
};

/** The dome: the server's picture of the sky around the sun, with sun and moon in it, going into the haze at the horizon. */
const dome = new THREE.ShaderMaterial({
  uniforms: { ...uniforms, ...sky },
  side: THREE.BackSide,
  depthTest: false,
  depthWrite: false,
  vertexShader: `
    varying vec3 way;
    void main() {
      way = position;
      vec4 at = projectionMatrix * vec4(mat3(viewMatrix) * position, 1.0);
      gl_Position = at.xyww;
    }`,
  fragmentShader: `
    ${LIT}
    uniform sampler2D picture; uniform float turn; uniform vec3 sunAt; uniform vec3 moonAt; uniform float moonTurn;
    uniform float disc; uniform float moon; varying vec3 way;
    float speck(vec2 p) { return fract(sin(dot(p, vec2(12.9898, 78.233))) * 43758.5453); }
    void main() {
      vec3 to = normalize(way);
      float height = asin(clamp(to.y, 0.0, 1.0)) / 1.5707963;
      float bearing = atan(to.x, -to.z) / 6.2831853 - turn;
      vec3 ink = texture2D(picture, vec2(bearing, clamp(1.0 - height, 0.016, 0.984))).rgb;
      ink = mix(haze, ink, smoothstep(0.0, 0.09, to.y));
      float apart = acos(clamp(dot(to, sunAt), -1.0, 1.0));
      ink += disc * vec3(1.0, 0.95, 0.82) * (smoothstep(0.0075, 0.006, apart) + 0.35 * exp(-apart * 22.0));
      // The moon twice as wide as it is, or nobody would see what of it is lit.
      vec3 side = normalize(cross(moonAt, sunAt + vec3(0.0, 1e-4, 0.0)));
      vec2 at = vec2(dot(to, cross(side, moonAt)), dot(to, side)) / 0.0091;
      float out_ = dot(at, at);
      if (moon > 0.0 && out_ < 1.0 && dot(to, moonAt) > 0.0) {
        float face = at.x * sin(moonTurn) + sqrt(1.0 - out_) * cos(moonTurn);
        ink = mix(ink, vec3(0.93, 0.92, 0.86), moon * (0.06 + 0.94 * smoothstep(-0.02, 0.1, face)) * smoothstep(1.0, 0.9, out_));
      }
      // Where there are few steps of grey between two places they would be seen.
      ink += (speck(gl_FragCoord.xy) - 0.5) / 255.0;
      gl_FragColor = vec4(ink, 1.0);
    }`,
});

const star = new THREE.ShaderMaterial({
  uniforms: { ...uniforms, shine: { value: 0 } },
  transparent: true,
  depthWrite: false,
  vertexShader: `
    attribute float bright; varying float shows; uniform float shine;
    void main() {
      shows = shine * bright * smoothstep(0.02, 0.25, position.y);
      gl_PointSize = 2.0 + 3.0 * bright;
      vec4 at = projectionMatrix * vec4(mat3(viewMatrix) * position, 1.0);
      gl_Position = vec4(at.xy, at.w * 0.9999, at.w);
    }`,
  fragmentShader: `
    varying float shows;
    void main() { gl_FragColor = vec4(0.94, 0.95, 1.0, shows * smoothstep(0.5, 0.1, length(gl_PointCoord - 0.5))); }`,
});

/** What of a lamp is seen itself: a point that glows, the smaller the further off. */
const glow = new THREE.ShaderMaterial({
  uniforms: { ...uniforms, high: { value: 600 } },
  transparent: true,
  depthWrite: false,
  vertexShader: `
    ${LIT}
    uniform float high; attribute vec3 ink; attribute float bright; varying vec3 own; varying float shows;
    void main() {
      vec4 eye = viewMatrix * vec4(position, 1.0);
      float away = length(eye.xyz);
      own = ink;
      shows = exp(-away * thick * 0.5);
      gl_PointSize = clamp(high * (0.25 + 0.25 * bright) / max(away, 0.5), 3.0, 90.0);
      gl_Position = projectionMatrix * eye;
    }`,
  fragmentShader: `
    varying vec3 own; varying float shows;
    void main() {
      float out_ = length(gl_PointCoord - 0.5) * 2.0;
      float part = smoothstep(0.22, 0.12, out_) + 0.55 * pow(max(1.0 - out_, 0.0), 2.5);
      gl_FragColor = vec4(mix(own, vec3(1.0), smoothstep(0.3, 0.0, out_)), clamp(part, 0.0, 1.0) * shows);
    }`,
});

const beyond = new THREE.ShaderMaterial({
  uniforms: { ...uniforms, own: { value: new THREE.Vector3() }, wet: { value: 0 } },
  side: THREE.DoubleSide,
  vertexShader: `
    varying vec3 spot;
    void main() {
      spot = (modelMatrix * vec4(position, 1.0)).xyz;
      gl_Position = projectionMatrix * viewMatrix * vec4(spot, 1.0);
    }`,
  fragmentShader: `
    ${LIT}
    uniform vec3 own; uniform float wet; varying vec3 spot;
    void main() {
      float away = length(spot - cameraPosition);
      float flat_ = pow(1.0 - clamp((cameraPosition.y - spot.y) / max(away, 0.01), 0.0, 1.0), 4.0);
      vec3 ink = mix(own * (sunInk + skyInk), own * waterInk, wet);
      ink = mix(ink, haze, wet * 0.6 * flat_);
      // What is that far off is in the haze whatever one sees: there is no line where it ends.
      gl_FragColor = vec4(mix(hazed(ink, away, spot), haze, smoothstep(9000.0, 40000.0, away)), 1.0);
    }`,
});

/** Rain falls in lines, snow in flakes; both go round in a box that the eye is in. @param {boolean} snows */
const falls = (snows) =>
  new THREE.ShaderMaterial({
    uniforms: { ...uniforms, time: { value: 0 }, eye: { value: new THREE.Vector3() }, blows: { value: 0 } },
    transparent: true,
    depthWrite: false,
    vertexShader: `
    ${LIT}
    uniform float time; uniform vec3 eye; uniform float blows; attribute float end; varying float shows;
    void main() {
      float own = fract(sin(dot(position.xz, vec2(12.9898, 78.233))) * 43758.5453);
      float fast = ${snows ? "1.2 + 0.6 * own" : "8.0 + 2.0 * own"};
      vec3 at = position;
      at.y -= time * fast;
      at.x += time * blows ${snows ? "+ 0.5 * sin(time * 0.9 + own * 40.0)" : ""};
      at = eye + mod(at - eye, ${2 * AROUND}.0) - ${AROUND}.0;
      ${snows ? "" : "at += end * vec3(-blows * 0.05, 0.45, 0.0);"}
      shows = smoothstep(${AROUND}.0, 4.0, length(at - eye)) * smoothstep(0.3, 1.5, length(at - eye));
      vec4 seen = viewMatrix * vec4(at, 1.0);
      gl_Position = projectionMatrix * seen;
      ${snows ? "gl_PointSize = clamp(34.0 / -seen.z, 1.5, 9.0);" : ""}
    }`,
    fragmentShader: `
    ${LIT}
    varying float shows;
    void main() {
      float part = shows * ${snows ? "0.9 * smoothstep(0.5, 0.2, length(gl_PointCoord - 0.5))" : "0.5"};
      gl_FragColor = vec4(mix(haze, ${snows ? "vec3(1.05)" : "vec3(0.80, 0.85, 0.92)"} * min(sunInk + skyInk + 0.1, 1.0), 0.85), part);
    }`,
  });

function drops(/** @type {boolean} */ snows) {
  const spots = /** @type {number[]} */ ([]);
  const ends = /** @type {number[]} */ ([]);
  for (let i = 0; i < DROPS; i += 1) {
    const at = [0.618, 0.7549, 0.8191].map((step) => ((i * step) % 1) * 2 * AROUND);
    spots.push(...at);
    ends.push(0);
    if (snows) continue;
    spots.push(...at);
    ends.push(1);
  }
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.Float32BufferAttribute(spots, 3));
  shape.setAttribute("end", new THREE.Float32BufferAttribute(ends, 1));
  const made = snows ? new THREE.Points(shape, falls(true)) : new THREE.LineSegments(shape, falls(false));
  made.frustumCulled = false;
  made.visible = false;
  return made;
}

/** Whether something falls, so that a frame follows a frame. */
export const pours = () => lit.now.weather !== "dry" && !lit.now.drawn;

export class Sky {
  /** @param {THREE.Scene} scene @param {() => void} request ask for another frame */
  constructor(scene, request) {
    this.request = request;
    this.dome = new THREE.Mesh(new THREE.SphereGeometry(1, 32, 20), dome);
    this.dome.renderOrder = -3;
    this.stars = new THREE.Points(new THREE.BufferGeometry(), star);
    this.stars.renderOrder = -2;
    this.edge = new THREE.Mesh(new THREE.BufferGeometry(), beyond);
    this.lamps = new THREE.Points(new THREE.BufferGeometry(), glow);
    /** Which land and lamps the glow was put on. */
    this.hung = "";
    this.rain = drops(false);
    this.snow = drops(true);
    for (const one of [this.dome, this.stars, this.edge, this.lamps]) {
      one.frustumCulled = false;
      one.visible = false;
      scene.add(one);
    }
    scene.add(this.rain, this.snow);
    /** How the land meets what lies past it, once that is known. */
    this.rim = "";
    this.asked = "";
    this.ready = false;
    heed("lit", () => this.see());
    heed("all-stale", () => this.see());
    watch(() => state.at.mists, request);
    this.see();
  }

  /** Have the sky as it is lit now. */
  async see() {
    const { now } = lit;
    this.request();
    const query = shownAs({ ...shown("bare"), plain: false }).toString();
    this.asked = query;
    try {
      const answer = await fetch(`/api/worlds/${state.world.id}/sky.png?${query}`);
      if (!answer.ok || this.asked !== query) return;
      const texture = new THREE.CanvasTexture(/** @type {any} */ (await createImageBitmap(await answer.blob())));
      Object.assign(texture, { colorSpace: THREE.NoColorSpace, generateMipmaps: false, flipY: false });
      Object.assign(texture, {
        minFilter: THREE.LinearFilter,
        magFilter: THREE.LinearFilter,
        wrapS: THREE.RepeatWrapping,
      });
      sky.picture.value?.dispose();
      sky.picture.value = texture;
    } catch {
      // It is asked for again with the next light.
      return;
    }
    const { sun, moon } = now;
    sky.turn.value = sun.bearing_deg / 360;
    towards(sky.sunAt.value, sun.bearing_deg, sun.height_deg);
    towards(sky.moonAt.value, moon.bearing_deg, moon.height_deg);
    sky.moonTurn.value = Math.acos(Math.min(Math.max(2 * moon.lit_share - 1, -1), 1));
    sky.disc.value = sun.height_deg > -0.5 && now.sun_ink[0] > 0.003 ? 1 : 0;
    sky.moon.value = moon.height_deg > 0 ? Math.min(now.stars * 2, 1) : 0;
    const places = now.stars_at.flatMap(([bearing, height]) => towards(new THREE.Vector3(), bearing, height).toArray());
    const bright = now.stars_at.map(([, , magnitude]) => Math.min(Math.max((4.6 - magnitude) / 4.0, 0.3), 1));
    this.stars.geometry.setAttribute("position", new THREE.Float32BufferAttribute(places, 3));
    this.stars.geometry.setAttribute("bright", new THREE.Float32BufferAttribute(bright, 1));
    star.uniforms.shine.value = now.stars;
    this.ready = true;
    window.fern.sky = { ...window.fern.sky, of: query };
    this.request();
  }

  /** What lies past the edge: sea at its level, or ground as high as the land's own edge on the mean. @param {import("./relief3d.js").Land} land */
  meet(land) {
    const how = lit.now.drawn ? "haze" : lit.now.beyond;
    this.edge.visible = how !== "haze";
    if (!this.edge.visible) return;
    const level = how === "sea" ? state.world.sea_level_m : meanEdge(land);
    const rim = `${how} ${level.toFixed(1)}`;
    if (rim === this.rim) return;
    this.rim = rim;
    beyond.uniforms.own.value.set(...(how === "sea" ? [0.3, 0.5, 0.58] : [0.55, 0.57, 0.38]));
    beyond.uniforms.wet.value = how === "sea" ? 1 : 0;
    this.edge.geometry.dispose();
    this.edge.geometry = around(level - 0.05);
  }

  /** @param {any} lens @param {import("./relief3d.js").Land} land @param {boolean} stands whether somebody stands in it */
  update(lens, land, stands) {
    this.meet(land);
    const { now } = lit;
    // Seen from above, the sheet's own light has paper around it.
    this.dome.visible = this.ready && (stands || !now.drawn);
    this.stars.visible = this.dome.visible && now.stars > 0;
    for (const [mesh, of] of /** @type {[any, string][]} */ ([
      [this.rain, "rain"],
      [this.snow, "snow"],
    ])) {
      mesh.visible = pours() && now.weather === of;
      mesh.material.uniforms.time.value = quiet.matches ? 0 : performance.now() / 1000;
      mesh.material.uniforms.eye.value.copy(lens.position);
      mesh.material.uniforms.blows.value = now.wind_m_s * (of === "snow" ? 0.4 : 0.6);
    }
    mists(lens, land);
    this.hang(land);
  }

  /** Lamps that are lit, where they hang over the land as it is drawn. @param {import("./relief3d.js").Land} land */
  hang(land) {
    const { lamps_in_dark: inDark, lamps_always: always } = lit.now;
    this.lamps.visible = !lit.now.drawn && lit.now.lux < 5000;
    glow.uniforms.high.value = window.innerHeight;
    const of = `${relief.turns} ${state.at.lamps} ${inDark} ${always}`;
    if (!this.lamps.visible || of === this.hung) return;
    this.hung = of;
    const shown = rows("lamps").filter((lamp) => (lamp.lit === "always" ? always : lamp.lit === "dark" && inDark));
    const places = shown.flatMap((lamp) => [lamp.x, (land.heightAt(lamp.x, lamp.y) ?? 0) + lamp.over_m, -lamp.y]);
    const inks = shown.flatMap((lamp) => inkOf(lamp));
    const bright = shown.map((lamp) => Math.min(Math.log10(lamp.lumens) / 4, 1));
    const shape = this.lamps.geometry;
    shape.setAttribute("position", new THREE.Float32BufferAttribute(places, 3));
    shape.setAttribute("ink", new THREE.Float32BufferAttribute(inks, 3));
    shape.setAttribute("bright", new THREE.Float32BufferAttribute(bright, 1));
  }
}
/** The colour in which a lamp glows. @param {any} lamp @returns {number[]} */
function inkOf(lamp) {
  if (lamp.kelvin === null) return new THREE.Color(lamp.colour).toArray();
  const cold = Math.min(Math.max((lamp.kelvin - 1700) / 5000, 0), 1);
  return [1, 0.62 + 0.36 * cold, 0.28 + 0.7 * cold];
}
const quiet = matchMedia("(prefers-reduced-motion: reduce)");

/** The banks of mist that are nearest to the eye. @param {any} lens @param {import("./relief3d.js").Land} land */
function mists(lens, land) {
  const near = lit.now.drawn
    ? []
    : rows("mists")
        .map((row) => ({ row, away: Math.hypot(row.x - lens.position.x, row.y + lens.position.z) - row.radius_m }))
        .sort((a, b) => a.away - b.away)
        .slice(0, MOST_MISTS);
  uniforms.mistCount.value = near.length;
  near.forEach(({ row }, i) => {
    const foot = land.heightAt(row.x, row.y) ?? 0;
    const drift = quiet.matches ? 0 : row.drift_m_s * 12 * Math.sin((performance.now() / 1000) * 0.05 + i);
    uniforms.mistAt.value[i].set(row.x + drift, foot, -row.y, -Math.log(1 - row.density) / 100);
    uniforms.mistBy.value[i].set(1 / row.radius_m, 1 / row.height_m, 0, 0);
  });
}

/** How high the land's edge is on the mean. [m] @param {import("./relief3d.js").Land} land */
function meanEdge(land) {
  const found = [];
  for (let k = 0; k <= 20; k += 1) {
    const [x, y] = [grid.west + ((grid.east - grid.west) * k) / 20, grid.south + ((grid.north - grid.south) * k) / 20];
    for (const [east, north] of [
      [x, grid.south],
      [x, grid.north],
      [grid.west, y],
      [grid.east, y],
    ]) {
      const z = land.heightAt(east, north);
      if (z !== null) found.push(z);
    }
  }
  return found.reduce((sum, z) => sum + z, 0) / Math.max(found.length, 1);
}

/** Four quarters around the land. @param {number} level [m] */
function around(level) {
  const { west, east, south, north } = grid;
  const [w, e, s, n] = [west - BEYOND, east + BEYOND, south - BEYOND, north + BEYOND];
  const quads = [
    [w, n, e, north],
    [w, south, e, s],
    [w, north, west, south],
    [east, north, e, south],
  ];
  const points = quads.flatMap(([x0, y0, x1, y1]) =>
    [x0, y0, x0, y1, x1, y0, x1, y0, x0, y1, x1, y1].flatMap((v, i, all) => (i % 2 ? [] : [v, level, -all[i + 1]])),
  );
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
  return shape;
}
