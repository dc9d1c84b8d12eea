"""Geometry as nested lists of coordinates: the native encodings of GeoArrow."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, I64Array
from polygene.errors import FileError, GeometryError
from polygene.formats.columns import ADVICE
from polygene.geometry import Family, GeometryColumn

# The nested-list encodings of GeoArrow: how many lists are round the coordinates, and the family.
_DEPTHS = {
    "point": (0, Family.POINTS),
    "multipoint": (1, Family.POINTS),
    "linestring": (1, Family.LINES),
    "multilinestring": (2, Family.LINES),
    "polygon": (2, Family.POLYGONS),
    "multipolygon": (3, Family.POLYGONS),
}


def from_lists(column: pa.ChunkedArray, encoding: str, path: Path) -> GeometryColumn:
    """Take geometry from nested lists of coordinates.

    Raises
    ------
    FileError
        If the encoding is none that is known.
    GeometryError
        If a part, a vertex or its x or y is null, which only whole geometries may be.
    """
    if encoding not in _DEPTHS:
        raise FileError(f"{path}: the geometry encoding {encoding!r} is not known")
    depth, family = _DEPTHS[encoding]
    array = column.combine_chunks()
    array = pa.concat_arrays(array.chunks) if isinstance(array, pa.ChunkedArray) else array
    _check_nesting(array.type, depth, encoding, path)
    is_null = np.asarray(pc.is_null(array))
    levels: list[I64Array] = []
    inner = array
    for _ in range(depth):
        inner_offsets = np.zeros(len(inner) + 1, np.int64)
        lengths = np.asarray(pc.fill_null(inner.value_lengths(), 0))
        np.cumsum(lengths, out=inner_offsets[1:])
        levels.append(inner_offsets)
        inner = inner.flatten()
        _check_there(np.asarray(pc.is_valid(inner)), levels, path)
    axes = _axes(inner)
    is_given = is_null if depth == 0 else np.zeros(len(inner), bool)
    for name in "xy":
        _check_there(np.asarray(pc.is_valid(axes[name])) | is_given, levels, path)
    axes = {  # what Arrow holds is not to be written to
        name: np.array(pc.fill_null(own, np.nan), np.float64) for name, own in axes.items()
    }
    xy = np.stack([axes["x"], axes["y"]], axis=1)
    n = len(xy)
    steps = np.arange(n + 1)
    if encoding == "point":
        keeps = ~is_null & ~np.isnan(xy).all(axis=1)  # a point of NaNs is an empty one
        rows = np.concatenate([[0], np.cumsum(keeps)])
        xy = xy[keeps]
        steps = np.arange(len(xy) + 1)
        parts = (steps, steps, rows)
        axes = {k: v[keeps] for k, v in axes.items()}
    elif family == Family.POINTS:
        parts = (steps, steps, levels[0])
    elif family == Family.LINES:
        rings = levels[-1]
        has = np.diff(levels[0]) > 0
        of_rows = levels[0] if depth == 2 else np.concatenate([[0], np.cumsum(has)])
        if depth == 1:
            rings = np.concatenate([[0], np.cumsum(np.diff(rings)[has])])
        parts = (rings, np.arange(len(rings)), of_rows)
    else:
        rings = levels[-1]
        of_parts = levels[-2]
        has = np.diff(levels[0]) > 0
        of_rows = levels[0] if depth == 3 else np.concatenate([[0], np.cumsum(has)])
        if depth == 2:
            of_parts = np.concatenate([[0], np.cumsum(np.diff(of_parts)[has])])
        parts = (rings, of_parts, of_rows)
    rings, of_parts, of_rows = (np.asarray(p, np.int64) for p in parts)
    return GeometryColumn(
        family=family,
        xy=np.ascontiguousarray(xy),
        ring_offsets=rings,
        part_offsets=of_parts,
        row_offsets=of_rows,
        is_null=is_null,
        is_multi=encoding.startswith("multi"),
        z=axes.get("z"),
        m=axes.get("m"),
    )


def _axes(inner: pa.Array) -> dict[str, pa.Array]:
    """Return the numbers of vertices by what they are, x, y, z or m."""
    if pa.types.is_struct(inner.type):
        return {field.name: inner.field(field.name) for field in inner.type}
    size = inner.type.list_size
    said = inner.type.value_field.name  # by GeoArrow that of the inner list says what they are
    names = said if said in ("xy", "xyz", "xym", "xyzm") and len(said) == size else "xyzm"[:size]
    # Those of null vertices are among the values, and `flatten` leaves them out.
    first = inner.offset * size
    flat = inner.values.slice(first, len(inner) * size)
    return {
        name: flat.take(pa.array(np.arange(k, len(flat), size))) for k, name in enumerate(names)
    }


def _check_there(is_there: BoolArray, levels: Sequence[I64Array], path: Path) -> None:
    """Refuse what is null inside of a geometry; ``levels`` lead to it from its row."""
    if is_there.all():
        return
    at = int(np.argmin(is_there))
    for offsets in reversed(levels):
        at = int(np.searchsorted(offsets, at, side="right")) - 1
    what = "a part or vertex of its geometry is null, which GeoArrow does not allow"
    raise GeometryError(str(path), f"row {at + 1}", what, ADVICE)


def _check_nesting(kind: pa.DataType, depth: int, encoding: str, path: Path) -> None:
    """Refuse a column that is not nested as its encoding is."""
    for _ in range(depth):
        if not (pa.types.is_list(kind) or pa.types.is_large_list(kind)):
            break
        kind = kind.value_type
    if pa.types.is_struct(kind):
        fields = [kind.field(k) for k in range(kind.num_fields)]
        is_well = {"x", "y"} <= {f.name for f in fields}
        is_well &= all(pa.types.is_floating(f.type) for f in fields)
    else:
        is_well = pa.types.is_fixed_size_list(kind) and 2 <= kind.list_size <= 4
        is_well = is_well and pa.types.is_floating(kind.value_type)
    if not is_well:
        raise FileError(f"{path}: its geometry is said to be {encoding!r}, and is of other columns")
