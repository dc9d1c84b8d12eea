"""Files of storage that is no web server: fsspec's own, in memory, which is as any other to it."""

from __future__ import annotations

import tempfile
import unittest
import warnings
from pathlib import Path
from unittest import mock

import fsspec
import numpy as np
import pyarrow as pa

import polygene
from polygene import crs
from polygene.errors import FileError
from polygene.formats import address, addressed
from polygene.formats.wanted import Wanted
from polygene.layer import Layer
from polygene.remote import cache, storage
from tests.support import generators as make

BOX = (200.0, 200.0, 260.0, 250.0)


class Storage(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        told = mock.patch.dict("os.environ", XDG_CACHE_HOME=str(self.folder / "kept"))
        told.start()
        self.addCleanup(told.stop)
        warnings.simplefilter("ignore")
        self.addCleanup(warnings.resetwarnings)
        self.files = fsspec.filesystem("memory")
        self.addCleanup(self.files.store.clear)
        self.cells = Layer(
            "cells", make.coverage(60, 60, 10.0, np.random.default_rng(2)),
            pa.table({"n": np.arange(3600)}), crs.parse("EPSG:32633"),
        )  # fmt: skip
        for ending in ("gpkg", "fgb", "parquet"):
            polygene.write(self.cells, self.folder / f"cells.{ending}")
            self.put(f"cells.{ending}", (self.folder / f"cells.{ending}").read_bytes())

    def put(self, name: str, data: bytes):
        self.files.pipe(f"/bucket/{name}", data)

    def test_whole_and_in_parts(self):
        for ending, most in (("gpkg", 1.01), ("fgb", 0.4), ("parquet", 1.01)):
            url, n_bytes = f"memory://bucket/cells.{ending}", []
            real = self.files.cat_file

            def counting(path, start=None, end=None, real=real, n_bytes=n_bytes):
                found = real(path, start=start, end=end)
                n_bytes.append(len(found))
                return found

            with mock.patch.object(type(self.files), "cat_file", staticmethod(counting)):
                (ref,) = address.resolve(url)
                some = addressed.read(ref, Wanted(box=BOX)).layers[0]
            self.assertLess(sum(n_bytes), most * self.files.size(f"/bucket/cells.{ending}"))
            self.assertGreaterEqual(some.n_total, some.n_rows)
            self.assertEqual(polygene.read(url).n_rows, 3600)

    def test_asked_again_it_is_only_looked_at(self):
        url = "memory://bucket/cells.gpkg"
        polygene.read(url)
        with mock.patch.object(type(self.files), "get_file", side_effect=AssertionError):
            layer = polygene.read(url)
        self.assertEqual(layer.n_rows, 3600)
        gone = mock.patch.object(type(self.files), "info", side_effect=ConnectionError("no route"))
        with gone:
            self.assertEqual(polygene.read(url).n_rows, 3600)
            with self.assertRaisesRegex(FileError, "cannot be reached: no route.*no copy"):
                polygene.read("memory://bucket/other.gpkg")

    def test_what_goes_wrong_has_its_address_and_a_remedy(self):
        for url, said in (
            ("memory://bucket/none.gpkg", "memory://bucket/none.gpkg is not there"),
            ("memory://bucket/none", "its ending does not tell a format"),
            ("memory://bucket/none.parquet", "is not there"),
            ("file:///etc/passwd.gpkg", "what it begins with is not known"),
            ("s3://bucket/x.gpkg", "s3fs"),
        ):
            with self.subTest(url), self.assertRaisesRegex(FileError, said):
                polygene.read(url)
        self.assertEqual(list(cache.folder().glob("*/*")), [])

    def test_a_file_that_changes_between_two_ranges_is_refused(self):
        kept, partial = storage.opened("memory://bucket/cells.fgb", "cells.fgb")
        self.put("cells.fgb", b"another" * 100_000)
        assert partial is not None
        with self.assertRaisesRegex(FileError, "was changed while it was read"):
            partial.fill(np.array([40_000]), np.array([40_100]))


if __name__ == "__main__":
    unittest.main()
