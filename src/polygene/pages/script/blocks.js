/**
 * What the page carries: blocks of bytes, deflated (RFC 1950) and in base64 (RFC 4648), each in an
 * element that the browser does not run. Only what is looked at is opened.
 */

/** @param {string} text @returns {Uint8Array} */
function fromBase64(text) {
  if (Uint8Array.fromBase64) return Uint8Array.fromBase64(text);
  const binary = atob(text);
  const bytes = new Uint8Array(binary.length);
  for (let k = 0; k < bytes.length; k++) bytes[k] = binary.charCodeAt(k);
  return bytes;
}

/** @param {string} text base64 of a deflated block @returns {Promise<Uint8Array>} */
async function inflated(text) {
  const stream = new Blob([fromBase64(text)]).stream();
  const plain = stream.pipeThrough(new DecompressionStream("deflate"));
  return new Uint8Array(await new Response(plain).arrayBuffer());
}

/**
 * Whole numbers from four planes, the lowest bytes of all first: what is small has planes of zeros,
 * which deflate to nothing.
 * @param {Uint8Array} bytes @returns {Uint32Array}
 */
function fromPlanes(bytes) {
  const n = bytes.length / 4;
  const found = new Uint32Array(n);
  for (let k = 0; k < n; k++) {
    found[k] = bytes[k] | (bytes[n + k] << 8) | (bytes[2 * n + k] << 16) | (bytes[3 * n + k] << 24);
  }
  return found;
}

/** @param {Uint32Array} folded numbers as 0, -1, 1, -2, ... @returns {Int32Array} their running sums */
function fromSteps(folded) {
  const found = new Int32Array(folded.length);
  let sum = 0;
  for (let k = 0; k < folded.length; k++) {
    const step = folded[k];
    sum = (sum + ((step >>> 1) ^ -(step & 1))) | 0;
    found[k] = sum;
  }
  return found;
}

/** @param {Uint32Array} counts @returns {Uint32Array} offsets, one more than counts, the first 0 */
function offsetsOf(counts) {
  const found = new Uint32Array(counts.length + 1);
  for (let k = 0; k < counts.length; k++) found[k + 1] = found[k] + counts[k];
  return found;
}

export class Blocks {
  /** @param {ParentNode} root where the elements are */
  constructor(root) {
    this.root = root;
  }

  /** @param {number} number @returns {Promise<Uint8Array>} */
  bytes(number) {
    const element = this.root.querySelector(`[data-block="${number}"]`);
    return inflated(element.textContent);
  }

  /** @param {number} number @returns {Promise<any>} */
  async json(number) {
    return JSON.parse(new TextDecoder().decode(await this.bytes(number)));
  }

  /** @param {number} number @returns {Promise<Uint32Array>} */
  async counts(number) {
    return fromPlanes(await this.bytes(number));
  }

  /** @param {number} number @returns {Promise<Uint32Array>} */
  async offsets(number) {
    return offsetsOf(await this.counts(number));
  }

  /** @param {number} number @returns {Promise<Int32Array>} */
  async steps(number) {
    return fromSteps(await this.counts(number));
  }

  /** @param {number} number @returns {Promise<Float64Array>} */
  async floats(number) {
    return new Float64Array((await this.bytes(number)).buffer);
  }
}
