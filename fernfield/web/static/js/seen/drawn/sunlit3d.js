// Where light falls on the land: the sun past hills and growth, the share of the sky, and lamps. Of each a picture of all
// of the land, and a finer one around where one looks.
import * as THREE from "../../../vendor/three.js";
import { lit, thrown, uniforms } from "./light3d.js";
import { clamp, colOf, grid, heed, landApi, rowOf, shown, shownAs, state, watch, xOf, yOf } from "../state.js";

/** Pixels along the longer side of both at most. */
const FAR = 1025;
const NEAR = 768;
/** Posts that the eye moves before what is near is fetched anew. */
const MOVED = NEAR / 5;
/** In more light than this nothing is seen of lamps. [lx] */
const DAY_LUX = 5000;

/** What a picture is drawn for. @param {string} path @param {number} step */
const now = (path, step) =>
  path === "sunlit"
    ? `${JSON.stringify(thrown())} ${lit.now.shares} ${step}`
    : `${Math.log10(Math.max(lit.now.lux, 1e-4)).toFixed(1)} ${step}`;

/** One picture. */
class Falling {
  /** @param {"sunlit" | "lamplit"} path @param {string} name of its uniform @param {string} at of the uniform that places it */
  constructor(path, name, at) {
    this.path = path;
    this.name = name;
    this.at = at;
    this.stale = true;
    this.loading = false;
    /** Which light it was drawn for. */
    this.of = "";
    /** The posts that it shows. @type {number[] | null} */
    this.window = null;
  }

  /** @param {number[]} posts row0, col0, row1, col1 @param {number} step @param {() => void} request */
  async load(posts, step, request) {
    this.loading = true;
    this.stale = false;
    const of = now(this.path, step);
    const { bearing, height } = thrown();
    const drawn = lit.now.drawn ? { sun: { sun_bearing_deg: bearing, sun_height_deg: height } } : {};
    const query = shownAs({ ...shown("bare"), plain: false, overlays: [], ...drawn });
    ["row0", "col0", "row1", "col1"].forEach((name, at) => query.set(name, String(posts[at])));
    query.set("step", String(step));
    try {
      const answer = await fetch(`${landApi}/${this.path}.png?${query}`);
      if (!answer.ok) throw new Error(String(answer.status));
      const picture = await createImageBitmap(await answer.blob());
      const texture = new THREE.CanvasTexture(/** @type {any} */ (picture));
      Object.assign(texture, { colorSpace: THREE.NoColorSpace, generateMipmaps: false, flipY: false });
      Object.assign(texture, { minFilter: THREE.LinearFilter, magFilter: THREE.LinearFilter });
      const own = /** @type {any} */ (uniforms);
      own[this.name].value.dispose();
      own[this.name].value = texture;
      // Pixel centres lie on posts.
      const pixel = grid.spacing * step;
      const [north, west] = [-yOf(posts[0]) - pixel / 2, xOf(posts[1]) - pixel / 2];
      own[this.at].value.set(west, north, 1 / (picture.width * pixel), 1 / (picture.height * pixel));
      this.window = posts;
      this.of = of;
      window.fern.sunlit = { ...window.fern.sunlit, [this.name]: of };
    } catch {
      // It is asked for again when something has changed, or the eye has moved on.
      this.window = null;
    } finally {
      this.loading = false;
      request();
    }
  }

  /** Show nothing of it. */
  hide() {
    /** @type {any} */ (uniforms)[this.at].value.set(0, 0, 0, 0);
    this.stale = true;
  }
}

/** Of each sort all of the land, and what is near. */
const PAIRS = /** @type {const} */ ([
  [new Falling("sunlit", "sunlitFar", "farAt"), new Falling("sunlit", "sunlitNear", "nearAt")],
  [new Falling("lamplit", "lampsFar", "lampsFarAt"), new Falling("lamplit", "lampsNear", "lampsNearAt")],
]);
const whole = Math.max(grid.rows, grid.cols);
const farStep = 2 ** Math.max(0, Math.ceil(Math.log2(whole / FAR)));

/** Have the light on the land, as it is looked at around (x, y). @param {number} x @param {number} y @param {number} away how far off that is [m] @param {() => void} request ask for another frame */
export function seeSunlit(x, y, away, request) {
  const wanted = [state.show.shadows || lit.now.shares, lit.now.lux > 0 && lit.now.lux < DAY_LUX];
  PAIRS.forEach(([far, near], i) => {
    if (wanted[i]) see(far, near, x, y, away, request);
    else for (const one of [far, near]) one.hide();
  });
}

/** @param {Falling} far @param {Falling} near @param {number} x @param {number} y @param {number} away @param {() => void} request */
function see(far, near, x, y, away, request) {
  if (state.drawing) return;
  // While the sun is turned half as fine will do.
  const step = farStep * (state.sun ? 2 : 1);
  if (!far.loading && (far.stale || far.of !== now(far.path, step)))
    far.load([0, 0, grid.rows, grid.cols], step, request);
  // Where all of the land is as fine, or is looked at from far above, nothing finer is seen.
  if (farStep === 1 || away > NEAR * grid.spacing) {
    near.hide();
    return;
  }
  const [row, col] = [clamp(rowOf(y), 0, grid.rows), clamp(colOf(x), 0, grid.cols)];
  const w = near.window;
  const gone = !w || Math.max(Math.abs(row - (w[0] + w[2]) / 2), Math.abs(col - (w[1] + w[3]) / 2)) > MOVED;
  const first = [row, col].map((at, i) =>
    Math.floor(clamp(at - NEAR / 2, 0, Math.max(0, (i ? grid.cols : grid.rows) - NEAR))),
  );
  const window = [...first, Math.min(first[0] + NEAR, grid.rows), Math.min(first[1] + NEAR, grid.cols)];
  const same = w?.join() === window.join();
  if (!near.loading && (near.stale || near.of !== now(near.path, 1) || (gone && !same))) near.load(window, 1, request);
}

const anew = () => {
  for (const pair of PAIRS) for (const one of pair) one.stale = true;
};
heed("stale", (message) => message.layers.every((/** @type {string} */ layer) => layer === "cover") || anew());
heed("all-stale", anew);
watch(() => [state.shown, state.past, state.grows, state.at.lamps], anew);
