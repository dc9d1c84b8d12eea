/** A layer on the page: geometry, looks, fields, and what the reader has done with it. */
import { Column } from "./columns.js";
import { Shape } from "./shape.js";
import { Tree } from "./tree.js";

export class Layer {
  /**
   * @param {object} given the page's description of it
   * @param {number} id its place among the layers as they were given
   */
  constructor(given, id) {
    Object.assign(this, given);
    this.id = id;
    this.away = new Set(given.away); // rows too far off to have a place on this map
    this.isShown = true;
    this.opacity = 1;
    /** @type {Set<number>} rows that are chosen */
    this.chosen = new Set();
    /** @type {Uint8Array | null} rows that the map shows, all if null */
    this.mask = null;
    this.columns = [];
  }

  /** Open what the map needs. */
  async open(blocks, sorter) {
    this.columns = this.fields.map((field) => new Column(field, blocks, sorter));
    const { packed } = this;
    if (!packed) {
      this.shape = new Shape("none", new Int32Array(0), ...[1, 1, this.n + 1].map((n) => new Uint32Array(n)));
    } else {
      const [xs, ys, sizes, rings, rows] = await Promise.all([
        blocks.steps(packed.x),
        blocks.steps(packed.y),
        blocks.offsets(packed.vertices),
        blocks.offsets(packed.rings),
        blocks.counts(packed.parts),
      ]);
      this.shape = new Shape(this.family, twined(xs, ys), sizes, rings, this.partsOf(rows));
    }
    this.given = this.numbers === null ? null : await blocks.counts(this.numbers);
    this.tree = new Tree(this.shape.boxes);
    this.classOf =
      packed && packed.classes !== null ? await blocks.counts(packed.classes) : new Uint32Array(this.n);
    this.order = inOrder(this.classOf, this.look.colours.length);
    this.spots = null;
    if (packed && packed.spots) {
      const [xs, ys] = await Promise.all(packed.spots.map((number) => blocks.steps(number)));
      this.spots = twined(xs, ys);
    }
    await this.label(this.labelled);
  }

  /** Offsets of rows into parts; a count is one more than there are, and 0 of a row without geometry. */
  partsOf(counts) {
    const found = new Uint32Array(this.n + 1);
    this.nulls = new Uint8Array(this.n);
    for (let row = 0; row < this.n; row++) {
      found[row + 1] = found[row] + Math.max(0, counts[row] - 1);
      this.nulls[row] = Number(counts[row] === 0);
    }
    return found;
  }

  /** What number a row has in its file. */
  numberOf(row) {
    return this.given ? this.given[row] : row + 1;
  }

  isNull(row) {
    return !this.nulls || this.nulls[row] === 1;
  }

  /** Label by a field, the largest features first. @param {number | null} field */
  async label(field) {
    this.labels = null;
    if (field === null || !this.spots) return;
    const values = await this.columns[field].open();
    const { boxes } = this.shape;
    const size = (row) => (boxes[4 * row + 2] - boxes[4 * row]) * (boxes[4 * row + 3] - boxes[4 * row + 1]);
    const sizes = Float64Array.from(values, (_, row) => (this.shape.isEmpty(row) ? -1 : size(row)));
    const rows = Uint32Array.from(values.keys()).filter((row) => values[row] !== null && sizes[row] >= 0);
    rows.sort((a, b) => sizes[b] - sizes[a] || a - b);
    this.labels = { rows, texts: Array.from(rows, (row) => String(values[row])) };
  }

  /** What the painter needs of it. */
  forPainter() {
    const { family, xy, ringVertices, partRings, rowParts } = this.shape;
    const shape = { family, xy, ringVertices, partRings, rowParts };
    const { look, classOf, order, spots, labels } = this;
    return { shape, look, classOf, order, spots, labels };
  }

  /** The box of rows, null if none has a place. @param {Iterable<number>} rows */
  boxOf(rows) {
    const box = [Infinity, Infinity, -Infinity, -Infinity];
    const { boxes } = this.shape;
    for (const row of rows) {
      if (this.shape.isEmpty(row)) continue;
      box[0] = Math.min(box[0], boxes[4 * row]);
      box[1] = Math.min(box[1], boxes[4 * row + 1]);
      box[2] = Math.max(box[2], boxes[4 * row + 2]);
      box[3] = Math.max(box[3], boxes[4 * row + 3]);
    }
    return box[0] > box[2] ? null : box;
  }

  /** What a row is called: its label, its first text, or its number. */
  nameOf(row) {
    const column = this.columns[this.labelled ?? this.columns.findIndex((c) => c.kind === "text")];
    column?.open(); // the next time it is known
    const value = column?.values?.[row];
    return value === undefined || value === null ? "" : String(value);
  }
}

function twined(xs, ys) {
  const xy = new Int32Array(2 * xs.length);
  for (let k = 0; k < xs.length; k++) {
    xy[2 * k] = xs[k];
    xy[2 * k + 1] = ys[k];
  }
  return xy;
}

/** Rows class by class, in each from the first to the last. */
function inOrder(classOf, n) {
  const starts = new Uint32Array(n + 1);
  for (const k of classOf) starts[k + 1]++;
  for (let k = 0; k < n; k++) starts[k + 1] += starts[k];
  const order = new Uint32Array(classOf.length);
  classOf.forEach((k, row) => (order[starts[k]++] = row));
  return order;
}
