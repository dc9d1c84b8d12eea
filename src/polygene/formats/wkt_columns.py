"""Columns of WKT (OGC 06-103r4, 7.2) as geometry, and what their texts say of M and of a CRS."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import orjson
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels
from polygene.arrays import BoolArray, owners
from polygene.errors import DataError, GeometryError
from polygene.formats.columns import ADVICE
from polygene.formats.geojson import reading
from polygene.notes import Warned, counted
from polygene.text import wkt
from polygene.text.assemble import OfFamily

if TYPE_CHECKING:
    import pyproj

_HEAD = 64  # characters that have all that stands before the first number
# The number of a reference system, as some programs put it in front of each text.
_SYSTEM = r"(?is)^\s*(?:SRID=([0-9]+);)?.*$"
_HAS_M = r"(?i)^\s*(?:SRID=[0-9]+;)?\s*[a-z]+\s*(Z\s*)?M\s*(\(|EMPTY)"
_M_ALONE = r"(?i)^(\s*(?:SRID=[0-9]+;)?\s*[a-z]+[a-y])\s*M\s*(\(|EMPTY)"


def from_wkt(
    column: pa.ChunkedArray, path: Path, notes: list[str], stated: pyproj.CRS | None = None
) -> tuple[list[OfFamily], pyproj.CRS | None]:
    """Decode a column of WKT; return its geometries, and the CRS that is stated or the texts say.

    Raises
    ------
    DataError
        If the texts are in several systems.
    GeometryError
        If a row is none that is known.
    """
    column = pc.cast(column, pa.string()) if column.type == pa.string_view() else column
    heads = pc.utf8_slice_codeunits(column, 0, _HEAD)
    crs = _crs_of(heads, path, notes, stated)
    has_m = _are_like(heads, _HAS_M)
    if has_m.any():
        notes.append(
            Warned(f"{path.name}: M values of {counted(int(has_m.sum()), 'row')} left out")
        )
    is_alone = _are_like(heads, _M_ALONE) if has_m.any() else has_m
    if not is_alone.any():
        return _decoded(column, path), crs
    plain = pc.if_else(
        pc.column(is_alone), pc.replace_substring_regex(column, _M_ALONE, r"\1 \2"), column
    )
    return [_without_heights(own, is_alone) for own in _decoded(plain, path)], crs


def _are_like(heads: pa.ChunkedArray, pattern: str) -> BoolArray:
    return np.asarray(pc.fill_null(pc.match_substring_regex(heads, pattern), False), bool)


def _crs_of(
    heads: pa.ChunkedArray, path: Path, notes: list[str], stated: pyproj.CRS | None
) -> pyproj.CRS | None:
    if not pc.any(pc.match_substring_regex(heads, r"(?i)^\s*SRID=")).as_py():
        return stated
    systems = pc.replace_substring_regex(heads, _SYSTEM, r"\1")
    return agreed_system(systems, stated, path, notes)


def agreed_system(
    systems: pa.ChunkedArray, stated: pyproj.CRS | None, path: Path, notes: list[str]
) -> pyproj.CRS | None:
    """Return the CRS that a file states, or else the one that the SRIDs of its rows are.

    Where rows say another than is stated, that is noted. ``systems`` are as `system_of` takes them.

    Raises
    ------
    DataError
        If none is stated, and rows are in several.
    """
    if stated is None:
        return system_of(systems, path, notes)
    from polygene import crs

    own = crs.code(stated)
    same = {"", "0"} if own is None else {"", "0", own[1]}
    if own is not None and own[0] == "OGC":
        same.add(
            "4326"
        )  # longitude first, as WKB and WKT have it in files whatever the authority says
    counts = pc.value_counts(systems.combine_chunks()).to_pylist()
    n = sum(own["counts"] for own in counts if own["values"] not in {None, *same})
    if n:
        what = f"{counted(n, 'geometry', 'geometries')} of another SRID than the CRS of the file"
        notes.append(Warned(f"{path.name}: {what}, {crs.label(stated)}, taken as in that"))
    return stated


def system_of(systems: pa.ChunkedArray, path: Path, notes: list[str]) -> pyproj.CRS | None:
    """Return the CRS that the SRIDs of rows are, texts that are of no letters where none is said.

    Raises
    ------
    DataError
        If there are several.
    """
    there = [s for s in pc.unique(systems).to_pylist() if s]
    if len(there) > 1:
        first, other = (pc.index(pc.equal(systems, s), True).as_py() + 1 for s in there[:2])
        raise DataError(
            f"{path}: its geometry is in several reference systems, SRID {there[0]} in row {first} and "
            f"{there[1]} in row {other}; take the rows of each to a file of its own"
        )
    n_without = int(pc.sum(pc.equal(systems, "")).as_py() or 0)
    if not there or int(there[0]) == 0:
        return None
    from polygene import crs  # with PROJ, which few tables need

    try:
        found = crs.parse(f"EPSG:{there[0]}")
    except DataError:
        notes.append(Warned(f"{path.name}: SRID {there[0]} is no code of the EPSG; left out"))
        return None
    more = f"; {counted(n_without, 'row')} without it taken as in that too" if n_without else ""
    notes.append(f"{path.name}: CRS taken from the SRID of its geometry, EPSG:{there[0]}{more}")
    return found


def _without_heights(own: OfFamily, chosen: BoolArray) -> OfFamily:
    """Return geometries of a family without the third numbers of some rows, which are no heights."""
    column = own.geometry
    if column.z is None:
        return own
    is_m = chosen[own.rows[owners(column.vertex_offsets_of_rows)]]
    z = np.where(is_m, np.nan, column.z)
    return own._replace(geometry=replace(column, z=None if np.isnan(z).all() else z))


def _decoded(column: pa.ChunkedArray, path: Path) -> list[OfFamily]:
    """Decode all at once, or one by one by way of the nested lists that GeoJSON has."""
    lifted = wkt.lift_column(column) if kernels.IS_COMPILED else None
    if lifted is not None:
        return lifted
    features: list[dict[str, Any]] = []
    texts: Sequence[str | None] = column.to_pylist()
    for row, text in enumerate(texts):
        geometry = None
        if text:
            try:
                geometry = wkt.parsed(text)
            except (ValueError, orjson.JSONDecodeError) as err:
                raise GeometryError(
                    str(path), f"row {row + 1}", f"{text[:40]!r} is no WKT that is known", ADVICE
                ) from err
        features.append({"type": "Feature", "geometry": geometry})
    return reading.geometries_of(features, path, [])  # of M is told above
