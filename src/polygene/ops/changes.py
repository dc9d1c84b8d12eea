"""What changed from one version of a layer to the next: each change, and the layer of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, BoolArray, F64Array, I64Array, distinct
from polygene.classes import dataclass
from polygene.geometry import Family, concatenate
from polygene.layer import Layer, names_alike, row_numbers
from polygene.ops.shifts import largest_shifts
from polygene.ops.summary import NamedRows
from polygene.ops.versions import Versions, areas_of
from polygene.table.arithmetic import order
from polygene.table.casting import as_text
from polygene.table.keys import Key
from polygene.table.types import kind_of, values_of

ADDED, REMOVED, SPLIT, MERGED, MOVED, EDITED = KINDS = (
    "added",
    "removed",
    "split",
    "merged",
    "moved",
    "edited",
)


@dataclass(frozen=True)
class Changes:
    """What became of the features of the first in the second.

    key : as it was asked for; nothing if they are told by geometry
    same : features that are in both as they were
    split, parts : features of the first that were split, and of the second that they became
    merged, sources : features of the second that were merged, and those they were made of
    moved : those with another geometry, with the largest shift in ``unit`` of lengths, and the area
        that they gained and lost all together
    edited, edits : those with other attributes, and in how many features each field differs
    without_key : rows of each without one, which are told by geometry
    every : each change, if that was asked for
    """

    key: list[str]
    same: int
    added: NamedRows
    removed: NamedRows
    split: NamedRows
    parts: int
    merged: NamedRows
    sources: int
    moved: NamedRows
    largest_shift: float | None
    unit: str
    gained: float | None
    lost: float | None
    edited: NamedRows
    edits: dict[str, int]
    without_key: tuple[int, int]
    every: list[dict[str, Any]] = field(default_factory=list)

    @property
    def count(self) -> int:
        """How many features changed, those that became others by what they became."""
        rows = (self.added, self.removed, self.split, self.merged, self.moved, self.edited)
        return sum(one.count for one in rows)


@dataclass(frozen=True)
class _Rows:
    """Some changes of one kind: the rows before and after, NONE for none, and what is told of each."""

    kind: str
    before: I64Array
    after: I64Array
    shift: F64Array | None = None
    gained: F64Array | None = None
    lost: F64Array | None = None
    field: str = ""
    old: pa.ChunkedArray | None = None
    new: pa.ChunkedArray | None = None


def changes(found: Versions, keys: Sequence[Key], unit: str) -> tuple[Changes, Layer | None]:
    """Return what changed, and the layer of it: a row for each change, and for each field edited.

    Its fields are ``change``, ``key``, ``origin_before``, ``origin_after`` (identifiers, or row numbers
    where there are none), of what moved ``shift`` and
    ``gained`` and ``lost`` area in metres and square metres (map units without a CRS), and of what was
    edited ``field``, ``old`` and ``new``. Its geometry is that of now, but for what is no more, as
    removed features and the sources of merged ones. None if the two are of different kinds.
    """
    before, after = found.before, found.after
    has = found.after_of != NONE
    in_split, in_merged = (np.zeros(before.n_rows, bool) for _ in range(2))
    in_split[found.split[:, 0]] = True
    in_merged[found.merged[:, 0]] = True
    gone = ~has & ~in_split & ~in_merged
    is_new = ~found.taken
    is_new[found.split[:, 1]] = is_new[found.merged[:, 1]] = False
    was_merged = np.zeros(after.n_rows, bool)
    was_merged[found.merged[:, 1]] = True
    is_moved = has & found.is_other & ~in_split & ~in_merged
    moved = _moved(found, np.flatnonzero(is_moved))
    edits = _edits(found)
    is_edited = np.zeros(before.n_rows, bool)
    for one in edits:
        is_edited[one.before] = True
    none = np.full(max(before.n_rows, after.n_rows), NONE)
    removed, added = np.flatnonzero(gone), np.flatnonzero(is_new)
    rows = [
        _Rows(ADDED, none[: len(added)], added),
        _Rows(REMOVED, removed, none[: len(removed)]),
        _Rows(SPLIT, *found.split.T),
        _Rows(MERGED, *found.merged.T),
        moved,
        *edits,
    ]
    is_same = has & ~found.is_other & ~in_split & ~in_merged & ~is_edited
    told = Changes(
        key=[key.text for key in keys],
        same=int(is_same.sum()),
        added=NamedRows.of(after, is_new),
        removed=NamedRows.of(before, gone),
        split=NamedRows.of(before, in_split),
        parts=len(distinct(found.split[:, 1])),
        merged=NamedRows.of(after, was_merged),
        sources=len(distinct(found.merged[:, 0])),
        moved=NamedRows.of(before, is_moved),
        largest_shift=_largest(moved.shift),
        unit=unit,
        gained=None if moved.gained is None else float(moved.gained.sum()),
        lost=None if moved.lost is None else float(moved.lost.sum()),
        edited=NamedRows.of(before, is_edited),
        edits={one.field: len(one.before) for one in edits},
        without_key=found.without_key,
    )
    return told, _layer(found, keys, [one for one in rows if len(one.before)])


def every(layer: Layer) -> list[dict[str, Any]]:
    """Return each change of a layer of them, without what is not told of its kind."""
    return [{k: v for k, v in row.items() if v is not None} for row in values_of(layer.table)]


def _largest(shift: F64Array | None) -> float | None:
    known = np.zeros(0) if shift is None else shift[~np.isnan(shift)]
    return float(known.max()) if len(known) else None


def _moved(found: Versions, rows: I64Array) -> _Rows:
    """Return what has another geometry: how far it is off, and the area that it gained and lost."""
    before, after = found.before.take(rows), found.after.take(found.after_of[rows])
    if before.geometry.family != after.geometry.family:
        return _Rows(MOVED, rows, found.after_of[rows])
    shift = largest_shifts(before.geometry, after.geometry, before.crs)
    if before.geometry.family != Family.POLYGONS:
        return _Rows(MOVED, rows, found.after_of[rows], shift)
    own = found.after_of[found.overlaps.before] == found.overlaps.after
    shared = np.zeros(found.before.n_rows)
    shared[found.overlaps.before[own]] = found.overlaps.shared[own]
    size = _square(found.before)
    gained = np.maximum(areas_of(after) - shared[rows], 0.0) * size
    lost = np.maximum(areas_of(before) - shared[rows], 0.0) * size
    return _Rows(MOVED, rows, found.after_of[rows], shift, gained, lost)


def _square(layer: Layer) -> float:
    """Return how many square metres the unit of `areas_of` has."""
    if layer.crs is None or layer.crs.is_geographic or not layer.crs.axis_info:
        return 1.0
    return float(layer.crs.axis_info[0].unit_conversion_factor) ** 2


def _edits(found: Versions) -> list[_Rows]:
    """Return for each field that both have where its value is another, with both."""
    rows = np.flatnonzero(found.after_of != NONE)
    partners = found.after_of[rows]
    pairs = names_alike(found.before.table.column_names, found.after.table.column_names)
    edits = []
    for name in found.before.table.column_names:
        other = pairs.get(name)
        if other is None:
            continue
        a, b = found.before.table.column(name), found.after.table.column(other)
        is_all = len(rows) == len(a) == len(b) and bool((rows == partners).all())
        if not is_all:
            a, b = pc.take(a, pc.column(rows)), pc.take(b, pc.column(partners))
        at = np.flatnonzero(differs(a, b))
        if len(at):
            old, new = (as_text(pc.take(v, pc.column(at))) for v in (a, b))
            edits.append(_Rows(EDITED, rows[at], partners[at], field=name, old=old, new=new))
    return edits


def differs(a: pa.ChunkedArray, b: pa.ChunkedArray) -> BoolArray:
    """Return where values of two fields differ; null is the same as null, a date as its midnight."""
    kinds = {kind_of(a.type), kind_of(b.type)}
    both_none = pc.and_(pc.is_null(a), pc.is_null(b))
    if a.type != b.type:
        if kinds == {"number"}:
            kinds_of = [pa.float64() if pa.types.is_decimal(v.type) else v.type for v in (a, b)]
            a, b = order(
                *(pc.cast(v, k, safe=False) for v, k in zip((a, b), kinds_of, strict=True))
            )
        elif kinds <= {"date", "time"}:
            a, b = (pc.cast(v, pa.timestamp("us", tz="UTC"), safe=False) for v in (a, b))
        else:
            a, b = as_text(a), as_text(b)
    same = pc.fill_null(pc.equal(a, b), False)
    if kinds == {"number"} and pa.types.is_floating(a.type):
        same = pc.or_(same, pc.fill_null(pc.and_(pc.is_nan(a), pc.is_nan(b)), False))
    return ~np.asarray(pc.or_(same, both_none), bool)


def _layer(found: Versions, keys: Sequence[Key], rows: Sequence[_Rows]) -> Layer | None:
    """Return all changes as one layer."""
    before, after = found.before, found.after
    families = {y.geometry.family for y in (before, after) if y.n_rows}
    if len(families) > 1 or before.is_table != after.is_table:
        return None
    none = np.zeros(0, np.int64)
    mine = np.concatenate([none, *(one.before for one in rows)])
    theirs = np.concatenate([none, *(one.after for one in rows)])
    lengths = [len(one.before) for one in rows]
    columns: dict[str, Any] = {
        "change": pc.take(
            pa.array([one.kind for one in rows], pa.string()),
            pc.column(np.repeat(np.arange(len(rows)), lengths)),
        )
    }
    if keys:
        columns["key"] = _keys(found, keys, mine, theirs)
    for name, own, layer in (("before", mine, before), ("after", theirs, after)):
        values = np.append(layer.origins, NONE)[own]
        columns[f"origin_{name}"] = pc.with_nulls(values, own == NONE)
    for name in ("shift", "gained", "lost"):
        reals = [_reals(getattr(one, name), len(one.before)) for one in rows]
        columns[name] = pa.chunked_array(reals, pa.float64())
    for name in ("field", "old", "new"):
        parts = [_texts(getattr(one, name), len(one.before)) for one in rows]
        columns[name] = pa.chunked_array([c for part in parts for c in part], pa.string())
    is_gone = np.repeat([one.kind in (REMOVED, MERGED) for one in rows], lengths).astype(bool)
    at = np.where(is_gone, mine, theirs + before.n_rows)
    family = next(iter(families), Family.POINTS)
    whole = concatenate([y.without_geometry_as(family).geometry for y in (before, after)])
    geometry = whole.take(at).as_multi_as(before.geometry, after.geometry)
    return Layer("changes", geometry, pa.table(columns), before.crs, no_geometry=before.no_geometry)


def _keys(found: Versions, keys: Sequence[Key], mine: I64Array, theirs: I64Array) -> pa.Array:
    """Return the key of each change: that of before, or of now where there was none."""
    parts = []
    for key in keys:
        sides = []
        for layer, rows, is_mine in ((found.before, mine, True), (found.after, theirs, False)):
            values = as_text(key.values(layer, is_mine).data)
            sides.append(pc.take(values, row_numbers(rows)))
        parts.append(pc.coalesce(*sides))
    if len(parts) == 1:
        return parts[0]
    return pc.binary_join_element_wise(*parts, " / ", null_handling="replace")


def _reals(values: F64Array | None, n: int) -> pa.Array:
    if values is None:
        return pa.nulls(n, pa.float64())
    return pc.with_nulls(values, np.isnan(values))


def _texts(values: Any, n: int) -> list[pa.Array]:
    if isinstance(values, str):
        return [pa.repeat(values, n) if values else pa.nulls(n, pa.string())]
    return [pa.nulls(n, pa.string())] if values is None else values.chunks
