// Ways of water and their spots, as the bench draws them over the map.
import { screenAt } from "/static/js/seen/drawn/plan.js";

export const WATER = "#1f5a76";

/** A way of water: a pale line under a blue one. @param {CanvasRenderingContext2D} context @param {number[][]} points x, y, ... [m] */
export function drawWay(context, points) {
  context.lineJoin = context.lineCap = "round";
  for (const [colour, width] of /** @type {[string, number][]} */ ([
    ["rgba(250, 248, 241, .85)", 5],
    [WATER, 2.2],
  ])) {
    context.beginPath();
    points.forEach(([x, y], at) => (at ? context.lineTo(...screenAt(x, y)) : context.moveTo(...screenAt(x, y))));
    context.strokeStyle = colour;
    context.lineWidth = width;
    context.stroke();
  }
}

/** A spot of one. @param {CanvasRenderingContext2D} context @param {number[] | null} spot x, y [m] @param {string} [colour] */
export function drawSpot(context, spot, colour = WATER) {
  if (!spot) return;
  const [x, y] = screenAt(spot[0], spot[1]);
  context.beginPath();
  context.arc(x, y, 5, 0, 7);
  context.fillStyle = colour;
  context.strokeStyle = "#faf8f1";
  context.lineWidth = 1.6;
  context.fill();
  context.stroke();
}
