"""Where the geometry of a table that is text stands: WKT, digits of WKB, or two columns of numbers."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.errors import FileError
from polygene.formats import hex_columns
from polygene.formats.decimal_commas import as_numbers
from polygene.geometry import Family, GeometryColumn

GEOMETRY = "wkt"  # the column that we write
WKT_NAMES = (GEOMETRY, "geometry")
WKT = re.compile(
    r"\s*(SRID=\d+;)?\s*(multi)?(point|linestring|polygon|geometrycollection)\s*(z|m|zm)?\s*(\(|empty)",
    re.IGNORECASE,
)
_ON_A_PLANE = (("x", "y"), ("easting", "northing"), ("east", "north"), ("rechtswert", "hochwert"))
_PAIRS = (
    ("x", "y"),
    ("longitude", "latitude"),
    ("lon", "lat"),
    ("lng", "lat"),
    ("long", "lat"),
    ("decimallongitude", "decimallatitude"),  # of Darwin Core, for finds of species
    ("easting", "northing"),
    ("east", "north"),
    ("rechtswert", "hochwert"),
)


def pair_of(table: pa.Table) -> tuple[str, str] | None:
    """Return the columns that are x and y by their names; of two that differ by case the first."""
    names = {name.strip().casefold(): name for name in table.column_names[::-1]}
    found = ((names[x], names[y]) for x, y in _PAIRS if x in names and y in names)
    return next(found, None)


def numbers_of(table: pa.Table) -> tuple[str, str] | None:
    """Return the columns that are x and y by their names, if both hold numbers."""
    pair = pair_of(table)
    kinds = [table.schema.field(name).type for name in pair or ()]
    tests = (pa.types.is_integer, pa.types.is_floating)
    return pair if pair and all(any(test(kind) for test in tests) for kind in kinds) else None


def is_of_columns(geometry: GeometryColumn, table: pa.Table, path: Path) -> bool:
    """Whether geometry is what two columns of numbers of its own table say, and no more."""
    pair = numbers_of(table)
    if pair is None or geometry.family != Family.POINTS or geometry.z is not None:
        return False
    said = from_numbers(table, *pair, path)
    return (
        geometry.m is None
        and np.array_equal(said.xy, geometry.xy)
        and np.array_equal(said.vertex_offsets_of_rows, geometry.vertex_offsets_of_rows)
    )


def columns_of_wkt(table: pa.Table) -> list[str]:
    """Return the columns of texts that are WKT, those with a usual name first.

    One with such a name may be of nothing but nulls, if no other has WKT.
    """
    texts = [f.name for f in table.schema if pa.types.is_string(f.type)]
    ranks = {name: k for k, name in enumerate(WKT_NAMES)}
    texts.sort(key=lambda name: ranks.get(name.strip().casefold(), len(ranks)))
    found, named = [], []
    for name in texts:
        first = first_text(table.column(name))
        is_usual = name.strip().casefold() in WKT_NAMES
        if WKT.match(first) or (is_usual and first):
            found.append(name)
        elif is_usual:
            named.append(name)
    return found or named[:1]


def columns_of_digits(table: pa.Table) -> list[str]:
    """Return the columns of texts that are WKB in hexadecimal digits."""
    texts = [f.name for f in table.schema if pa.types.is_string(f.type)]
    return [name for name in texts if hex_columns.is_one(first_text(table.column(name)).strip())]


def first_text(column: pa.ChunkedArray) -> str:
    """Return the first text of a column that is neither null nor empty, or nothing."""
    for chunk in column.chunks:
        at = pc.index(pc.greater(pc.binary_length(chunk), 0), True).as_py()
        if at >= 0:
            return str(chunk[at].as_py())
    return ""


def from_numbers(table: pa.Table, x: str, y: str, path: Path) -> GeometryColumn:
    """Return points from two columns of numbers; null where one of them is.

    Raises
    ------
    FileError
        If they are not numbers, or on a plane may be thousands with a comma in them.
    """
    axes = []
    is_on_a_plane = (x.strip().casefold(), y.strip().casefold()) in _ON_A_PLANE
    for name in (x, y):
        column = table.column(name)
        if pa.types.is_string(column.type):  # numbers in quotes, perhaps
            try:
                column = pc.cast(pc.utf8_trim_whitespace(column), pa.float64())
            except pa.ArrowException as err:
                numbers = as_numbers(column, may_be_thousands=is_on_a_plane)
                if numbers is None:
                    first = first_text(column)[:20]
                    more = (
                        "; write a point where a comma may part thousands" if "," in first else ""
                    )
                    raise FileError(
                        f"{path}: its column {name!r} holds texts such as {first!r}, not numbers{more}"
                    ) from err
                column = numbers
        if not (pa.types.is_integer(column.type) or pa.types.is_floating(column.type)):
            raise FileError(f"{path}: its column {name!r} holds {column.type}, not numbers")
        axes.append(np.asarray(pc.fill_null(pc.cast(column, pa.float64()), float("nan"))))
    xy = np.stack(axes, axis=1)
    is_null = np.isnan(xy).any(axis=1)
    steps = np.arange(int((~is_null).sum()) + 1)
    rows = np.concatenate([[0], np.cumsum(~is_null)])
    return GeometryColumn(
        family=Family.POINTS,
        xy=xy[~is_null],
        ring_offsets=steps,
        part_offsets=steps,
        row_offsets=rows,
        is_null=is_null,
        is_multi=False,
    )
