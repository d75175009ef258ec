// Triangles over a lattice of posts with a skirt around it, which hides the gap to a neighbour that is drawn otherwise.
// Vertices lie row by row; the first and last of each row, and the first and last row, are the skirt.

/** @type {Map<string, Uint32Array>} */
const whole = new Map();

/** Every post of a lattice is drawn. @param {number} rows @param {number} cols */
export function everyPost(rows, cols) {
  const key = `${rows}/${cols}`;
  let list = whole.get(key);
  if (!list) {
    const wide = cols + 2;
    list = new Uint32Array((rows + 1) * (cols + 1) * 6);
    let k = 0;
    for (let r = 0; r <= rows; r += 1) {
      for (let c = 0; c <= cols; c += 1) {
        const a = r * wide + c;
        list.set([a, a + wide, a + 1, a + 1, a + wide, a + wide + 1], k);
        k += 6;
      }
    }
    whole.set(key, list);
  }
  return list;
}

/** The four sides of a cell, clockwise from its north: where each begins, which way it goes, and which neighbour shares it. */
const SIDES = [
  { from: [0, 0], way: [0, 1], beyond: [-1, 0] },
  { from: [0, 1], way: [1, 0], beyond: [0, 1] },
  { from: [1, 1], way: [0, -1], beyond: [1, 0] },
  { from: [1, 0], way: [-1, 0], beyond: [0, -1] },
];

/**
 * A lattice in cells: every post is drawn in those that are fine, the corners in the others, and what a fine neighbour
 * needs along the side that they share: there is no gap between them.
 * @param {number} rows @param {number} cols @param {number} size posts along a cell; divides both sides of the lattice
 * @param {(i: number, j: number) => boolean} fine of a cell by its row and column
 */
export function inCells(rows, cols, size, fine) {
  const wide = cols + 2;
  const [down, across] = [(rows - 1) / size, (cols - 1) / size];
  /** @type {number[]} */
  const list = [];
  const at = (/** @type {number} */ r, /** @type {number} */ c) => (r + 1) * wide + c + 1;
  for (let i = 0; i < down; i += 1) {
    for (let j = 0; j < across; j += 1) {
      const own = fine(i, j);
      if (own)
        for (let r = i * size; r < (i + 1) * size; r += 1)
          for (let c = j * size; c < (j + 1) * size; c += 1)
            list.push(at(r, c), at(r + 1, c), at(r, c + 1), at(r, c + 1), at(r + 1, c), at(r + 1, c + 1));
      /** @type {number[]} */
      const rim = [];
      for (const { from, way, beyond } of SIDES) {
        const [ni, nj] = [i + beyond[0], j + beyond[1]];
        const inside = ni >= 0 && nj >= 0 && ni < down && nj < across;
        const every = own || (inside && fine(ni, nj)) ? 1 : size;
        for (let k = 0; k < size; k += every) {
          const [r, c] = [(i + from[0]) * size + way[0] * k, (j + from[1]) * size + way[1] * k];
          rim.push(at(r, c));
          if (inside) continue;
          const [r1, c1] = [r + way[0] * every, c + way[1] * every];
          const [out, out1] = [at(r + beyond[0], c + beyond[1]), at(r1 + beyond[0], c1 + beyond[1])];
          list.push(out, at(r, c), out1, out1, at(r, c), at(r1, c1));
        }
      }
      if (own) continue;
      if (rim.length === 4) list.push(rim[0], rim[3], rim[1], rim[1], rim[3], rim[2]);
      else {
        const middle = at((i + 0.5) * size, (j + 0.5) * size);
        rim.forEach((post, k) => list.push(post, middle, rim[(k + 1) % rim.length]));
      }
    }
  }
  return new Uint32Array(list);
}
