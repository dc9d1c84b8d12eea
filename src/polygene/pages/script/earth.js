/** From the map to longitude and latitude, and how far and how large things are. */

export class Earth {
  /**
   * @param {object} given of the page: `grid` of longitudes and latitudes over a box, or null; `ways`
   *   to measure; `step`, map units in a unit of the packed numbers
   * @param {Float64Array | null} nodes longitude and latitude of each node of the grid, row by row
   */
  constructor(given, nodes) {
    Object.assign(this, { given, nodes });
  }

  /**
   * Longitude and latitude of a place, by cubics through the four nodes next to it each way.
   * @returns {[number, number] | null} null beyond the grid, or if they are not known
   */
  degrees(x, y) {
    const { grid } = this.given;
    if (!grid) return null;
    const { box, wide, tall } = grid;
    const across = nodesAt(((x - box[0]) / (box[2] - box[0])) * (wide - 1), wide);
    const along = nodesAt(((y - box[1]) / (box[3] - box[1])) * (tall - 1), tall);
    if (!across || !along) return null;
    const found = [0, 0];
    for (let j = 0; j < 4; j++) {
      for (let i = 0; i < 4; i++) {
        const at = 2 * ((along.first + j) * wide + across.first + i);
        const weight = along.weights[j] * across.weights[i];
        found[0] += weight * this.nodes[at];
        found[1] += weight * this.nodes[at + 1];
      }
    }
    if (!Number.isFinite(found[0] + found[1])) return null;
    return [((((found[0] + 180) % 360) + 360) % 360) - 180, found[1]];
  }

  /** The map's own coordinates of a place. @returns {[number, number]} */
  coordinates(x, y) {
    const { origin, step } = this.given;
    return [origin[0] + x * step, origin[1] + y * step];
  }

  /** Which unit lengths are in. @returns {string} */
  get unit() {
    return this.given.ways.unit;
  }

  /** How far two places are from each other, in `unit`. @returns {number} */
  distance([ax, ay], [bx, by]) {
    const { ways, step } = this.given;
    const straight = Math.hypot(bx - ax, by - ay) * step * ways.factor;
    if (ways.lengths === "plane") return straight;
    const [a, b] = [this.degrees(ax, ay), this.degrees(bx, by)];
    return a && b ? geodesic(a, b, ways.a, ways.f) : NaN;
  }

  /** The area within places, in `unit` squared. @param {[number, number][]} places @returns {number} */
  area(places) {
    const { ways, step } = this.given;
    if (ways.areas === "plane") return Math.abs(shoelace(places)) * (step * ways.factor) ** 2;
    const degrees = places.map(([x, y]) => this.coordinates(x, y).map((value) => value * ways.degrees));
    return Math.abs(authalic(degrees, ways.a, ways.f));
  }
}

/** The first of four nodes about a place of a grid, and their weights (Lagrange). */
function nodesAt(place, n) {
  if (!(place >= 0 && place <= n - 1)) return null;
  const first = Math.max(0, Math.min(n - 4, Math.floor(place) - 1));
  const t = place - first;
  const weights = [
    -((t - 1) * (t - 2) * (t - 3)) / 6,
    (t * (t - 2) * (t - 3)) / 2,
    -(t * (t - 1) * (t - 3)) / 2,
    (t * (t - 1) * (t - 2)) / 6,
  ];
  return { first, weights };
}

function shoelace(places) {
  let sum = 0;
  const [ox, oy] = places[0];
  places.forEach(([x, y], k) => {
    const [u, v] = places[(k + 1) % places.length];
    sum += (x - ox) * (v - oy) - (u - ox) * (y - oy);
  });
  return sum / 2;
}

/**
 * Length of the shortest way over an ellipsoid, in metres (Vincenty 1975, inverse formula); NaN where
 * it does not converge, at places nearly opposite each other.
 */
export function geodesic([lon1, lat1], [lon2, lat2], a, f) {
  const radians = Math.PI / 180;
  const b = a * (1 - f);
  const [u1, u2] = [lat1, lat2].map((lat) => Math.atan((1 - f) * Math.tan(lat * radians)));
  const [sin1, cos1, sin2, cos2] = [Math.sin(u1), Math.cos(u1), Math.sin(u2), Math.cos(u2)];
  const apart = (((((lon2 - lon1 + 180) % 360) + 360) % 360) - 180) * radians;
  let lambda = apart;
  for (let turn = 0; turn < 200; turn++) {
    const [sinL, cosL] = [Math.sin(lambda), Math.cos(lambda)];
    const sinS = Math.hypot(cos2 * sinL, cos1 * sin2 - sin1 * cos2 * cosL);
    if (sinS === 0) return 0;
    const cosS = sin1 * sin2 + cos1 * cos2 * cosL;
    const sigma = Math.atan2(sinS, cosS);
    const sinA = (cos1 * cos2 * sinL) / sinS;
    const cos2A = 1 - sinA * sinA;
    const mid = cos2A === 0 ? 0 : cosS - (2 * sin1 * sin2) / cos2A;
    const c = (f / 16) * cos2A * (4 + f * (4 - 3 * cos2A));
    const before = lambda;
    lambda = apart + (1 - c) * f * sinA * (sigma + c * sinS * (mid + c * cosS * (2 * mid * mid - 1)));
    if (Math.abs(lambda - before) > 1e-12) continue;
    const u = (cos2A * (a * a - b * b)) / (b * b);
    const big = 1 + (u / 16384) * (4096 + u * (-768 + u * (320 - 175 * u)));
    const small = (u / 1024) * (256 + u * (-128 + u * (74 - 47 * u)));
    const last = (small / 6) * mid * (4 * sinS * sinS - 3) * (4 * mid * mid - 3);
    const more = small * sinS * (mid + (small / 4) * (cosS * (2 * mid * mid - 1) - last));
    return b * big * (sigma - more);
  }
  return NaN;
}

/**
 * Area on an ellipsoid of what straight lines between degrees enclose, in square metres (Snyder 1987); NaN
 * where one is beyond a pole.
 */
function authalic(places, a, f) {
  const e2 = f * (2 - f);
  const e = Math.sqrt(e2);
  if (places.some(([, lat]) => Math.abs(lat) > 90)) return NaN;
  const q = (lat) => {
    const s = Math.sin((lat * Math.PI) / 180);
    return (1 - e2) * (s / (1 - e2 * s * s) + Math.atanh(e * s) / e);
  };
  let sum = 0;
  places.forEach(([lon, lat], k) => {
    const [u, v] = places[(k + 1) % places.length];
    // Simpson's rule, for q is no straight line between the ends: off by 1e-9 over two degrees.
    const n = Math.max(1, Math.ceil(Math.abs(v - lat) / 2));
    let mean = 0;
    for (let part = 0; part < n; part++) {
      const [from, to] = [part, part + 1].map((i) => q(lat + ((v - lat) * i) / n));
      mean += (from + 4 * q(lat + ((v - lat) * (part + 0.5)) / n) + to) / (6 * n);
    }
    sum += (((u - lon) * Math.PI) / 180) * mean;
  });
  return (sum * a * a) / 2;
}
