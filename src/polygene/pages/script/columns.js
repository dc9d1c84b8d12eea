/** Fields of a layer, opened when they are first asked for. */
import { make } from "./dom.js";

const ENDLESS = { inf: Infinity, "-inf": -Infinity };

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

  /** What no number of a browser is comes as text: whole ones stay exact. @returns {number | bigint} */
  number(row) {
    const value = this.values[row];
    if (typeof value !== "string") return value ?? NaN;
    if (/^-?\d+$/.test(value)) return BigInt(value);
    return value in ENDLESS ? ENDLESS[value] : Number(value);
  }

  /** Where the values of rows stand among all, nulls NaN. @returns {Promise<Float64Array>} */
  ranks() {
    this.ranking ??= this.open().then((values) => {
      if (this.kind === "text") return this.sorter.ranks(values);
      const numbers = values.map((_, row) => this.number(row));
      return numbers.some((number) => typeof number === "bigint")
        ? ranked(numbers)
        : Float64Array.from(numbers);
    });
    return this.ranking;
  }
}

/** Where numbers stand among all, NaN where there is none. @returns {Float64Array} */
function ranked(numbers) {
  const ranks = new Float64Array(numbers.length).fill(NaN);
  const order = [...numbers.keys()].filter((row) => numbers[row] === numbers[row]);
  order.sort((a, b) => (numbers[a] < numbers[b] ? -1 : numbers[a] > numbers[b] ? 1 : 0));
  order.forEach((row, k) => {
    ranks[row] = k && numbers[row] === numbers[order[k - 1]] ? ranks[order[k - 1]] : k;
  });
  return ranks;
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
