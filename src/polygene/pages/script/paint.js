/**
 * Painting of layers on a canvas, the same in the worker and on the page. A view says what is where:
 * the place in its middle, pixels in a unit, width and height in pixels. North is up.
 * @typedef {{x: number, y: number, scale: number, wide: number, tall: number}} View
 */

const TOGETHER = 20; // rows in one path: more are slower to fill, fewer slower to ask for
const LEAST_ROUND = 3; // pixels: smaller points are squares
const SMALL = 2; // pixels: what is smaller is a dot
export const INK = "#20242a";

/** @param {View} view @returns {(x: number, y: number) => [number, number]} from the map to pixels */
export function toPixels({ x, y, scale, wide, tall }) {
  return (u, v) => [(u - x) * scale + wide / 2, (y - v) * scale + tall / 2];
}

/** @param {View} view @returns {[number, number, number, number]} the box of the map that it shows */
export function boxOf({ x, y, scale, wide, tall }) {
  const [w, h] = [wide / 2 / scale, tall / 2 / scale];
  return [x - w, y - h, x + w, y + h];
}

/** How wide lines and outlines are, and how large points, for the room they have. */
function sizes(look, family, scale) {
  const room = look.apart * scale;
  const within = (value, least, most) => Math.min(most, Math.max(least, value));
  if (family === "points") return within(room * 0.33, 1.4, 7.5) * look.thick;
  if (family === "lines") return within(room / 11, 0.6, 2.2) * look.thick;
  return within(room / 30, 0, 0.9);
}

/**
 * Paint the rows of a layer.
 * @param {CanvasRenderingContext2D} context
 * @param {{shape: object, look: object, classOf: Uint16Array, order: Uint32Array}} layer
 * @param {View} view
 * @param {Uint8Array | null} mask the rows that are shown, all if there is none
 */
export function paintLayer(context, layer, view, mask) {
  const { shape, look, classOf, order } = layer;
  const box = boxOf(view);
  const brush = new Brush(context, shape, look, view);
  let now = -1;
  for (const row of order) {
    if (mask && !mask[row]) continue;
    const at = 4 * row;
    const { boxes } = shape;
    if (boxes[at] > box[2] || boxes[at + 2] < box[0]) continue;
    if (boxes[at + 1] > box[3] || boxes[at + 3] < box[1] || shape.isEmpty(row)) continue;
    if (classOf[row] !== now) {
      now = classOf[row];
      brush.take(look.colours[now]);
    }
    brush.row(row);
  }
  brush.end();
}

/** Paint some rows over all others, as what is chosen or under the pointer. */
export function paintRows(context, shape, rows, view, look) {
  const box = boxOf(view);
  const brush = new Brush(context, shape, look, view);
  brush.take(look.colours[0]);
  for (const row of rows) {
    const { boxes } = shape;
    const at = 4 * row;
    if (shape.isEmpty(row) || boxes[at] > box[2] || boxes[at + 2] < box[0]) continue;
    if (boxes[at + 1] > box[3] || boxes[at + 3] < box[1]) continue;
    brush.row(row);
  }
  brush.end();
}

/** Gathers rows of one colour into paths, and paints them. */
class Brush {
  constructor(context, shape, look, view) {
    Object.assign(this, { context, shape, look, view });
    const { xy, ringVertices } = shape.at(view.scale);
    Object.assign(this, { xy, ringVertices });
    [this.left, this.top] = [view.x - view.wide / 2 / view.scale, view.y + view.tall / 2 / view.scale];
    this.box = boxOf(view);
    this.wide = sizes(look, shape.family, view.scale);
    this.count = 0;
    this.turn = 0; // which colour is painted, so that pixels are asked for anew for each
    if (shape.family === "points") this.seen = new Uint16Array(Math.ceil(view.wide) * Math.ceil(view.tall));
    context.lineJoin = "round";
    context.lineCap = "round";
  }

  take(colour) {
    this.end();
    const { context, look, shape } = this;
    this.turn++;
    context.fillStyle = look.hatch ? hatching(context, colour) : colour;
    const isPlain = shape.family === "polygons" && !look.hatch && !look.outline;
    // Outlines that would drown what is in them take its colour, so that no seam shows.
    context.strokeStyle = isPlain && this.wide >= 0.25 ? (look.ink ?? INK) : colour;
    context.lineWidth = isPlain ? Math.max(this.wide, 0.5) : this.wide;
    if (shape.family === "polygons" && !isPlain) {
      context.lineWidth = look.outline ? 2.2 : Math.max(this.wide, 0.6);
    }
    if (look.wide) context.lineWidth = look.wide;
    if (shape.family === "points") {
      this.dot = dotOf(colour, Math.max(this.wide, look.least ?? 0), look.ink ?? INK);
    }
    context.beginPath();
  }

  row(row) {
    const { shape, view, context } = this;
    const [a, b] = [shape.rowRings[row], shape.rowRings[row + 1]];
    if (shape.family === "points") return this.points(a, b);
    const at = 4 * row;
    const wide = (shape.boxes[at + 2] - shape.boxes[at]) * view.scale;
    const tall = (shape.boxes[at + 3] - shape.boxes[at + 1]) * view.scale;
    if (wide < SMALL && tall < SMALL && shape.family === "polygons") {
      const x = (shape.boxes[at] - this.left) * view.scale;
      const y = (this.top - shape.boxes[at + 3]) * view.scale;
      context.rect(x, y, Math.max(wide, 1), Math.max(tall, 1));
    } else {
      const inside =
        shape.boxes[at] >= this.box[0] &&
        shape.boxes[at + 2] <= this.box[2] &&
        shape.boxes[at + 1] >= this.box[1] &&
        shape.boxes[at + 3] <= this.box[3];
      for (let ring = a; ring < b; ring++) this.ring(ring, inside);
    }
    if (++this.count >= TOGETHER) this.fill();
  }

  /** A ring or line; of runs of vertices beyond one side of the view, only the ends are drawn. */
  ring(ring, isInside) {
    const { context, xy, ringVertices, left, top, box, view } = this;
    const stop = ringVertices[ring + 1];
    let first = true;
    let lastSide = 0;
    for (let v = ringVertices[ring]; v < stop; v++) {
      const [x, y] = [xy[2 * v], xy[2 * v + 1]];
      if (!isInside) {
        const side = x < box[0] ? 1 : x > box[2] ? 2 : y < box[1] ? 4 : y > box[3] ? 8 : 0;
        if (side && side === lastSide && v + 1 < stop) {
          const [u, w] = [xy[2 * v + 2], xy[2 * v + 3]];
          const next = u < box[0] ? 1 : u > box[2] ? 2 : w < box[1] ? 4 : w > box[3] ? 8 : 0;
          if (next === side) continue;
        }
        lastSide = side;
      }
      const [px, py] = [(x - left) * view.scale, (top - y) * view.scale];
      if (first) context.moveTo(px, py);
      else context.lineTo(px, py);
      first = false;
    }
    if (this.shape.family === "polygons") context.closePath();
  }

  points(a, b) {
    const { context, xy, ringVertices, left, top, view, dot } = this;
    if (this.wide < LEAST_ROUND && !this.look.least) return this.specks(a, b);
    const half = dot.width / 2;
    for (let v = ringVertices[a]; v < ringVertices[b]; v++) {
      const [x, y] = [(xy[2 * v] - left) * view.scale, (top - xy[2 * v + 1]) * view.scale];
      context.drawImage(dot.image, x - half, y - half, dot.width, dot.width);
    }
  }

  /** Points too small to be seen as round: squares of whole pixels, one for all that fall together. */
  specks(a, b) {
    const { context, xy, ringVertices, left, top, view } = this;
    const wide = Math.max(1, Math.round(this.wide));
    for (let v = ringVertices[a]; v < ringVertices[b]; v++) {
      const x = Math.round((xy[2 * v] - left) * view.scale - wide / 2);
      const y = Math.round((top - xy[2 * v + 1]) * view.scale - wide / 2);
      const at = y * Math.ceil(view.wide) + x;
      if (x < 0 || y < 0 || x >= view.wide || y >= view.tall || this.seen[at] === this.turn) continue;
      this.seen[at] = this.turn;
      context.fillRect(x, y, wide, wide);
    }
  }

  fill() {
    const { context, shape, look } = this;
    if (shape.family === "polygons" && !look.outline) context.fill();
    context.stroke();
    context.beginPath();
    this.count = 0;
  }

  end() {
    if (this.count > 0) this.fill();
  }
}

/** A dot that is drawn once and stamped many times, at twice its size for sharp screens. */
function dotOf(colour, wide, ink) {
  const width = Math.ceil(wide + 2);
  const image = new OffscreenCanvas(2 * width, 2 * width);
  const context = image.getContext("2d");
  context.scale(2, 2);
  context.beginPath();
  context.arc(width / 2, width / 2, wide / 2, 0, 7);
  context.fillStyle = colour;
  context.fill();
  if (wide > 3) {
    context.strokeStyle = ink;
    context.lineWidth = 0.6;
    context.stroke();
  }
  return { image, width };
}

/** A pattern of lines from lower left to upper right. */
function hatching(context, colour) {
  const tile = new OffscreenCanvas(8, 8);
  const own = tile.getContext("2d");
  own.strokeStyle = colour;
  own.lineWidth = 1;
  own.beginPath();
  for (const k of [-8, 0, 8]) {
    own.moveTo(k - 1, 9);
    own.lineTo(k + 9, -1);
  }
  own.stroke();
  return context.createPattern(tile, "repeat");
}
