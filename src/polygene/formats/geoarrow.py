"""Geometry as nested lists of coordinates: the native encodings of GeoArrow."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.errors import FileError
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
    """
    if encoding not in _DEPTHS:
        raise FileError(f"{path}: the geometry encoding {encoding!r} is not known")
    depth, family = _DEPTHS[encoding]
    array = column.combine_chunks()
    array = pa.concat_arrays(array.chunks) if isinstance(array, pa.ChunkedArray) else array
    _check_nesting(array.type, depth, encoding, path)
    is_null = np.asarray(pc.is_null(array))
    levels = []
    inner = array
    for _ in range(depth):
        inner_offsets = np.zeros(len(inner) + 1, np.int64)
        lengths = np.asarray(pc.fill_null(inner.value_lengths(), 0))
        np.cumsum(lengths, out=inner_offsets[1:])
        levels.append(inner_offsets)
        inner = inner.flatten()
    if pa.types.is_struct(inner.type):
        names = [f.name for f in inner.type]
        axes = {n: np.asarray(pc.fill_null(inner.field(n), np.nan), np.float64) for n in names}
    else:
        size = inner.type.list_size
        flat = np.asarray(inner.flatten(), np.float64).reshape(-1, size)
        axes = dict(zip("xyzm", flat.T, strict=False))
    axes = {
        name: np.array(v) for name, v in axes.items()
    }  # what Arrow holds is not to be written to
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
        is_well = pa.types.is_fixed_size_list(kind) and kind.list_size >= 2
        is_well = is_well and pa.types.is_floating(kind.value_type)
    if not is_well:
        raise FileError(f"{path}: its geometry is said to be {encoding!r}, and is of other columns")
