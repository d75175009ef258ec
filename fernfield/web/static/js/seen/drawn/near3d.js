// The ground near the eye: what lies there of which cover, each with its texture, blended by how high it stands.
import * as THREE from "../../../vendor/three.js";
import { rows } from "../rows.js";
import { clamp, colOf, grid, heed, landApi, rowOf, state, watch, xOf, yOf } from "../state.js";

/** Posts along the side of the window whose shares are known, and covers that are told apart in it. */
const POSTS = 128;
const COVERS = 8;
const PIXELS = 256;
/** Metres from the eye within which texture is seen. */
const REACH_M = 90;
/** A page whose frames take longer than this on the mean draws plain ground from then on. [ms] */
const TOO_SLOW_MS = 140;
const FRAMES = 16;

const none = new THREE.DataTexture(new Uint8Array(4), 1, 1, THREE.RGBAFormat);
none.needsUpdate = true;
const noLayers = new THREE.DataArrayTexture(new Uint8Array([128]), 1, 1, 1);
noLayers.format = THREE.RedFormat;
noLayers.needsUpdate = true;

/** What every chunk's material shares. */
export const nearUniforms = {
  nearOn: { value: 0 },
  sharesA: { value: none },
  sharesB: { value: none },
  reliefs: { value: noLayers },
  window: { value: new THREE.Vector4(0, 0, 1, 1) },
  inks: { value: Array.from({ length: COVERS }, () => new THREE.Vector3(0.5, 0.5, 0.5)) },
  // Number of the texture and of that for steep faces (below 0 for none), metres of a tile, and its turn.
  tiles: { value: Array.from({ length: COVERS }, () => new THREE.Vector4(-1, -1, 4, 0)) },
};

/** For the fragment shader: `textured(ink, at, up, away)` is the colour with its texture. */
export const NEAR_SHADER = `
  uniform float nearOn; uniform sampler2D sharesA; uniform sampler2D sharesB; uniform sampler2DArray reliefs;
  uniform vec4 window; uniform vec3 inks[${COVERS}]; uniform vec4 tiles[${COVERS}];
  float reliefAt(int layer, vec2 p, float tile, float turn) {
    // Two sizes and turns, mixed by place: the tile's repetition is broken up.
    float a = turn, b = turn + 0.65;
    vec2 one = vec2(p.x * cos(a) - p.y * sin(a), p.x * sin(a) + p.y * cos(a)) / tile;
    vec2 two = vec2(p.x * cos(b) - p.y * sin(b), p.x * sin(b) + p.y * cos(b)) / (tile * 1.73);
    vec2 w = p / (tile * 4.3);
    float share = 0.5 + 0.5 * sin(6.2832 * w.x + 1.7 * sin(6.2832 * w.y / 1.4));
    return mix(texture(reliefs, vec3(one, float(layer))).r, texture(reliefs, vec3(two, float(layer))).r, share);
  }
  vec3 textured(vec3 ink, vec3 at, vec3 up, float away) {
    vec2 spot = (at.xz - window.xy) * window.zw;
    if (nearOn < 0.5 || spot.x <= 0.0 || spot.y <= 0.0 || spot.x >= 1.0 || spot.y >= 1.0) return ink;
    float fade = clamp(1.6 - away / ${REACH_M.toFixed(1)} * 1.6, 0.0, 1.0);
    fade *= clamp(min(min(spot.x, 1.0 - spot.x), min(spot.y, 1.0 - spot.y)) * 12.0, 0.0, 1.0);
    if (fade <= 0.0) return ink;
    vec4 a = texture2D(sharesA, spot), b = texture2D(sharesB, spot);
    float share[${COVERS}];
    share[0] = a.r; share[1] = a.g; share[2] = a.b; share[3] = a.a;
    share[4] = b.r; share[5] = b.g; share[6] = b.b; share[7] = b.a;
    // Steep faces are looked at from the side: along the face and up it.
    vec2 flat_ = length(up.xz) > 0.01 ? normalize(up.xz) : vec2(1.0, 0.0);
    float steep = smoothstep(0.62, 0.78, length(up.xz));
    vec2 side = vec2(dot(at.xz, vec2(-flat_.y, flat_.x)), at.y);
    float height[${COVERS}]; float top = -1.0;
    for (int i = 0; i < ${COVERS}; i++) {
      height[i] = 0.5;
      if (share[i] < 0.01) continue;
      vec4 tile = tiles[i];
      if (tile.x >= 0.0) {
        float lying = steep < 1.0 ? reliefAt(int(tile.x), at.xz, tile.z, tile.w) : 0.5;
        float standing = steep > 0.0 ? reliefAt(int(tile.y >= 0.0 ? tile.y : tile.x), side, tile.z, tile.w) : 0.5;
        height[i] = mix(lying, standing, steep);
      }
      top = max(top, share[i] + 0.45 * height[i]);
    }
    if (top < 0.0) return ink;
    vec3 smooth_ = vec3(0.0), rough = vec3(0.0); float all = 0.0, sum = 0.0;
    for (int i = 0; i < ${COVERS}; i++) {
      if (share[i] < 0.01) continue;
      // What stands higher shows through before the rest covers it.
      float own = share[i] * clamp((share[i] + 0.45 * height[i] - top + 0.3) / 0.3, 0.0, 1.0);
      smooth_ += share[i] * inks[i]; sum += share[i];
      rough += own * inks[i] * (0.62 + 0.76 * height[i]); all += own;
    }
    // The plan's own colour and light, with what the texture adds to it.
    vec3 more = (rough / max(all, 0.001)) / max(smooth_ / max(sum, 0.001), vec3(0.02));
    return ink * mix(vec3(1.0), more, fade);
  }`;

/** @type {() => void} */
let again = () => {};
/** Covers by the order of the shares that came last, and which of them have a place in the two pictures. @type {string[]} */
let order = [];
let loading = false;
let stale = true;
/** @type {[number, number] | null} */
let middle = null;
let givenUp = false;

/** Whether texture is drawn here: not where the page was asked for little, nor where it was too slow. */
const wanted = () => state.show.detail !== "low" && !givenUp && state.past === null;

/** The textures that covers name, in one stack. @type {{names: string[], of: string}} */
let stack = { names: [], of: "" };
async function loadReliefs() {
  const names = [
    ...new Set(
      rows("covers")
        .flatMap((one) => [one.texture, one.steep_texture])
        .filter(Boolean),
    ),
  ];
  if (names.join() === stack.of) return;
  stack = { names, of: names.join() };
  const data = new Uint8Array(PIXELS * PIXELS * Math.max(names.length, 1)).fill(128);
  const canvas = Object.assign(document.createElement("canvas"), { width: PIXELS, height: PIXELS });
  const context = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d", { willReadFrequently: true }));
  await Promise.all(
    names.map(async (name, at) => {
      const picture = new Image();
      picture.src = `/api/worlds/${state.world.id}/textures/${name}.png`;
      try {
        await picture.decode();
      } catch {
        // A picture that has gone: plain ground.
        return;
      }
      context.drawImage(picture, 0, 0);
      const { data: pixels } = context.getImageData(0, 0, PIXELS, PIXELS);
      for (let i = 0; i < PIXELS * PIXELS; i += 1) data[at * PIXELS * PIXELS + i] = pixels[i * 4];
    }),
  );
  const texture = new THREE.DataArrayTexture(data, PIXELS, PIXELS, Math.max(names.length, 1));
  Object.assign(texture, {
    format: THREE.RedFormat,
    wrapS: THREE.RepeatWrapping,
    wrapT: THREE.RepeatWrapping,
    minFilter: THREE.LinearMipmapLinearFilter,
    magFilter: THREE.LinearFilter,
    generateMipmaps: true,
    needsUpdate: true,
  });
  nearUniforms.reliefs.value.dispose();
  nearUniforms.reliefs.value = texture;
}

/** Colours and tiles of the covers that have a place in the two pictures. @param {string[]} keys */
function takeCovers(keys) {
  const all = Object.fromEntries(rows("covers").map((one) => [one.key, one]));
  keys.forEach((key, at) => {
    const cover = all[key];
    if (!cover) return;
    const part = (/** @type {number} */ k) => Number.parseInt(cover.colour.slice(1 + 2 * k, 3 + 2 * k), 16) / 255;
    nearUniforms.inks.value[at].set(part(0), part(1), part(2));
    const number = (/** @type {string | null} */ name) => (name ? stack.names.indexOf(name) : -1);
    const turn = (cover.turn_deg * Math.PI) / 180;
    nearUniforms.tiles.value[at].set(number(cover.texture), number(cover.steep_texture), cover.tile_m, turn);
  });
}

async function load(/** @type {number} */ x, /** @type {number} */ y) {
  loading = true;
  stale = false;
  try {
    await loadReliefs();
    const size = [Math.min(POSTS, grid.rows), Math.min(POSTS, grid.cols)];
    const row0 = clamp(Math.round(rowOf(y)) - size[0] / 2, 0, grid.rows - size[0]);
    const col0 = clamp(Math.round(colOf(x)) - size[1] / 2, 0, grid.cols - size[1]);
    const query = `row0=${row0}&col0=${col0}&row1=${row0 + size[0]}&col1=${col0 + size[1]}`;
    const answer = await fetch(`${landApi}/cover-shares?${query}`);
    if (!answer.ok) throw new Error(String(answer.status));
    order = (answer.headers.get("x-covers") || "").split(",");
    const planes = new Uint8Array(await answer.arrayBuffer());
    const posts = size[0] * size[1];
    // The covers that take up most of it are told apart.
    const most = order
      .map((key, at) => ({ key, at, sum: planes.subarray(at * posts, (at + 1) * posts).reduce((a, b) => a + b, 0) }))
      .sort((a, b) => b.sum - a.sum)
      .slice(0, COVERS);
    for (const [name, first] of /** @type {["sharesA" | "sharesB", number][]} */ ([
      ["sharesA", 0],
      ["sharesB", 4],
    ])) {
      const pixels = new Uint8Array(posts * 4);
      most.slice(first, first + 4).forEach(({ at }, channel) => {
        for (let i = 0; i < posts; i += 1) pixels[i * 4 + channel] = planes[at * posts + i];
      });
      const texture = new THREE.DataTexture(pixels, size[1], size[0], THREE.RGBAFormat);
      Object.assign(texture, { minFilter: THREE.LinearFilter, magFilter: THREE.LinearFilter, needsUpdate: true });
      nearUniforms[name].value.dispose();
      nearUniforms[name].value = texture;
    }
    // Pixel centres lie on posts.
    const [wide, deep] = [size[1] * grid.spacing, size[0] * grid.spacing];
    nearUniforms.window.value.set(xOf(col0) - grid.spacing / 2, -yOf(row0) - grid.spacing / 2, 1 / wide, 1 / deep);
    takeCovers(most.map((one) => one.key));
    nearUniforms.nearOn.value = wanted() ? 1 : 0;
    middle = [x, y];
    window.fern.near = { covers: most.map((one) => one.key), layers: stack.names };
  } catch {
    stale = true;
  } finally {
    loading = false;
    again();
  }
}

/** Have what is near the eye at (x, y). @param {number} x @param {number} y @param {() => void} request ask for another frame @param {number} away how far off that is [m] */
export function seeNear(x, y, request, away) {
  again = request;
  // From far above no texture is seen: nothing is asked for, and nothing of it is worked out.
  if (away > 2 * REACH_M) {
    nearUniforms.nearOn.value = 0;
    return;
  }
  nearUniforms.nearOn.value = wanted() && middle ? 1 : 0;
  if (!wanted() || loading || state.drawing) return;
  const far = !middle || Math.hypot(middle[0] - x, middle[1] - y) > (POSTS / 5) * grid.spacing;
  if (far || stale) load(x, y);
}

/** @type {number[]} */
let frames = [];
/** How long a frame took while the eye moved: where that is too long, texture is left out. @param {number} milliseconds */
export function tookFrame(milliseconds) {
  if (givenUp || !nearUniforms.nearOn.value) return;
  frames.push(milliseconds);
  if (frames.length < FRAMES) return;
  // By the middle one: before the first of a movement there was a rest.
  const middleOne = frames.sort((a, b) => a - b)[frames.length >> 1];
  frames = [];
  if (middleOne > TOO_SLOW_MS) givenUp = true;
}

heed("stale", (message) => {
  if (message.layers.includes("shade")) return;
  stale = true;
});
heed("all-stale", () => {
  stale = true;
});
watch(
  () => state.at.covers,
  () => {
    stale = true;
    again();
  },
);
