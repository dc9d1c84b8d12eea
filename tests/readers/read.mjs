// What readers of others make of files, as lines of JSON: properties and geometry of each feature.
// node read.mjs FILE... prints for each file one line, {"file", "features": [[properties, geometry]]}.
import fs from "node:fs";
import path from "node:path";

const plain = (_, value) =>
  typeof value === "bigint"
    ? Number.isSafeInteger(Number(value)) ? Number(value) : value.toString()
    : ArrayBuffer.isView(value)
      ? Buffer.from(value.buffer, value.byteOffset, value.byteLength).toString("hex")
      : value;

async function flatgeobuf(file) {
  const { deserialize } = await import("flatgeobuf/lib/mjs/geojson.js");
  const found = [];
  for await (const one of deserialize(new Uint8Array(fs.readFileSync(file))))
    found.push([one.properties, one.geometry]);
  return found;
}

async function shapefile(file) {
  const { open } = await import("shapefile");
  const source = await open(file, undefined, { encoding: "utf-8" });
  const found = [];
  for (let next = await source.read(); !next.done; next = await source.read())
    found.push([next.value.properties, next.value.geometry]);
  return found;
}

// The header of a geometry in a GeoPackage, by section 2.1.3 of its standard.
function blob(bytes, wkx) {
  if (bytes === null) return null;
  if (bytes[0] !== 0x47 || bytes[1] !== 0x50) throw new Error("no GeoPackage geometry");
  const size = [0, 32, 48, 48, 64][(bytes[3] >> 1) & 7];
  return wkx.Geometry.parse(Buffer.from(bytes.subarray(8 + size))).toGeoJSON();
}

async function geopackage(file) {
  const wkx = (await import("wkx")).default;
  const SQL = await (await import("sql.js")).default();
  const db = new SQL.Database(fs.readFileSync(file));
  const [[table, column]] = db.exec("SELECT table_name, column_name FROM gpkg_geometry_columns")[0].values;
  const [result] = db.exec(`SELECT * FROM "${table}" ORDER BY 1`);
  if (result === undefined) return [];
  const at = result.columns.indexOf(column);
  return result.values.map((row) => [
    Object.fromEntries(result.columns.map((name, k) => [name, row[k]]).filter((_, k) => k > 0 && k !== at)),
    blob(row[at], wkx),
  ]);
}

async function parquet(file) {
  const { parquetReadObjects } = await import("hyparquet");
  const { compressors } = await import("hyparquet-compressors");
  const bytes = fs.readFileSync(file);
  const buffer = bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength);
  const rows = await parquetReadObjects({ file: buffer, compressors });
  return rows.map(({ geometry, bbox, ...rest }) => [rest, geometry ?? null]);
}

const NAMES = { point: "Point", linestring: "LineString", polygon: "Polygon" };

async function arrow(file) {
  const { tableFromIPC } = await import("apache-arrow");
  const table = tableFromIPC(fs.readFileSync(file));
  const nested = (v) => (v.toArray && !("x" in v) ? [...v].map(nested) : "x" in v ? Object.values(v.toJSON()) : [...v].map(nested));
  const field = table.schema.fields.find((f) => f.metadata.get("ARROW:extension:name")?.startsWith("geoarrow."));
  const kind = field.metadata.get("ARROW:extension:name").slice("geoarrow.".length);
  const type = (kind.startsWith("multi") ? "Multi" : "") + NAMES[kind.replace("multi", "")];
  return [...table].map((row) => {
    const { [field.name]: shape, ...rest } = row.toJSON();
    return [rest, shape === null ? null : { type, coordinates: nested(shape) }];
  });
}

async function csv(file) {
  const Papa = (await import("papaparse")).default;
  const wkx = (await import("wkx")).default;
  const { data } = Papa.parse(fs.readFileSync(file, "utf-8"), { header: true, skipEmptyLines: true });
  return data.map(({ wkt, ...rest }) => [rest, wkt ? wkx.Geometry.parse(wkt).toGeoJSON() : null]);
}

const geojson = (file) =>
  JSON.parse(fs.readFileSync(file)).features.map((one) => [one.properties, one.geometry]);

const READERS = {
  ".fgb": flatgeobuf, ".shp": shapefile, ".gpkg": geopackage, ".parquet": parquet,
  ".arrow": arrow, ".csv": csv, ".geojson": geojson,
};

for (const file of process.argv.slice(2)) {
  let told;
  try {
    told = { file, features: await READERS[path.extname(file)](file) };
  } catch (err) {
    told = { file, error: String(err.stack ?? err) };
  }
  console.log(JSON.stringify(told, plain));
}
