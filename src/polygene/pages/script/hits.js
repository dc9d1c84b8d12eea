/** Which rows are at a place or in a box, by their geometry and not by their boxes alone. */

/**
 * @param {object} layer with its `shape` and the `tree` of its boxes
 * @param {number} x @param {number} y @param {number} near how far off lines and points may be
 * @returns {number[]} the rows there, the uppermost first; of borders alone those whose border is there
 */
export function rowsAt({ shape, tree, mask, look }, x, y, near) {
  const rows = tree.meeting(x - near, y - near, x + near, y + near);
  const isShown = (row) => !mask || mask[row];
  if (shape.family === "polygons" && !look.outline) {
    return rows.filter((row) => isShown(row) && isInside(shape, row, x, y)).reverse();
  }
  return rows
    .filter(isShown)
    .map((row) => [distance(shape, row, x, y), row])
    .filter(([apart]) => apart <= near)
    .sort((a, b) => a[0] - b[0])
    .map(([, row]) => row);
}

/** @returns {number[]} the rows of which something is in a box */
export function rowsIn({ shape, tree, mask }, x0, y0, x1, y1) {
  return tree
    .meeting(x0, y0, x1, y1)
    .filter((row) => (!mask || mask[row]) && hasPartIn(shape, row, x0, y0, x1, y1));
}

/** Whether a place is in a polygon: how often a ray to the right meets its rings. */
function isInside({ xy, rowRings, ringVertices }, row, x, y) {
  let is = false;
  for (let ring = rowRings[row]; ring < rowRings[row + 1]; ring++) {
    const stop = ringVertices[ring + 1];
    for (let v = ringVertices[ring], w = stop - 1; v < stop; w = v++) {
      const [y0, y1] = [xy[2 * v + 1], xy[2 * w + 1]];
      if (y0 > y === y1 > y) continue;
      const x0 = xy[2 * v];
      if (x < x0 + ((y - y0) / (y1 - y0)) * (xy[2 * w] - x0)) is = !is;
    }
  }
  return is;
}

/** How far a place is from the lines, borders or points of a row. */
function distance({ family, xy, rowRings, ringVertices }, row, x, y) {
  let least = Infinity;
  for (let ring = rowRings[row]; ring < rowRings[row + 1]; ring++) {
    for (let v = ringVertices[ring]; v < ringVertices[ring + 1]; v++) {
      const [x0, y0] = [xy[2 * v], xy[2 * v + 1]];
      const isLast = v + 1 === ringVertices[ring + 1];
      const next = !isLast ? v + 1 : family === "polygons" ? ringVertices[ring] : v;
      const [dx, dy] = [xy[2 * next] - x0, xy[2 * next + 1] - y0];
      const along = ((x - x0) * dx + (y - y0) * dy) / (dx * dx + dy * dy || 1);
      const part = Math.min(1, Math.max(0, along));
      least = Math.min(least, Math.hypot(x - x0 - part * dx, y - y0 - part * dy));
    }
  }
  return least;
}

/** Whether an edge or vertex of a row is in a box, or the box in the row. */
function hasPartIn(shape, row, x0, y0, x1, y1) {
  const { xy, rowRings, ringVertices, boxes, family } = shape;
  const at = 4 * row;
  const isWithin = boxes[at] >= x0 && boxes[at + 1] >= y0 && boxes[at + 2] <= x1;
  if (isWithin && boxes[at + 3] <= y1) return true;
  for (let ring = rowRings[row]; ring < rowRings[row + 1]; ring++) {
    for (let v = ringVertices[ring]; v < ringVertices[ring + 1]; v++) {
      const next = v + 1 < ringVertices[ring + 1] && family !== "points" ? v + 1 : v;
      if (meets(xy[2 * v], xy[2 * v + 1], xy[2 * next], xy[2 * next + 1], x0, y0, x1, y1)) return true;
    }
  }
  return family === "polygons" && isInside(shape, row, x0, y0);
}

/** Whether a straight piece meets a box (Liang and Barsky 1984). */
function meets(ax, ay, bx, by, x0, y0, x1, y1) {
  const [dx, dy] = [bx - ax, by - ay];
  let [from, to] = [0, 1];
  for (const [step, room] of [
    [-dx, ax - x0],
    [dx, x1 - ax],
    [-dy, ay - y0],
    [dy, y1 - ay],
  ]) {
    if (step === 0) {
      if (room < 0) return false;
      continue;
    }
    const at = room / step;
    if (step < 0) from = Math.max(from, at);
    else to = Math.min(to, at);
    if (from > to) return false;
  }
  return true;
}
