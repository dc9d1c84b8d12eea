/** Rows as CSV (RFC 4180) and as GeoJSON (RFC 7946), to be copied or saved. */

const QUOTED = /[",\r\n]/;
// Text that a spreadsheet would run gets an apostrophe in front, but no number, time or telephone.
const FORMULA = /^[=+\-@\t\r]/;
const HARMLESS = /^[+-]?[0-9][0-9 .,:/()\-TZ]*(e[+-]?[0-9]+)?$/i;

/** Nulls are nothing, and text of no letters is two quotes. */
function csvCell(value) {
  if (value === null) return "";
  const isRun = typeof value === "string" && FORMULA.test(value) && !HARMLESS.test(value) && value !== "-inf";
  const text = isRun ? `'${value}` : String(value);
  return text === "" || QUOTED.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

/** @param {object} layer @param {ArrayLike<number>} rows @returns {Promise<string>} */
export async function csvOf(layer, rows) {
  await Promise.all(layer.columns.map((column) => column.open()));
  const lines = [layer.columns.map(({ name }) => csvCell(name)).join(",")];
  for (const row of Array.from(rows)) {
    const line = layer.columns.map(({ values }) => csvCell(values[row])).join(",");
    lines.push(line || '""'); // an empty line is no row to many readers
  }
  return lines.join("\r\n") + "\r\n";
}

/**
 * In longitude and latitude on WGS 84 where these are known, else in the map's coordinates. Rows too far
 * off to be on the map are left out: their places are not on the page.
 * @returns {Promise<string>}
 */
export async function geojsonOf(layer, rows, earth) {
  await Promise.all(layer.columns.map((column) => column.open()));
  const here = Array.from(rows).filter((row) => !layer.away.has(row));
  const features = here.map((row) => {
    const geometry = JSON.stringify(geometryOf(layer, row, earth));
    return `{"type":"Feature","properties":${propertiesOf(layer, row)},"geometry":${geometry}}`;
  });
  return `{"type":"FeatureCollection","features":[${features.join(",")}]}`;
}

/** The values of a row as JSON: whole numbers stay numbers however large they are. */
function propertiesOf(layer, row) {
  const members = layer.columns.map((column) => {
    const number = column.kind === "number" ? column.number(row) : 0;
    const value = typeof number === "bigint" ? String(number) : JSON.stringify(column.values[row]);
    return `${JSON.stringify(column.name)}:${value}`;
  });
  return `{${members.join(",")}}`;
}

function geometryOf(layer, row, earth) {
  const { shape } = layer;
  if (shape.family === "none" || layer.isNull(row)) return null;
  const place = (v) => {
    const [x, y] = [shape.xy[2 * v], shape.xy[2 * v + 1]];
    const { digits } = earth.given;
    const found = earth.degrees(x, y);
    const at = found ?? earth.coordinates(x, y);
    return at.map((value) => Number(value.toFixed(found ? digits.degrees : digits.map)));
  };
  const ring = (r) => {
    const found = [];
    for (let v = shape.ringVertices[r]; v < shape.ringVertices[r + 1]; v++) found.push(place(v));
    if (shape.family !== "polygons") return found;
    found.push(found[0]);
    return found;
  };
  // What is inside lies to the left of every ring (RFC 7946, 3.1.6).
  const wound = (r, isOuter) => {
    const found = ring(r);
    return isLeft(found) === isOuter ? found : found.reverse();
  };
  const parts = [];
  for (let part = shape.rowParts[row]; part < shape.rowParts[row + 1]; part++) {
    const rings = [];
    const first = shape.partRings[part];
    for (let r = first; r < shape.partRings[part + 1]; r++) {
      rings.push(shape.family === "polygons" ? wound(r, r === first) : ring(r));
    }
    parts.push(shape.family === "polygons" ? rings : shape.family === "lines" ? rings[0] : rings[0][0]);
  }
  const type = { points: "Point", lines: "LineString", polygons: "Polygon" }[shape.family];
  if (parts.length === 1) return { type, coordinates: parts[0] };
  return { type: parts.length ? `Multi${type}` : type, coordinates: parts };
}

/** Whether what a ring encloses lies to the left of it. */
function isLeft(ring) {
  let area = 0;
  for (let k = 1; k < ring.length; k++) {
    const [[ax, ay], [bx, by]] = [ring[k - 1], ring[k]];
    area += (ax - ring[0][0]) * (by - ring[0][1]) - (bx - ring[0][0]) * (ay - ring[0][1]);
  }
  return area > 0;
}

/** Put text where the reader pastes from; an older way where the newer is not allowed. */
export async function copy(text) {
  try {
    await navigator.clipboard.writeText(text);
  } catch {
    const area = document.createElement("textarea");
    area.value = text;
    document.body.append(area);
    area.select();
    document.execCommand("copy");
    area.remove();
  }
}

/** Hand text to the reader as a file. */
export function save(text, name, type) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name.replace(/[\\/:*?"<>|\p{Cc}\p{Cf}]/gu, "_");
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10000);
}
