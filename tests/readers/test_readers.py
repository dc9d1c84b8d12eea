"""What readers of others make of our files: `make test-formats` installs them; else it is skipped."""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
import unittest
import warnings
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs
from polygene.geometry import Family
from polygene.layer import Layer
from tests.support import generators as make
from tests.support.layers import geometries

HERE = Path(__file__).parent
ENDINGS = (".gpkg", ".parquet", ".arrow", ".fgb", ".shp", ".geojson", ".csv")
FIELDS = pa.table({
    "name": ["Bülow ŷ", "a, \"b\"", "c"], "n": pa.array([1, -7, 2**40], pa.int64()),
    "x": [0.1, -2.5e10, 1e-7], "flag": [True, False, True],
})  # fmt: skip
NAMES = {Family.POINTS: "Point", Family.LINES: "LineString", Family.POLYGONS: "Polygon"}


def flat(geometry: dict[str, Any] | None) -> list[float] | None:
    """The x and y of all vertices in a row, None for nothing there."""
    if geometry is None:
        return None
    found: list[float] = []

    def visit(nested: Any) -> None:
        if nested and not isinstance(nested[0], list):
            found.extend(nested[:2])
        else:
            for one in nested:
                visit(one)

    visit(geometry["coordinates"])
    return [] if any(v is None or v != v for v in found) else found


@unittest.skipUnless(shutil.which("node"), "there is no node here")
@unittest.skipUnless((HERE / "node_modules").is_dir(), "`make test-formats` installs the readers")
class Readers(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def read(self, layers: dict[str, Layer]) -> dict[str, dict[str, list]]:
        """Write layers in all formats; return what node makes of each, by format and name."""
        files = []
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            for ending in ENDINGS:
                for name, layer in layers.items():
                    path = self.folder / f"{name}{ending}"
                    if ending == ".fgb":  # that reader knows no feature without geometry
                        layer = layer.take(~layer.geometry.is_null)
                    polygene.write(layer, path)
                    files.append(str(path))
        done = subprocess.run(
            ["node", "read.mjs", *files], cwd=HERE, capture_output=True, text=True, check=True
        )
        found: dict[str, dict[str, list]] = {}
        for line in done.stdout.splitlines():
            told = json.loads(line)
            self.assertNotIn("error", told, told)
            path = Path(told["file"])
            found.setdefault(path.suffix, {})[path.stem] = told["features"]
        self.assertEqual(set(found), set(ENDINGS))
        return found

    def test_geometry_of_every_kind(self):
        """Coordinates to the bit, null and empty; Shapefile has outer rings clockwise, no empties."""
        layers = {
            words.replace(" ", "_").strip("_"): Layer(
                "things", column, FIELDS, crs.parse("OGC:CRS84")
            )
            for words, column in geometries().items()
        }
        for ending, by_name in self.read(layers).items():
            for name, features in by_name.items():
                layer = layers[name]
                offsets = layer.geometry.vertex_offsets_of_rows
                for row, (_, shape) in enumerate(features):
                    wanted = layer.geometry.xy[offsets[row] : offsets[row + 1]]
                    found = flat(shape)
                    with self.subTest(ending=ending, name=name, row=row):
                        if layer.geometry.is_null[row] or not len(wanted):
                            self.assertFalse(found)
                            continue
                        pairs = np.array(found).reshape(-1, 2)
                        if ending == ".shp":
                            pairs, wanted = np.unique(pairs, axis=0), np.unique(wanted, axis=0)
                        np.testing.assert_array_equal(pairs, wanted)
                        if ending != ".shp":
                            is_multi = "Multi" if layer.geometry.is_multi else ""
                            self.assertEqual(shape["type"], is_multi + NAMES[layer.geometry.family])

    def test_values(self):
        square = make.polygons([[[make.square(k, 0, 0.5)]] for k in range(3)])
        layers = {"things": Layer("things", square, FIELDS, crs.parse("OGC:CRS84"))}
        wanted = FIELDS.to_pylist()
        for ending, by_name in self.read(layers).items():
            with self.subTest(ending=ending):
                rows = [properties for properties, _ in by_name["things"]]
                if ending == ".csv":
                    rows = [
                        {**r, "n": int(r["n"]), "x": float(r["x"]), "flag": r["flag"] == "true"}
                        for r in rows
                    ]
                if ending == ".gpkg":  # SQLite has no boolean of its own
                    rows = [{**row, "flag": bool(row["flag"])} for row in rows]
                self.assertEqual(rows, wanted)

    def test_without_fields_and_without_features(self):
        square = make.polygons([[[make.square(k, 0, 0.5)]] for k in range(2)])
        empty = FIELDS.slice(0, 0)
        layers = {
            "bare": Layer("bare", square, pa.table({}), crs.parse("OGC:CRS84")),
            "none": Layer("none", make.polygons([]), empty, crs.parse("OGC:CRS84")),
        }
        for ending, by_name in self.read(layers).items():
            with self.subTest(ending=ending):
                self.assertEqual((len(by_name["bare"]), len(by_name["none"])), (2, 0))


if __name__ == "__main__":
    unittest.main()
