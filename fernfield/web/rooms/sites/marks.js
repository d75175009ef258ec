// Pieces, assemblies and starts on the plan: their true outlines in their colours, the team's mark, what is chosen.
import { addStill, drawOverlay, HANDLE, inView, name } from "/static/js/seen/drawn/overlay.js";
import { metresPerPixel, screenAt } from "/static/js/seen/drawn/plan.js";
import { each, peek, row as rowOf } from "/static/js/seen/rows.js";
import { boot, state } from "/static/js/seen/state.js";
import { drawnEntry, kit } from "./kit.js";

/** @typedef {import("/static/js/seen/rows.js").Row} Row */
/** @typedef {import("./kit.js").Entry} Entry */

const INK = "#1e2925";
const RUST = "#a2431f";
/** Smaller than so many pixels a piece is a dot. */
const DOT_PX = 5;

/** What is chosen, and how it is moved and turned while the hand has hold of it. Set by the choosing. */
export const holding = {
  /** @type {Set<string>} */ keys: new Set(),
  /** Counts up whenever others are chosen. */
  turns: 0,
  dx: 0,
  dy: 0,
  turn: 0,
  /** @type {{x: number, y: number} | null} */ about: null,
  each: false,
};
/** What a round leaves out: drawn faintly. */
const round = { out: /** @type {Set<string>} */ (new Set()), turns: 0 };
/** @param {string[]} keys */
export function leaveOut(keys) {
  round.out = new Set(keys);
  round.turns += 1;
  drawOverlay();
}

/** Where a row is drawn, and how it is turned, with what the hand does to it. @param {Row} thing */
export function placeOf(thing) {
  let { x, y, turn_deg: turn } = thing;
  if (!holding.keys.has(thing.key)) return { x, y, turn };
  if (holding.turn) {
    turn += holding.turn;
    if (holding.about && !holding.each) {
      const angle = (holding.turn * Math.PI) / 180;
      const [east, north] = [x - holding.about.x, y - holding.about.y];
      x = holding.about.x + east * Math.cos(angle) + north * Math.sin(angle);
      y = holding.about.y - east * Math.sin(angle) + north * Math.cos(angle);
    }
  }
  return { x: x + holding.dx, y: y + holding.dy, turn };
}

window.fern.placeOf = placeOf;

/** The pieces of a row: one, or those of an assembly or a wall. @param {Row} thing @returns {{kit: string, right: number, ahead: number, turn: number, size: number}[]} */
export function partsOf(thing) {
  const size = thing.size ?? 1;
  if (thing.sort === "assembly" || thing.sort === "wall")
    return (thing.members ?? []).map((/** @type {any} */ one) => ({
      kit: one.kit,
      right: one.x * size,
      ahead: one.y * size,
      turn: one.turn_deg,
      size: one.size * size,
    }));
  return [{ kit: thing.kit, right: 0, ahead: 0, turn: 0, size }];
}

/** A hidden thing, or one of a hidden group, is not drawn. @param {Row} thing */
export function isHidden(thing) {
  if (thing.hidden) return true;
  let at = thing.group;
  for (let deep = 0; at && deep < 9; deep += 1) {
    const group = rowOf("groups", at);
    if (group?.hidden) return true;
    at = group?.within;
  }
  return false;
}

/** The path of an entry's outline about a place of the canvas. @param {CanvasRenderingContext2D} context @param {Entry} entry @param {number} x @param {number} y @param {number} turn in degrees @param {number} size */
function outline(context, entry, x, y, turn, size) {
  const angle = (turn * Math.PI) / 180;
  const [cos, sin] = [Math.cos(angle), Math.sin(angle)];
  context.beginPath();
  for (const polygon of entry.outline) {
    polygon.forEach(([right, ahead], k) => {
      const at = screenAt(x + (right * cos + ahead * sin) * size, y + (ahead * cos - right * sin) * size);
      if (k) context.lineTo(...at);
      else context.moveTo(...at);
    });
    context.closePath();
  }
}

/** Draw the pieces of a thing at a place. @param {CanvasRenderingContext2D} context @param {{kit: string, right: number, ahead: number, turn: number, size: number}[]} parts @param {{x: number, y: number, turn: number}} place @param {string | null} tint */
export function drawParts(context, parts, { x, y, turn }, tint = null) {
  const angle = (turn * Math.PI) / 180;
  const [cos, sin] = [Math.cos(angle), Math.sin(angle)];
  for (const part of parts) {
    const entry = drawnEntry(part.kit);
    if (!entry) continue;
    const [px, py] = [x + part.right * cos + part.ahead * sin, y - part.right * sin + part.ahead * cos];
    context.fillStyle = tint ?? entry.colour;
    if ((Math.max(entry.width, entry.depth) * part.size) / metresPerPixel() < DOT_PX) {
      const [sx, sy] = screenAt(px, py);
      context.fillStyle = context.strokeStyle;
      context.fillRect(sx - 2.5, sy - 2.5, 5, 5);
      context.fillStyle = tint ?? entry.colour;
      context.fillRect(sx - 1.6, sy - 1.6, 3.2, 3.2);
      continue;
    }
    outline(context, entry, px, py, turn + part.turn, part.size);
    context.fill();
    context.stroke();
    // A short line ahead says which way it faces.
    const facing = ((turn + part.turn) * Math.PI) / 180;
    const front = (entry.depth / 2) * part.size;
    context.beginPath();
    context.moveTo(...screenAt(px, py));
    context.lineTo(...screenAt(px + Math.sin(facing) * front, py + Math.cos(facing) * front));
    context.stroke();
  }
}

/** @type {Record<string, number[][]>} */
export const MARKS = {
  triangle: [
    [-5, 4],
    [0, -5],
    [5, 4],
  ],
  square: [
    [-4, -4],
    [4, -4],
    [4, 4],
    [-4, 4],
  ],
  diamond: [
    [0, -5],
    [5, 0],
    [0, 5],
    [-5, 0],
  ],
  bar: [
    [-5, -2],
    [5, -2],
    [5, 2],
    [-5, 2],
  ],
  chevron: [
    [-5, 4],
    [0, -4],
    [5, 4],
    [0, 0],
  ],
};

/** A team as it was said, or as it comes. @param {number | null | undefined} number @returns {{name: string, mark: string, colour: string} | null} */
export function teamOf(number) {
  if (!number) return null;
  for (const one of each("teams")) if (one.number === number) return /** @type {any} */ (one);
  return boot.teams.find((one) => one.team === number) ?? null;
}

/** The mark of a team, drawn around (0, 0): never by colour alone. @param {CanvasRenderingContext2D} context @param {string} name @param {string} colour */
function mark(context, name, colour) {
  context.fillStyle = colour;
  context.strokeStyle = colour;
  context.lineWidth = 2;
  context.beginPath();
  if (MARKS[name]) {
    MARKS[name].forEach(([x, y], i) => (i ? context.lineTo(x, y) : context.moveTo(x, y)));
    context.closePath();
    context.fill();
  } else if (name === "cross") {
    context.moveTo(-4, -4);
    context.lineTo(4, 4);
    context.moveTo(4, -4);
    context.lineTo(-4, 4);
    context.stroke();
  } else {
    context.arc(0, 0, name === "dot" ? 3 : 4, 0, 7);
    if (name === "dot") context.fill();
    else context.stroke();
  }
}

/** @param {CanvasRenderingContext2D} context @param {Row} thing @param {boolean} chosen */
function start(context, thing, chosen) {
  const place = placeOf(thing);
  const [x, y] = screenAt(place.x, place.y);
  const team = teamOf(thing.team);
  context.save();
  context.translate(x, y);
  context.save();
  context.rotate((place.turn * Math.PI) / 180);
  context.beginPath();
  context.moveTo(0, 0);
  context.arc(0, 0, 36, -Math.PI / 2 - 0.42, -Math.PI / 2 + 0.42);
  context.closePath();
  context.fillStyle = "rgba(250, 248, 241, .75)";
  context.fill();
  context.strokeStyle = INK;
  context.lineWidth = 0.8;
  context.stroke();
  context.restore();
  context.beginPath();
  context.arc(0, 0, thing.default ? 11 : 9, 0, 7);
  context.fillStyle = "#faf8f1";
  context.fill();
  context.lineWidth = chosen ? 2.6 : thing.default ? 2 : 1.2;
  context.strokeStyle = chosen ? RUST : INK;
  context.stroke();
  mark(context, team?.mark || "dot", team?.colour || "#56605a");
  context.restore();
  name(thing.name, x + 12, y + 24, context);
}

/** @param {CanvasRenderingContext2D} context @param {Row} thing @param {boolean} chosen */
function piece(context, thing, chosen) {
  const place = placeOf(thing);
  context.strokeStyle = chosen ? RUST : INK;
  context.lineWidth = chosen ? 2.2 : 0.9;
  drawParts(context, partsOf(thing), place, thing.tint);
  const [x, y] = screenAt(place.x, place.y);
  const team = teamOf(thing.team);
  if (team) {
    context.save();
    context.translate(x, y);
    mark(context, team.mark, team.colour);
    context.restore();
  }
  if (thing.locked && chosen) name("locked", x + 10, y + 32, context);
  const alone = chosen && holding.keys.size === 1;
  if (alone || (!chosen && thing.resource && !thing.scatter && metresPerPixel() < 3) || metresPerPixel() < 0.35)
    name(thing.name, x + 10, y + 18, context);
}

/** The handle that turns what is chosen, from the point that it is turned about. @param {CanvasRenderingContext2D} context @param {{x: number, y: number}} about @param {number} turn in degrees */
export function handle(context, about, turn) {
  const [x, y] = screenAt(about.x, about.y);
  const angle = (turn * Math.PI) / 180;
  const [hx, hy] = [x + Math.sin(angle) * HANDLE, y - Math.cos(angle) * HANDLE];
  context.strokeStyle = RUST;
  context.lineWidth = 1.2;
  context.beginPath();
  context.moveTo(x, y);
  context.lineTo(hx, hy);
  context.stroke();
  context.beginPath();
  context.arc(hx, hy, 5, 0, 7);
  context.fillStyle = "#faf8f1";
  context.fill();
  context.stroke();
}

/** A cross where all are turned about. @param {CanvasRenderingContext2D} context @param {{x: number, y: number}} about */
export function turningPoint(context, about) {
  const [x, y] = screenAt(about.x, about.y);
  context.strokeStyle = RUST;
  context.lineWidth = 1.4;
  context.beginPath();
  for (const [dx, dy] of [
    [6, 6],
    [6, -6],
  ]) {
    context.moveTo(x - dx, y - dy);
    context.lineTo(x + dx, y + dy);
  }
  context.stroke();
}

/** Draw things, the starts over the others. @param {CanvasRenderingContext2D} context @param {Iterable<Row>} some @param {boolean} chosen */
function things(context, some, chosen) {
  const starts = [];
  for (const thing of some) {
    if (isHidden(thing) || !inView(thing)) continue;
    if (thing.sort === "start") {
      starts.push(thing);
      continue;
    }
    context.globalAlpha = round.out.has(thing.key) ? 0.3 : 1;
    piece(context, thing, chosen);
  }
  for (const thing of starts) {
    context.globalAlpha = round.out.has(thing.key) ? 0.3 : 1;
    start(context, thing, chosen);
  }
  context.globalAlpha = 1;
}
const chosen = () => (state.stage === "sites" ? holding.keys : NONE);
/** @type {Set<string>} */
const NONE = new Set();
/** Whether the hand has moved what is chosen, which is then drawn apart from the others: 500 among 20,000. */
const isMoved = () => Boolean(holding.dx || holding.dy || holding.turn);
function* others() {
  const apart = isMoved() ? chosen() : NONE;
  for (const thing of each("things")) if (!apart.has(thing.key)) yield thing;
}
function* own() {
  for (const key of chosen()) {
    const thing = peek("things", key);
    if (thing) yield thing;
  }
}
addStill(
  () =>
    [state.at.things, state.at.groups, state.at.teams, kit.turns, round.turns, isMoved() ? holding.turns : 0].join(" "),
  (context) => things(context, others(), false),
);
addStill(
  () =>
    [
      ...[state.at.things, state.at.groups, state.at.teams, kit.turns, round.turns, chosen() === NONE],
      ...[holding.turns, holding.dx, holding.dy, holding.turn],
    ].join(" "),
  (context) => things(context, own(), true),
);
