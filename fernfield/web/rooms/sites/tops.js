// Marks on what can be stood on: on the plan over the pieces, in three dimensions on their tops.
import { drape } from "/static/js/seen/drawn/draped3d.js";
import { addStill, drawOverlay, inView } from "/static/js/seen/drawn/overlay.js";
import { metresPerPixel, screenAt } from "/static/js/seen/drawn/plan.js";
import { each, row } from "/static/js/seen/rows.js";
import { state, watch } from "/static/js/seen/state.js";
import { kit } from "./kit.js";
import { holding, isHidden, partsOf, placeOf } from "./marks.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */
/** @typedef {{decal: string, thing: string, number: number, triangles: number[]}} OnTop */

const base = `/api/worlds/${state.world.id}`;
const CORNER = 5;
/** Things that change together are asked for once. [ms] */
const TOGETHER = 120;

/** What lies on tops, as it was told last; counts up. */
const known = { tops: /** @type {OnTop[]} */ ([]), turns: 0 };
/** Pictures in their colours, by where they come from and the colour. @type {Map<string, HTMLCanvasElement | null>} */
const pictures = new Map();

/** @param {Row} decal */
const pathOf = (decal) =>
  `${base}/decals/${decal.key}/picture.png?of=${encodeURIComponent(`${decal.picture} ${decal.text}`)}`;

async function ask() {
  let tops = [];
  if ([...each("decals")].some((one) => one.tops)) {
    const answer = await fetch(`${base}/decals-on-tops`);
    // It is asked for again when rows have changed.
    if (!answer.ok) return;
    tops = await answer.json();
  }
  Object.assign(known, { tops, turns: known.turns + 1 });
  show();
}

function show() {
  drape(
    known.tops.flatMap(({ decal, thing, number, triangles }) => {
      const [own, on] = [row("decals", decal), row("things", thing)];
      if (!own || !on || isHidden(on)) return [];
      return [{ key: thing, number, triangles, picture: pathOf(own), colour: own.colour, strength: own.strength }];
    }),
  );
  drawOverlay();
}

let waiting = 0;
watch(
  () => [state.at.decals, state.at.things, state.at.assemblies, state.at.groups, kit.all],
  () => {
    clearTimeout(waiting);
    waiting = setTimeout(ask, TOGETHER);
  },
);

/** A decal's picture in its colour; null until it has come. @param {Row} decal */
function pictureOf(decal) {
  const path = pathOf(decal);
  const key = `${path} ${decal.colour}`;
  if (!pictures.has(key)) {
    pictures.set(key, null);
    const image = new Image();
    image.onload = () => {
      const canvas = document.createElement("canvas");
      Object.assign(canvas, { width: image.width, height: image.height });
      const context = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
      context.drawImage(image, 0, 0);
      context.globalCompositeOperation = "source-in";
      context.fillStyle = decal.colour;
      context.fillRect(0, 0, canvas.width, canvas.height);
      pictures.set(key, canvas);
      known.turns += 1;
      drawOverlay();
    };
    image.src = path;
  }
  return pictures.get(key) ?? null;
}

/** What of a piece it marks, as a path of the plan. @param {CanvasRenderingContext2D} context @param {OnTop} top @param {Row} thing */
function pathOn(context, { number, triangles }, thing) {
  const part = partsOf(thing)[number];
  if (!part) return false;
  const { x, y, turn } = placeOf(thing);
  const [own, all] = [turn, turn + part.turn].map((angle) => (angle * Math.PI) / 180);
  const east = x + part.right * Math.cos(own) + part.ahead * Math.sin(own);
  const north = y - part.right * Math.sin(own) + part.ahead * Math.cos(own);
  const [cos, sin] = [Math.cos(all), Math.sin(all)];
  context.beginPath();
  for (let i = 0; i < triangles.length; i += CORNER) {
    const [right, ahead] = [triangles[i] * part.size, triangles[i + 1] * part.size];
    const at = screenAt(east + right * cos + ahead * sin, north - right * sin + ahead * cos);
    if (i % (3 * CORNER)) context.lineTo(...at);
    else context.moveTo(...at);
  }
  return true;
}

/** @param {CanvasRenderingContext2D} context */
function draw(context) {
  for (const top of known.tops) {
    const [thing, decal] = [row("things", top.thing), row("decals", top.decal)];
    if (!thing || !decal || isHidden(thing) || !inView(decal)) continue;
    const [wide, deep] = [decal.width_m / metresPerPixel(), decal.depth_m / metresPerPixel()];
    const picture = Math.max(wide, deep) > 3 ? pictureOf(decal) : null;
    context.save();
    if (picture && pathOn(context, top, thing)) {
      context.clip();
      context.globalAlpha = decal.strength;
      context.translate(...screenAt(decal.x, decal.y));
      context.rotate((decal.turn_deg * Math.PI) / 180);
      context.drawImage(picture, -wide / 2, -deep / 2, wide, deep);
    }
    context.restore();
  }
}
addStill(
  () => `${known.turns} ${state.at.things} ${holding.dx} ${holding.dy} ${holding.turn}`,
  (context) => known.tops.length > 0 && draw(context),
);
