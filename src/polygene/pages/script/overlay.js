/** What lies over the map: what is chosen, what is under the pointer, labels, marks, measured lines. */
import { paintRows, toPixels } from "./paint.js";

const CHOSEN = "#d1495b";
const FEW = 300; // rows that are painted in each frame
const MOST_CHOSEN = 20000; // of these the map shows at once: more are seen in the table

/** The look of a border or dot of one colour. */
function only(colour, wide) {
  return { colours: [colour], outline: true, apart: 1e9, thick: 1, wide, least: 8, ink: colour };
}

/** Outlines in two strokes, so that they are seen on light and dark. */
function outlined(context, shape, rows, view, [below, above], wide) {
  if (shape.family !== "points") paintRows(context, shape, rows, view, only(below, wide + 2.5));
  paintRows(context, shape, rows, view, only(above, wide));
}

/** What is chosen; much of it is painted once, and moved and scaled until the map is at rest again. */
export class Chosen {
  constructor() {
    this.forget();
  }

  /** Paint anew, for what is chosen or the view at rest has changed. */
  forget() {
    /** @type {Map<string, {image: OffscreenCanvas, view: object}>} */
    this.kept = new Map();
  }

  draw(context, side, layers, view) {
    const n = layers.reduce((sum, layer) => sum + layer.chosen.size, 0);
    if (n <= FEW) {
      drawChosen(context, layers, view);
      return;
    }
    if (!this.kept.has(side)) {
      const image = new OffscreenCanvas(view.wide, view.tall);
      drawChosen(image.getContext("2d"), layers, view);
      this.kept.set(side, { image, view });
    }
    const { image, view: was } = this.kept.get(side);
    context.drawImage(image, ...movedTo(was, view));
  }
}

/** Where a picture of one view lies in another: left, top, width and height in pixels. */
export function movedTo(was, view) {
  const grown = view.scale / was.scale;
  const left = (was.x - view.x) * view.scale + view.wide / 2 - (was.wide / 2) * grown;
  const top = (view.y - was.y) * view.scale + view.tall / 2 - (was.tall / 2) * grown;
  return [left, top, was.wide * grown, was.tall * grown];
}

function drawChosen(context, layers, view) {
  for (const layer of layers) {
    if (!layer.isShown || layer.chosen.size === 0) continue;
    const rows = [...layer.chosen].slice(0, MOST_CHOSEN);
    context.save();
    if (layer.family === "polygons") {
      context.globalAlpha = 0.25;
      paintRows(context, layer.shape, rows, view, { colours: [CHOSEN], apart: 0, thick: 1, wide: 0.01 });
      context.globalAlpha = 1;
    }
    if (rows.length > FEW) paintRows(context, layer.shape, rows, view, only(CHOSEN, 1.2));
    else outlined(context, layer.shape, rows, view, ["#ffffff", CHOSEN], 2);
    context.restore();
  }
}

export function drawPointed(context, pointed, view) {
  if (!pointed) return;
  outlined(context, pointed.layer.shape, [pointed.row], view, ["#ffffff", "#20242a"], 1.4);
}

/** @param {{text: string, x: number, y: number, up: number}[]} labels */
export function drawLabels(context, labels, view, colours) {
  const pixels = toPixels(view);
  context.font = "12px 'DejaVu Sans', Verdana, sans-serif";
  context.textAlign = "center";
  context.textBaseline = "middle";
  context.lineWidth = 3;
  context.lineJoin = "round";
  context.strokeStyle = colours.paper;
  context.fillStyle = colours.ink;
  for (const { text, x, y, up } of labels) {
    const [px, py] = pixels(x, y);
    context.strokeText(text, px, py - up);
    context.fillText(text, px, py - up);
  }
}

/** Rings at the places of problems. @param {[number, number][]} places */
export function drawMarks(context, places, view) {
  const pixels = toPixels(view);
  for (const [wide, colour] of [
    [5, "#ffffff"],
    [2.5, CHOSEN],
  ]) {
    context.lineWidth = wide;
    context.strokeStyle = colour;
    for (const [x, y] of places) {
      const [px, py] = pixels(x, y);
      context.beginPath();
      context.arc(px, py, 11, 0, 7);
      context.stroke();
    }
  }
}

/** The line that is measured, and what it closes. @param {[number, number][]} places */
export function drawMeasured(context, places, view) {
  if (places.length === 0) return;
  const pixels = toPixels(view);
  context.beginPath();
  places.forEach(([x, y], k) => (k ? context.lineTo(...pixels(x, y)) : context.moveTo(...pixels(x, y))));
  context.fillStyle = "rgba(209, 73, 91, 0.15)";
  if (places.length > 2) context.fill();
  for (const [wide, colour] of [
    [4.5, "#ffffff"],
    [2, "#20242a"],
  ]) {
    context.lineWidth = wide;
    context.strokeStyle = colour;
    context.stroke();
  }
  for (const [x, y] of places) {
    const [px, py] = pixels(x, y);
    context.fillStyle = "#20242a";
    context.fillRect(px - 3, py - 3, 6, 6);
  }
}

/** A box that is being drawn, in pixels. */
export function drawBox(context, box) {
  if (!box) return;
  const [x0, y0, x1, y1] = box;
  context.fillStyle = "rgba(43, 106, 143, 0.15)";
  context.fillRect(x0, y0, x1 - x0, y1 - y0);
  context.strokeStyle = "#2b6a8f";
  context.lineWidth = 1.5;
  context.strokeRect(x0, y0, x1 - x0, y1 - y0);
}
