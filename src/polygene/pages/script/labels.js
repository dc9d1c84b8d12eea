/** Labels where they do not lie over each other, those of the largest features first. */
import { toPixels } from "./paint.js";

const MOST = 400;
const TALL = 15; // pixels of a line
const LETTER = 6.4; // about what a letter takes
const TRIED = 6000; // places looked at: those of small features far down the list find no room

/**
 * @param {{shape: object, spots: Int32Array | null, labels: string[] | null, bySize: Uint32Array}} layer
 * @param {object} view
 * @param {number[][]} taken boxes in pixels, to which those of the labels are added
 * @returns {{text: string, x: number, y: number}[]} in units of the map
 */
export function placedLabels({ shape, spots, labels, mask }, view, taken) {
  if (!labels) return [];
  const pixels = toPixels(view);
  const found = [];
  let tried = 0;
  for (let row = 0; row < labels.rows.length && tried < TRIED && taken.length < MOST; row++) {
    const own = labels.rows[row];
    if (mask && !mask[own]) continue;
    const [x, y] = [spots[2 * own], spots[2 * own + 1]];
    const [px, middle] = pixels(x, y);
    if (px < 0 || middle < 0 || px > view.wide || middle > view.tall) continue;
    tried++;
    const text = labels.texts[row];
    const half = (LETTER * text.length) / 2 + 3;
    const py = shape.family === "points" ? middle - TALL * 0.8 : middle;
    const box = [px - half, py - TALL / 2, px + half, py + TALL / 2];
    const clash = (b) => box[0] < b[2] && box[2] > b[0] && box[1] < b[3] && box[3] > b[1];
    if (taken.some(clash)) continue;
    taken.push(box);
    found.push({ text, x, y, up: middle - py });
  }
  return found;
}
