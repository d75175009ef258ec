// A model as a small drawing on paper: turned, lit from above, with a person of 1.8 m beside it for its size.

/** How tall a person is. [m] */
export const PERSON_M = 1.8;

/**
 * Draw triangles seen from a little above, the farthest first.
 * @param {CanvasRenderingContext2D} pen
 * @param {Float32Array} corners x, y, z up, normal, colour, and what else each corner has
 * @param {{stride: number, scale: number, middle: number, ground: number, turn?: number, above?: number}} how
 *   `scale` [px/m], where its foot stands [px], turned about its axis and seen from above [rad]
 */
export function paintModel(pen, corners, { stride, scale, middle, ground, turn = 0, above = 0 }) {
  const [cos, sin] = [Math.cos(turn), Math.sin(turn)];
  const [high, flat] = [Math.sin(above), Math.cos(above)];
  const count = corners.length / stride / 3;
  const at = new Float32Array(count * 6);
  const depth = new Float32Array(count);
  for (let i = 0; i < count * 3; i += 1) {
    const [x, y, z] = [corners[i * stride], corners[i * stride + 1], corners[i * stride + 2]];
    const across = x * cos + y * sin;
    const away = y * cos - x * sin;
    at[i * 2] = middle + across * scale;
    at[i * 2 + 1] = ground - (z * flat + away * high) * scale;
    depth[Math.floor(i / 3)] += away * flat - z * high;
  }
  const order = Array.from({ length: count }, (_, t) => t).sort((a, b) => depth[b] - depth[a]);
  pen.lineWidth = 0.6;
  for (const t of order) {
    const first = t * 3 * stride;
    const [east, north, up] = [corners[first + 3], corners[first + 4], corners[first + 5]];
    const [aside, ahead] = [east * cos + north * sin, north * cos - east * sin];
    // Who looks away is not seen.
    if (ahead * flat - up * high > 0.02 && above) continue;
    const light = 0.66 + 0.34 * Math.max(0, up * 0.7 + aside * 0.45 - ahead * 0.4);
    const ink = [6, 7, 8].map((i) => Math.round(255 * Math.min(1, corners[first + i] * light)));
    pen.fillStyle = pen.strokeStyle = `rgb(${ink.join()})`;
    pen.beginPath();
    for (const i of [0, 1, 2]) pen.lineTo(at[(t * 3 + i) * 2], at[(t * 3 + i) * 2 + 1]);
    pen.closePath();
    pen.fill();
    pen.stroke();
  }
}

/** A person beside it. @param {CanvasRenderingContext2D} pen @param {number} x @param {number} ground @param {number} scale [px/m] */
export function paintPerson(pen, x, ground, scale) {
  pen.fillStyle = "#56605a";
  pen.fillRect(x - 0.22 * scale, ground - 1.5 * scale, 0.44 * scale, 1.5 * scale);
  pen.beginPath();
  pen.arc(x, ground - 1.65 * scale, 0.15 * scale, 0, 7);
  pen.fill();
}
