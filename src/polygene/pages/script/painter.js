/**
 * The painter: layers and what is asked of it in, pictures out. It works in a thread of its own, so
 * that the page answers while it paints; the page shows its last picture moved and scaled until the
 * next is there.
 */
import { placedLabels } from "./labels.js";
import { paintLayer } from "./paint.js";
import { Shape } from "./shape.js";
import { rankOnDemand } from "./sorter.js";

/** A layer as painting needs it: rows in the order of their classes, commonest colour first. */
export function painted({ shape, look, classOf, spots, order: drawn, labels }) {
  const own = new Shape(shape.family, shape.xy, shape.ringVertices, shape.partRings, shape.rowParts);
  return { shape: own, look, classOf, order: drawn, spots, labels, mask: null };
}

/**
 * Paint what is asked for.
 * @param {Map<number, object>} layers
 * @param {{view: object, ratio: number, sides: object[][]}} asked of each side the layers from the
 *   bottom up, each with its opacity
 */
export function pictures(layers, { view, ratio, sides }) {
  const taken = [];
  return sides.map((shown) => {
    const canvas = new OffscreenCanvas(Math.ceil(view.wide * ratio), Math.ceil(view.tall * ratio));
    const context = canvas.getContext("2d", { willReadFrequently: true });
    context.scale(ratio, ratio);
    for (const { id, opacity } of shown) {
      const layer = layers.get(id);
      if (opacity < 1) overlaid(context, layer, view, ratio, opacity);
      else paintLayer(context, layer, view, layer.mask);
    }
    const labels = shown.flatMap(({ id }) => placedLabels(layers.get(id), view, taken));
    return { image: canvas.transferToImageBitmap(), labels };
  });
}

/** Paint a layer by itself and lay it over the rest, so that what overlaps in it shows no double. */
function overlaid(context, layer, view, ratio, opacity) {
  const canvas = new OffscreenCanvas(context.canvas.width, context.canvas.height);
  const own = canvas.getContext("2d");
  own.scale(ratio, ratio);
  paintLayer(own, layer, view, layer.mask);
  context.save();
  context.setTransform(1, 0, 0, 1, 0, 0);
  context.globalAlpha = opacity;
  context.drawImage(canvas, 0, 0);
  context.restore();
}

/** The worker's side: answer messages. */
export function work(scope) {
  const layers = new Map();
  scope.onmessage = ({ data }) => {
    if (data.kind === "ranks") scope.postMessage(rankOnDemand(data));
    else if (data.kind === "layer") layers.set(data.id, painted(data));
    else if (data.kind === "mask") layers.get(data.id).mask = data.mask;
    else {
      const began = performance.now();
      const found = pictures(layers, data);
      const ms = performance.now() - began;
      scope.postMessage(
        { view: data.view, sides: found, ms },
        found.map((y) => y.image),
      );
    }
  };
}

/** The page's side: one picture is asked for at a time, the next when it has come. */
export class Painter {
  /** @param {string} address of this page's own script, which the worker runs too */
  constructor(address, onPictures) {
    this.worker = new Worker(address);
    this.isBusy = false;
    this.next = null;
    this.worker.onmessage = ({ data }) => {
      this.isBusy = false;
      const { next } = this;
      this.next = null;
      if (next) this.ask(next);
      onPictures(data);
    };
  }

  add(id, layer) {
    this.worker.postMessage({ kind: "layer", id, ...layer });
  }

  mask(id, mask) {
    this.worker.postMessage({ kind: "mask", id, mask });
  }

  ask(asked) {
    if (this.isBusy) {
      this.next = asked;
      return;
    }
    this.isBusy = true;
    this.worker.postMessage({ kind: "paint", ...asked });
  }
}
