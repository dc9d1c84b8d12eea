/** Fields of a layer, opened when they are first asked for. */
import { make } from "./dom.js";

const collator = new Intl.Collator(undefined, { numeric: true });

export class Column {
  /** @param {{name: string, type: string, kind: string, block: number}} given */
  constructor(given, blocks) {
    Object.assign(this, given);
    this.blocks = blocks;
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

  /** Where the values of rows stand among all, nulls NaN. @returns {Float64Array} */
  ranks() {
    if (this.kind === "number") return Float64Array.from(this.values, (_, row) => this.number(row));
    if (this.kind === "yes") return Float64Array.from(this.values, (y) => (y === null ? NaN : Number(y)));
    const distinct = [...new Set(this.values.filter((value) => value !== null))];
    const rank = new Map(distinct.sort(collator.compare).map((value, k) => [value, k]));
    return Float64Array.from(this.values, (value) => (value === null ? NaN : rank.get(value)));
  }
}

/** A value as it stands in a cell. @returns {Node} */
export function cellOf(value) {
  if (value === null || value === undefined) return make("i", { class: "null" }, "null");
  return make("bdi", {}, value === true ? "true" : value === false ? "false" : String(value));
}

/**
 * Rows in the order of a column; nulls come last either way.
 * @param {Uint32Array} rows @param {Float64Array} ranks @param {boolean} falls
 * @returns {Uint32Array}
 */
export function sorted(rows, ranks, falls) {
  const known = rows.filter((row) => ranks[row] === ranks[row]);
  const unknown = rows.filter((row) => ranks[row] !== ranks[row]);
  // Typed arrays sort numbers by their value without asking: the place goes with the rank.
  const order = known.sort((a, b) => ranks[a] - ranks[b] || a - b);
  if (falls) order.reverse();
  const found = new Uint32Array(rows.length);
  found.set(order);
  found.set(unknown, order.length);
  return found;
}
