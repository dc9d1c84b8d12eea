/**
 * The geometry of a layer as flat arrays of whole numbers, and simpler copies of it for a look from
 * afar. A row has parts, a part rings, a ring vertices; a line is a part of one ring, and so is a point.
 */

const MOST_LEVEL = 28;

export class Shape {
  /**
   * @param {string} family points, lines, polygons or none
   * @param {Int32Array} xy x and y of each vertex in turn; rings of polygons end where they began
   * @param {Uint32Array} ringVertices offsets of rings into vertices
   * @param {Uint32Array} partRings offsets of parts into rings
   * @param {Uint32Array} rowParts offsets of rows into parts
   */
  constructor(family, xy, ringVertices, partRings, rowParts) {
    Object.assign(this, { family, xy, ringVertices, partRings, rowParts });
    this.n = rowParts.length - 1;
    this.rowRings = rowParts.map((part) => partRings[part]);
    this.boxes = boxesOf(this);
    this.levels = new Map([[0, this]]);
  }

  /** Whether a row has no vertex. @param {number} row */
  isEmpty(row) {
    return this.rowRings[row] === this.rowRings[row + 1];
  }

  /**
   * The same rings with their vertices on a coarser grid, no two alike in a row.
   * @param {number} scale pixels in a unit @returns {{xy: Int32Array, ringVertices: Uint32Array}}
   */
  at(scale) {
    // Steps of the grid are a quarter to a half of a pixel: both sides of a border stay the same.
    const half = Math.floor(Math.log2(0.5 / scale));
    const level = Math.max(0, Math.min(MOST_LEVEL, half - (half % 2)));
    if (!this.levels.has(level)) this.levels.set(level, coarser(this, level));
    return this.levels.get(level);
  }
}

/** @param {Shape} shape @param {number} level power of two of the grid */
function coarser(shape, level) {
  const { xy, ringVertices } = shape;
  const half = 1 << (level - 1);
  const kept = new Int32Array(xy.length);
  const starts = new Uint32Array(ringVertices.length);
  let n = 0;
  for (let ring = 0; ring + 1 < ringVertices.length; ring++) {
    let lastX = NaN;
    let lastY = NaN;
    for (let v = ringVertices[ring]; v < ringVertices[ring + 1]; v++) {
      const x = ((xy[2 * v] + half) >> level) << level;
      const y = ((xy[2 * v + 1] + half) >> level) << level;
      if (x === lastX && y === lastY) continue;
      kept[2 * n] = lastX = x;
      kept[2 * n + 1] = lastY = y;
      n++;
    }
    starts[ring + 1] = n;
  }
  return { xy: kept.slice(0, 2 * n), ringVertices: starts };
}

/** @param {Shape} shape @returns {Int32Array} least x, least y, most x, most y of each row */
function boxesOf({ n, xy, rowRings, ringVertices }) {
  const boxes = new Int32Array(4 * n);
  for (let row = 0; row < n; row++) {
    let [x0, y0, x1, y1] = [0x7fffffff, 0x7fffffff, -0x80000000, -0x80000000];
    for (let v = ringVertices[rowRings[row]]; v < ringVertices[rowRings[row + 1]]; v++) {
      const x = xy[2 * v];
      const y = xy[2 * v + 1];
      if (x < x0) x0 = x;
      if (x > x1) x1 = x;
      if (y < y0) y0 = y;
      if (y > y1) y1 = y;
    }
    boxes.set([x0, y0, x1, y1], 4 * row);
  }
  return boxes;
}
