"""The shapes of a shapefile, by its description of 1998, read all at once."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import numpy.typing as npt

from polygene.arrays import BoolArray, F64Array, I64Array, U8Array, offsets_from, spans, take_spans
from polygene.classes import NamedTuple
from polygene.errors import FileError, GeometryError
from polygene.formats.columns import ADVICE
from polygene.formats.nesting import nested
from polygene.geometry import Family, GeometryColumn
from polygene.winding import turned

FAMILY = {1: Family.POINTS, 8: Family.POINTS, 3: Family.LINES, 5: Family.POLYGONS}
_KINDS = (0, 1, 3, 5, 8, 11, 13, 15, 18, 21, 23, 25, 28)
_NONE = -1e38  # M below it means none


class _Records(NamedTuple):
    """Where records are: the word after the type of each, and how many words it has from there."""

    kind: I64Array
    at: I64Array
    size: I64Array


def read(data: U8Array, index: bytes | None, path: Path) -> GeometryColumn:
    """Return the geometry of a .shp; ``index`` is its .shx.

    Raises
    ------
    FileError
        If it is damaged or cut short, or of a kind that is none of points, lines and polygons.
    GeometryError
        If a record is.
    """
    if len(data) < 100:
        raise FileError(f"{path} is damaged or cut short (it has no header); {ADVICE}")
    code = int.from_bytes(data[32:36].tobytes(), "little")
    if code not in _KINDS:
        what = "MultiPatch, surfaces in space" if code == 31 else f"shapes of type {code}"
        raise FileError(f"{path} holds {what}, which is none of points, lines, polygons")
    words = data[: len(data) // 4 * 4].view("<u4")
    records = _records(words, len(data), index, path)
    is_null = records.kind == 0
    odd = np.flatnonzero(~is_null & (records.kind != code))
    if code == 0 and len(odd):
        code = int(records.kind[odd[0]])
        odd = np.flatnonzero(~is_null & (records.kind != code))
    if len(odd):
        what = f"its shape is of type {records.kind[odd[0]]} in a file of type {code}"
        raise GeometryError(str(path), f"row {odd[0] + 1}", what, ADVICE)
    if code % 10 in (0, 1):
        return _points(words, records, is_null, code, path)
    return _shapes(words, records, is_null, code, path)


def _records(words: npt.NDArray[np.uint32], size: int, index: bytes | None, path: Path) -> _Records:
    """Return where the records are, as the index says if it is right, else one after the other."""
    big = words.view(">u4")
    stated = int(big[6]) // 2  # words in the file as its header says; what is behind is no record
    starts = None if index is None else _indexed(big, index, stated)
    if starts is None:
        starts = _walked(big, path, stated)
    content = big[starts + 1].astype(np.int64) // 2  # stated in words of two bytes
    if len(starts) and int((starts + 2 + content).max()) > len(words):
        row = int(np.flatnonzero(starts + 2 + content > len(words))[0])
        raise FileError(
            f"{path} is damaged or cut short (record {row + 1:,} goes beyond its end); {ADVICE}"
        )
    if (content < 1).any():
        row = int(np.flatnonzero(content < 1)[0])
        raise GeometryError(str(path), f"row {row + 1}", "its record is empty", ADVICE)
    kind = words[starts + 2].astype(np.int64)
    return _Records(kind, starts + 3, content - 1)


def _indexed(big: npt.NDArray[np.uint32], index: bytes, stated: int) -> I64Array | None:
    """Return the records that an index tells; None if it does not fit the file."""
    pairs = np.frombuffer(index, ">u4", (max(0, len(index) - 100) // 8) * 2, min(100, len(index)))
    pairs = pairs.reshape(-1, 2).astype(np.int64)
    at, length = pairs[:, 0], pairs[:, 1]
    if (at % 2).any() or (len(at) and (at.min() < 50 or int(at.max()) // 2 + 2 > len(big))):
        return None
    starts = at // 2
    fits = big[starts + 1] == length
    order = np.argsort(starts, kind="stable")
    begins, ends = starts[order], (starts + 2 + length // 2)[order]
    if not fits.all() or (begins[1:] < ends[:-1]).any():
        return None
    # Programs that edit in place leave gaps, of which the index knows; one that ends early, without any
    # gap before, was cut off itself.
    end = min(len(big), stated) if stated > 25 else len(big)
    last = int(ends[-1]) if len(ends) else 25
    has_gaps = len(begins) > 0 and (int(begins[0]) != 25 or bool((begins[1:] > ends[:-1]).any()))
    return starts if has_gaps or last >= end else None


def _walked(big: npt.NDArray[np.uint32], path: Path, stated: int) -> I64Array:
    starts, at, n_words = [], 25, len(big)
    while at + 2 <= n_words and at != stated:
        starts.append(at)
        at += 2 + int(big[at + 1]) // 2
        if big[starts[-1] + 1] % 2:
            what = "its length is no whole number of words"
            raise GeometryError(str(path), f"row {len(starts)}", what, ADVICE)
    return np.array(starts, np.int64)


def _doubles(words: npt.NDArray[np.uint32], at: I64Array, counts: I64Array) -> F64Array:
    """Return the numbers that begin at some words, so many from each on."""
    return np.asarray(take_spans(words, at, 2 * counts).view("<f8"), np.float64)


def _check_room(needed: I64Array, records: _Records, rows: I64Array, path: Path) -> None:
    short = np.flatnonzero(needed > records.size[rows])
    if len(short):
        what = "its record is shorter than its shape"
        raise GeometryError(str(path), f"row {rows[short[0]] + 1}", what, ADVICE)


def _measures(values: F64Array) -> F64Array | None:
    values = np.where(values < _NONE, np.nan, values)
    return None if np.isnan(values).all() else values


def _points(
    words: npt.NDArray[np.uint32], records: _Records, is_null: BoolArray, code: int, path: Path
) -> GeometryColumn:
    rows = np.flatnonzero(~is_null)
    at = records.at[rows]
    n_numbers = 2 + (code == 11) + (code == 21)
    _check_room(np.full(len(rows), 2 * n_numbers), records, rows, path)
    numbers = _doubles(words, at, np.full(len(rows), n_numbers)).reshape(-1, n_numbers)
    z = numbers[:, 2].copy() if code == 11 else None
    m = _measures(numbers[:, 2].copy()) if code == 21 else None
    if code == 11:
        has = records.size[rows] >= 8
        measured = np.full(len(rows), np.nan)
        measured[has] = _doubles(words, at[has] + 6, np.ones(int(has.sum()), np.int64))
        m = _measures(measured)
    # A point that is no number is empty (its writers have no other form for one).
    steps = np.arange(len(rows) + 1)
    return GeometryColumn(
        family=Family.POINTS,
        xy=numbers[:, :2].copy(),
        ring_offsets=steps,
        part_offsets=steps,
        row_offsets=offsets_from((~is_null).astype(np.int64)),
        is_null=is_null,
        is_multi=False,
        z=z,
        m=m,
    )


def _shapes(
    words: npt.NDArray[np.uint32], records: _Records, is_null: BoolArray, code: int, path: Path
) -> GeometryColumn:
    """Read shapes of many vertices: a box, for all but multipoints parts, then points, Z and M."""
    rows = np.flatnonzero(~is_null)
    at, has_parts = records.at[rows], code % 10 != 8
    head = 10 if has_parts else 9
    _check_room(np.full(len(rows), head), records, rows, path)
    n_parts = words[at + 8].astype(np.int64) if has_parts else np.zeros(len(rows), np.int64)
    n_points = words[at + head - 1].astype(np.int64)
    xy_at = at + head + n_parts
    needed = head + n_parts + 4 * n_points
    has_z = 11 <= code <= 18
    _check_room(needed + has_z * (4 + 2 * n_points), records, rows, path)
    xy = _doubles(words, xy_at, 2 * n_points).reshape(-1, 2)
    after = xy_at + 4 * n_points
    z = _doubles(words, after + 4, n_points) if has_z else None
    m_at = after + (4 + 2 * n_points if has_z else 0)
    m = None
    if code > 10:
        has = records.size[rows] >= m_at - at + 4 + 2 * n_points
        measured = np.full(len(xy), np.nan)
        offsets = offsets_from(n_points)
        own = spans(offsets[:-1][has], n_points[has])
        measured[own] = _doubles(words, m_at[has] + 4, n_points[has])
        m = _measures(measured)
    counts = np.zeros(len(is_null), np.int64)
    counts[rows] = n_points
    vertices = offsets_from(counts)
    if not has_parts:
        steps = np.arange(len(xy) + 1)
        return GeometryColumn(
            family=Family.POINTS,
            xy=xy,
            ring_offsets=steps,
            part_offsets=steps,
            row_offsets=vertices,
            is_null=is_null,
            is_multi=True,
            z=z,
            m=m,
        )
    starts = words[spans(at + head, n_parts)].astype(np.int64)
    return _of_parts(xy, starts, n_parts, n_points, vertices, is_null, z, m, code, path)


def _of_parts(
    xy: F64Array,
    starts: I64Array,
    n_parts: I64Array,
    n_points: I64Array,
    vertices: I64Array,
    is_null: BoolArray,
    z: F64Array | None,
    m: F64Array | None,
    code: int,
    path: Path,
) -> GeometryColumn:
    """Return lines or polygons; ``starts`` are the first points of parts within their rows."""
    rows = np.flatnonzero(~is_null)
    ring_counts = np.zeros(len(is_null), np.int64)
    ring_counts[rows] = n_parts
    rings = np.append(starts + np.repeat(vertices[:-1][rows], n_parts), len(xy)).astype(np.int64)
    row_of = np.repeat(rows, n_parts)
    is_first = np.append(True, row_of[1:] != row_of[:-1]) if len(row_of) else np.zeros(0, bool)
    falls = (
        (np.diff(rings) < 0) | (is_first & (starts != 0)) | (starts > np.repeat(n_points, n_parts))
    )
    if falls.any():
        row = int(row_of[np.flatnonzero(falls)[0]])
        what = "its parts do not begin one behind the other"
        raise GeometryError(str(path), f"row {row + 1}", what, ADVICE)
    bare = np.flatnonzero((n_parts == 0) & (n_points > 0))
    if len(bare):
        what = "it has points and no part"
        raise GeometryError(str(path), f"row {rows[bare[0]] + 1}", what, ADVICE)
    family = FAMILY[code % 10]
    column = GeometryColumn(
        family=family,
        xy=xy,
        ring_offsets=rings,
        part_offsets=np.arange(len(rings)),
        row_offsets=offsets_from(ring_counts),
        is_null=is_null,
        is_multi=bool((ring_counts > 1).any()),
        z=z,
        m=m,
    )
    if family == Family.LINES:
        return column
    return turned(nested(column, len(is_null)), outer_is_counter_clockwise=True)
