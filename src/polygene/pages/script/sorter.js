/** The sorter: a thread of its own that puts texts in order while the reader looks at something else. */
import { ranksOfTexts } from "./ordering.js";

/** The worker's side. */
export function rankOnDemand({ number, values }) {
  return { number, ranks: ranksOfTexts(values) };
}

/** The page's side. */
export class Sorter {
  /** @param {string} address of this page's own script, which the worker runs too */
  constructor(address) {
    this.worker = new Worker(address);
    this.waiting = new Map();
    this.worker.onmessage = ({ data }) => {
      this.waiting.get(data.number)(data.ranks);
      this.waiting.delete(data.number);
    };
  }

  /** @param {(string | null)[]} values @returns {Promise<Float64Array>} */
  ranks(values) {
    const number = this.waiting.size ? Math.max(...this.waiting.keys()) + 1 : 0;
    return new Promise((done) => {
      this.waiting.set(number, done);
      this.worker.postMessage({ kind: "ranks", number, values });
    });
  }
}
