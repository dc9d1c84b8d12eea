"""Layers with every field type and every kind of geometry, and how to compare two."""

from __future__ import annotations

import datetime
import itertools
import warnings
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from tests.support import generators as make

UTC = datetime.UTC


def every_type() -> pa.Table:
    """Three rows; the last is null in every field."""
    columns = {
        "tiny": pa.array([-128, 127, None], pa.int8()),
        "small": pa.array([-32768, 32767, None], pa.int16()),
        "medium": pa.array([-(2**31), 2**31 - 1, None], pa.int32()),
        "large": pa.array([-(2**63), 2**63 - 1, None], pa.int64()),
        "single": pa.array([1.5, -0.1, None], pa.float32()),
        "real": pa.array([0.1, 1e300, None], pa.float64()),
        "text": pa.array(["ÆØÅ \"quoted\" 'x' , ] [", "", None]),
        "flag": pa.array([True, False, None]),
        "day": pa.array([datetime.date(1899, 12, 31), datetime.date(2026, 2, 28), None]),
        "moment": pa.array(
            [datetime.datetime(2026, 5, 4, 3, 2, 1, 123000, UTC),
             datetime.datetime(1969, 1, 1, tzinfo=UTC), None],
            pa.timestamp("ms", tz="UTC"),
        ),
        "blob": pa.array([b"\0\xff", b"", None]),
    }  # fmt: skip
    fields = [
        pa.field(n, a.type, metadata={"width": "60"} if n == "text" else None)
        for n, a in columns.items()
    ]
    return pa.table(list(columns.values()), pa.schema(fields))


def geometries() -> dict[str, GeometryColumn]:
    """Three rows each: something, empty, null; of every family, single and multi, XY to XYZM."""
    found = {}
    hole = make.square(2, 2, 1)[::-1]
    first: dict = {
        Family.POINTS: [np.array([(1.5, 2.5)])],
        Family.LINES: [np.array([(0, 0), (1, 1.5)])],
        Family.POLYGONS: [make.square(0, 0, 9), hole],
    }
    second = {
        Family.POINTS: [np.array([(3, 4.0)])],
        Family.LINES: [np.array([(2, 2), (3, 3), (4, 0.1)])],
        Family.POLYGONS: [make.square(20, 0, 5)],
    }
    for family, is_multi in itertools.product(Family, (False, True)):
        parts = [first[family], second[family]] if is_multi else [first[family]]
        column = GeometryColumn.from_rings([parts, [], []], family)
        column = replace(column, is_multi=is_multi, is_null=np.array([False, False, True]))
        n = column.n_vertices
        for dims in ("", "Z", "M", "ZM"):
            found[f"{'multi' if is_multi else 'single'} {family.words} {dims}"] = replace(
                column,
                z=np.arange(n) + 0.25 if "Z" in dims else None,
                m=np.arange(n) * 10.0 if "M" in dims else None,
            )
    return found


def layer(column: GeometryColumn, name: str = "things", code: str = "EPSG:32633") -> Layer:
    return Layer(name, column, every_type(), crs.parse(code), np.array([7, 9, 3000000000]))


def same_geometry(test, a: GeometryColumn, b: GeometryColumn) -> None:
    """Bit for bit, null and empty apart."""
    test.assertEqual((a.family, a.is_multi), (b.family, b.is_multi))
    for name in ("xy", "ring_offsets", "part_offsets", "row_offsets", "is_null", "z", "m"):
        mine, theirs = getattr(a, name), getattr(b, name)
        if mine is None or theirs is None:
            test.assertIs(mine, theirs, name)
        else:
            np.testing.assert_array_equal(mine, theirs, name)


def quietly(function, *arguments, **named):
    """Return what a function of ours returns, whatever it warns of."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", UserWarning)
        return function(*arguments, **named)


def lasting_work(folder: Path) -> None:
    """Two layers whose union takes some seconds."""
    teeth = np.arange(400) * 2.0
    for name, wide, tall in (("across", 801.0, 1.0), ("up", 1.0, 801.0)):
        frame = np.array([(0, 0), (wide, 0), (wide, tall), (0, tall), (0, 0)])
        shift = (0, 2.0) if name == "across" else (2.0, 0)
        rings = [[[frame + np.array(shift) * k / 2]] for k in teeth]
        layer = make.layer(name, make.polygons(rings), crs.parse("EPSG:32633"))
        polygene.write(layer, folder / f"{name}.gpkg")
