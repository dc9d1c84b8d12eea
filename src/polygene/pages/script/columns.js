/** Fields of a layer, opened when they are first asked for. */
import { make } from "./dom.js";

export class Column {
  /** @param {{name: string, type: string, kind: string, block: number}} given */
  constructor(given, blocks, sorter) {
    Object.assign(this, given);
    Object.assign(this, { blocks, sorter });
    /** @type {any[] | null} */
    this.values = null;
    this.opening = null;
  }

  /** @returns {Promise<any[]>} */
  open() {
    this.opening ??= this.blocks.json(this.block).then((values) => (this.values = values));
    return this.opening;
  }

  /** Numbers too large for the browser come as text. @returns {number} */
  number(row) {
    const value = this.values[row];
    return value === null ? NaN : Number(value);
  }

  /** Where the values of rows stand among all, nulls NaN. @returns {Promise<Float64Array>} */
  ranks() {
    this.ranking ??= this.open().then((values) => {
      if (this.kind === "text") return this.sorter.ranks(values);
      return Float64Array.from(values, (value, row) => (value === null ? NaN : this.number(row)));
    });
    return this.ranking;
  }
}

/** A value as it stands in a cell. @returns {Node} */
export function cellOf(value) {
  if (value === null || value === undefined) return make("i", { class: "null" }, "null");
  return make("bdi", {}, value === true ? "true" : value === false ? "false" : String(value));
}

/**
 * Rows, given from the first to the last, in the order of a column; nulls come last either way.
 * @param {Uint32Array} rows @param {Float64Array} ranks @param {boolean} falls
 * @param {boolean} isPlaces whether ranks are whole numbers from 0 on, fewer than rows
 * @returns {Uint32Array}
 */
export function sorted(rows, ranks, falls, isPlaces = false) {
  const known = rows.filter((row) => ranks[row] === ranks[row]);
  const unknown = rows.filter((row) => ranks[row] !== ranks[row]);
  const order = isPlaces ? counted(known, ranks) : known.sort((a, b) => ranks[a] - ranks[b] || a - b);
  if (falls) order.reverse();
  const found = new Uint32Array(rows.length);
  found.set(order);
  found.set(unknown, order.length);
  return found;
}

/** Rows sorted by counting how many have each rank. */
function counted(rows, ranks) {
  const most = rows.reduce((found, row) => Math.max(found, ranks[row]), -1);
  const starts = new Uint32Array(most + 2);
  for (const row of rows) starts[ranks[row] + 1]++;
  for (let k = 0; k <= most; k++) starts[k + 1] += starts[k];
  const order = new Uint32Array(rows.length);
  for (const row of rows) order[starts[ranks[row]]++] = row;
  return order;
}
