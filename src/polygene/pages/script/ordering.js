/**
 * Texts in the order of readers: without case and accents, and numbers in them as numbers, so that Bed 9
 * comes before Bed 10. The browser's own collation does the same, and took 1 s for 100,000 where this
 * takes a quarter of one.
 */

const ASCII = /^[\x00-\x7f]*$/; // eslint-disable-line no-control-regex
const [ZERO, NINE, LONGEST] = [48, 57, 60];
const LETTERS = 6; // of 8 bits: as many as a number holds exactly

const isDigit = (code) => code >= ZERO && code <= NINE;

/** What a text is compared by: each number in it with its count of digits in front, and no zeros there. */
function keyOf(text) {
  const plain = ASCII.test(text) ? text : text.normalize("NFKD").replace(/\p{M}+/gu, "");
  const low = plain.toLowerCase();
  let [key, from, k] = ["", 0, 0];
  while (k < low.length) {
    const start = k;
    while (k < low.length && isDigit(low.charCodeAt(k))) k++;
    if (k === start) {
      k++;
      continue;
    }
    let first = start;
    while (first < k - 1 && low.charCodeAt(first) === ZERO) first++;
    key += low.slice(from, start) + String.fromCharCode(ZERO + Math.min(k - first, LONGEST));
    from = first;
  }
  return from ? key + low.slice(from) : low;
}

/**
 * Some letters of each key as a number, which is compared faster. From one that 8 bits do not hold on
 * all are the same: such keys are told apart by themselves.
 * @returns {Float64Array}
 */
function lettersFrom(keys, start) {
  return Float64Array.from(keys, (key) => {
    let sum = 0;
    let isOpen = true;
    for (let k = 0; k < start + LETTERS; k++) {
      const code = k < key.length ? key.charCodeAt(k) : 0;
      if (k >= start) sum = sum * 256 + (isOpen ? Math.min(255, code) : 0);
      isOpen &&= code < 255;
    }
    return sum;
  });
}

/** Which place each value has among all distinct ones, nulls NaN. @param {(string | null)[]} values @returns {Float64Array} */
export function ranksOfTexts(values) {
  const numbers = new Map();
  const codes = Uint32Array.from(values, (value) => {
    const known = numbers.get(value);
    if (known !== undefined) return known;
    numbers.set(value, numbers.size);
    return numbers.size - 1;
  });
  const distinct = [...numbers.keys()];
  const keys = distinct.map((value) => (value === null ? "" : keyOf(value)));
  const first = lettersFrom(keys, 0);
  const second = lettersFrom(keys, LETTERS);
  const compare = (a, b) => (a < b ? -1 : a > b ? 1 : 0);
  const order = Uint32Array.from(keys.keys()).sort(
    (a, b) =>
      first[a] - first[b] ||
      second[a] - second[b] ||
      compare(keys[a], keys[b]) ||
      compare(distinct[a], distinct[b]),
  );
  const rank = new Float64Array(distinct.length);
  order.forEach((k, place) => (rank[k] = distinct[k] === null ? NaN : place));
  return Float64Array.from(codes, (code) => rank[code]);
}
