"""Compare: two layers side by side, and with a key what was added, removed and changed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.arrays import BoolArray, I64Array, owners
from polygene.crs import is_same, label, way_between
from polygene.errors import DataError
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.ops.places.courses import Units, metres_between
from polygene.ops.signatures import signatures
from polygene.ops.summary import NamedRows, unit_of
from polygene.table.casting import as_text
from polygene.table.types import kind_of, type_words

SAME_PLACE = 0.01  # metres that vertices from another CRS may be off


@dataclass(frozen=True)
class LayerFacts:
    """One of the two layers; ``size`` is its area, length or number of points in ``unit``."""

    name: str
    features: int
    without_geometry: int
    family: str
    vertices: int
    size: float
    unit: str
    extent: Extent | None
    crs: str


@dataclass(frozen=True)
class FieldFacts:
    """A field in both layers or one of them (None in the other), and in how many rows it differs."""

    name: str
    first: str | None
    second: str | None
    changed: int | None = None


@dataclass(frozen=True)
class Changes:
    """What a key tells: rows only in the first, only in the second, and of those in both."""

    key: str
    removed: NamedRows
    added: NamedRows
    same: int
    geometry: NamedRows
    attributes: NamedRows


@dataclass(frozen=True)
class Comparison:
    first: LayerFacts
    second: LayerFacts
    fields: list[FieldFacts]
    changes: Changes | None
    notes: list[str]

    @property
    def differs(self) -> bool:
        """Whether anything at all differs."""
        one, other = self.first, self.second
        shape = (one.features, one.family, one.crs, one.extent, one.vertices)
        if shape != (other.features, other.family, other.crs, other.extent, other.vertices):
            return True
        if any(f.first != f.second or f.changed for f in self.fields):
            return True
        c = self.changes
        return c is not None and bool(c.removed.count or c.added.count or c.geometry.count)


def compare(first: Layer, second: Layer, key: str | None = None) -> Comparison:
    """Set two layers side by side.

    With ``key``, a field that names the features of both, they are compared one by one: geometry is
    the same if it has the same edges, whatever ring or part comes first and which way it is drawn. If
    the layers are in different CRS, the second is brought to the first's, vertex by vertex; there it is
    the same if its vertices are, in their order, within 10 mm.

    Raises
    ------
    UnknownFieldError
        If the key is missing in one.
    DataError
        If the key is null, or names several features, in one of them.
    """
    fields = _fields(first, second)
    changes, notes = None, []
    own = second
    if first.crs is not None and second.crs is not None and not is_same(first.crs, second.crs):
        way = way_between(second.crs, second.geometry.extent(), first.crs, first.geometry.extent())
        there = way.there(second.geometry.xy)
        second = replace(second, geometry=second.geometry.with_xy(there), crs=first.crs)
        notes.append(
            f"{second.name} is compared as it lies in {label(first.crs)}, its vertices as they are "
            "within 10 mm"
        )
    if key is not None:
        changes, counts = _changes(first, second, key, is_near=own is not second)
        fields = [FieldFacts(f.name, f.first, f.second, counts.get(f.name)) for f in fields]
    theirs = replace(_facts(own), extent=second.geometry.extent())
    return Comparison(_facts(first), theirs, fields, changes, notes)


def _facts(layer: Layer) -> LayerFacts:
    ruler = ruler_for(layer.crs)
    column = layer.geometry
    return LayerFacts(
        name=layer.name,
        features=layer.n_rows,
        without_geometry=int(column.is_empty.sum()),
        family=column.family.words,
        vertices=column.n_vertices,
        size=float(row_measures(column, ruler).sum()),
        unit=unit_of(column.family, ruler),
        extent=column.extent(),
        crs=label(layer.crs),
    )


def _fields(first: Layer, second: Layer) -> list[FieldFacts]:
    mine = {f.name.casefold(): f for f in first.table.schema}
    theirs = {f.name.casefold(): f for f in second.table.schema}
    found = []
    for folded, field in {**mine, **theirs}.items():
        one, other = (type_words(d[folded]) if folded in d else None for d in (mine, theirs))
        found.append(FieldFacts(mine.get(folded, field).name, one, other))
    return found


def _keys(layer: Layer, key: str) -> pa.ChunkedArray:
    name = next((n for n in layer.table.column_names if n.casefold() == key.casefold()), key)
    layer.check_field(name)
    column = as_text(layer.table.column(name))
    if column.null_count:
        row = int(np.flatnonzero(np.asarray(pc.is_null(column)))[0])
        raise DataError(
            f"layer {layer.name!r}: the key {name!r} is null in {column.null_count:,} features, first "
            f"{layer.row_label(row)}; leave them out with `where`, or take another key"
        )
    counts = pc.value_counts(column)
    several = counts.filter(pc.greater(counts.field("counts"), 1))
    if len(several):
        value = several[0]["values"].as_py()
        raise DataError(
            f"layer {layer.name!r}: the key {name!r} names several features in {len(several):,} "
            f"cases, first {value!r}; take a key that is different in all"
        )
    return column


def _changes(
    first: Layer, second: Layer, key: str, is_near: bool
) -> tuple[Changes, dict[str, int]]:
    mine, theirs = _keys(first, key), _keys(second, key)
    place = pc.index_in(mine, theirs.combine_chunks()) if len(theirs) else None
    partner = (
        np.full(len(mine), -1)
        if place is None
        else np.asarray(pc.fill_null(place, -1)).astype(np.int64)
    )
    rows = np.flatnonzero(partner >= 0)
    partners = partner[rows]
    is_added = np.ones(second.n_rows, bool)
    is_added[partners] = False
    moved = np.zeros(first.n_rows, bool)
    if is_near:
        moved[rows] = _are_apart(first.take(rows), second.take(partners))
    else:
        moved[rows] = signatures(first.geometry)[rows] != signatures(second.geometry)[partners]
    counts: dict[str, int] = {}
    differs = np.zeros(first.n_rows, bool)
    theirs_named = {n.casefold(): n for n in second.table.column_names}
    for name in first.table.column_names:
        other = theirs_named.get(name.casefold())
        if other is not None:
            mask = _differs(
                first=first, second=second, name=name, other=other, rows=rows, partners=partners
            )
            counts[name] = int(mask.sum())
            differs[rows[mask]] = True
    n_same = len(rows) - int((moved | differs).sum())
    return (
        Changes(
            key=key,
            removed=NamedRows.of(first, partner < 0),
            added=NamedRows.of(second, is_added),
            same=n_same,
            geometry=NamedRows.of(first, moved),
            attributes=NamedRows.of(first, differs),
        ),
        counts,
    )


def _are_apart(first: Layer, second: Layer) -> BoolArray:
    """Return which rows have other rings, or a vertex that lies elsewhere."""
    a, b = first.geometry, second.geometry
    apart = np.zeros(first.n_rows, bool)
    for mine, theirs in (
        (a.row_offsets, b.row_offsets),
        (a.ring_offsets_of_rows, b.ring_offsets_of_rows),
        (a.vertex_offsets_of_rows, b.vertex_offsets_of_rows),
    ):
        apart |= np.diff(mine) != np.diff(theirs)
    same = np.flatnonzero(~apart)
    a, b = a.take(same), b.take(same)
    off = metres_between(Units.of(first.crs), a.xy, b.xy)
    row = owners(a.vertex_offsets_of_rows)
    apart[same[row[~(off <= SAME_PLACE)]]] = True
    return apart


def _differs(
    first: Layer, second: Layer, name: str, other: str, rows: I64Array, partners: I64Array
) -> BoolArray:
    a = first.table.column(name).take(pa.array(rows))
    b = second.table.column(other).take(pa.array(partners))
    kinds = {kind_of(a.type), kind_of(b.type)}
    if a.type != b.type:
        if kinds == {"number"}:
            a, b = (v.cast(pa.float64(), safe=False) for v in (a, b))
        else:
            a, b = as_text(a), as_text(b)
    same = pc.fill_null(pc.equal(a, b), False)
    if kinds == {"number"} and pa.types.is_floating(a.type):
        same = pc.or_(same, pc.fill_null(pc.and_(pc.is_nan(a), pc.is_nan(b)), False))
    same = pc.or_(same, pc.and_(pc.is_null(a), pc.is_null(b)))
    return ~np.asarray(same, bool)
