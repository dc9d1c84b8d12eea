/**
 * Boxes in a packed tree: sorted along a Hilbert curve, sixteen to a node, all in one array
 * (Kamel and Faloutsos 1993). Only what lies near the place asked about is looked at.
 */

const WIDTH = 16;

/** Where a place of 2^16 by 2^16 lies along the curve. @returns {number} */
function hilbert(x, y) {
  let found = 0;
  for (let side = 0x8000; side > 0; side >>= 1) {
    const right = (x & side) > 0 ? 1 : 0;
    const up = (y & side) > 0 ? 1 : 0;
    found = found * 4 + ((3 * right) ^ up);
    if (up === 0) {
      if (right === 1) {
        x = 0xffff - x;
        y = 0xffff - y;
      }
      [x, y] = [y, x];
    }
  }
  return found;
}

export class Tree {
  /** @param {Int32Array} boxes four numbers a row; those of empty rows are turned round */
  constructor(boxes) {
    const rows = [];
    let [x0, y0, x1, y1] = [Infinity, Infinity, -Infinity, -Infinity];
    for (let row = 0; row < boxes.length / 4; row++) {
      if (boxes[4 * row] > boxes[4 * row + 2]) continue;
      rows.push(row);
      x0 = Math.min(x0, boxes[4 * row]);
      y0 = Math.min(y0, boxes[4 * row + 1]);
      x1 = Math.max(x1, boxes[4 * row + 2]);
      y1 = Math.max(y1, boxes[4 * row + 3]);
    }
    const [wide, tall] = [0xffff / (x1 - x0 || 1), 0xffff / (y1 - y0 || 1)];
    const places = new Float64Array(boxes.length / 4);
    for (const row of rows) {
      const x = ((boxes[4 * row] + boxes[4 * row + 2]) / 2 - x0) * wide;
      const y = ((boxes[4 * row + 1] + boxes[4 * row + 3]) / 2 - y0) * tall;
      places[row] = hilbert(Math.floor(x), Math.floor(y));
    }
    this.rows = Uint32Array.from(rows).sort((a, b) => places[a] - places[b]);
    /** @type {Int32Array[]} the boxes of each storey, the rows' own first */
    this.storeys = [];
    let below = new Int32Array(4 * rows.length);
    this.rows.forEach((row, k) => below.set(boxes.subarray(4 * row, 4 * row + 4), 4 * k));
    for (;;) {
      this.storeys.push(below);
      if (below.length <= 4 * WIDTH) break;
      below = gathered(below);
    }
  }

  /** @returns {number[]} the rows whose boxes meet a box, from the first to the last */
  meeting(x0, y0, x1, y1) {
    let nodes = [0];
    for (let storey = this.storeys.length; storey > 0; storey--) {
      const boxes = this.storeys[storey - 1];
      const n = boxes.length / 4;
      const met = [];
      for (const node of nodes) {
        for (let k = node * WIDTH; k < Math.min(n, (node + 1) * WIDTH); k++) {
          const [a, b] = [boxes[4 * k] <= x1, boxes[4 * k + 1] <= y1];
          if (a && b && boxes[4 * k + 2] >= x0 && boxes[4 * k + 3] >= y0) met.push(k);
        }
      }
      nodes = met;
    }
    return nodes.map((k) => this.rows[k]).sort((a, b) => a - b);
  }
}

/** @param {Int32Array} below boxes of a storey @returns {Int32Array} those of the one above */
function gathered(below) {
  const above = new Int32Array(4 * Math.ceil(below.length / 4 / WIDTH));
  for (let node = 0; node < above.length / 4; node++) {
    const box = below.slice(4 * node * WIDTH, 4 * node * WIDTH + 4);
    const stop = Math.min(below.length / 4, (node + 1) * WIDTH);
    for (let k = node * WIDTH; k < stop; k++) {
      box[0] = Math.min(box[0], below[4 * k]);
      box[1] = Math.min(box[1], below[4 * k + 1]);
      box[2] = Math.max(box[2], below[4 * k + 2]);
      box[3] = Math.max(box[3], below[4 * k + 3]);
    }
    above.set(box, 4 * node);
  }
  return above;
}
