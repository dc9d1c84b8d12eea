"""Compare: two layers side by side, and with a key what was added, removed and changed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.arrays import BoolArray, I64Array, owners
from polygene.crs import label
from polygene.errors import DataError
from polygene.geometry import Extent, GeometryColumn
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.ops.summary import NamedRows, unit_of
from polygene.table.casting import as_text
from polygene.table.types import kind_of, type_words

U64 = np.uint64


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
    the same if it has the same edges, whatever ring or part comes first and which way it is drawn.

    Raises
    ------
    UnknownFieldError
        If the key is missing in one.
    DataError
        If the key is null, or names several features, in one of them.
    """
    fields = _fields(first, second)
    changes, notes = None, []
    if key is not None:
        changes, counts = _changes(first, second, key)
        fields = [FieldFacts(f.name, f.first, f.second, counts.get(f.name)) for f in fields]
        if label(first.crs) != label(second.crs):
            notes.append("the layers are in different CRS, so the geometry of each feature differs")
    return Comparison(_facts(first), _facts(second), fields, changes, notes)


def _facts(layer: Layer) -> LayerFacts:
    ruler = ruler_for(layer.crs)
    column = layer.geometry
    return LayerFacts(
        layer.name, layer.n_rows, int(column.is_empty.sum()), column.family.words,
        column.n_vertices, float(row_measures(column, ruler).sum()), unit_of(column.family, ruler),
        column.extent(), label(layer.crs),
    )  # fmt: skip


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
            f"{layer.row_label(row)}; leave them out with --where, or take another key"
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


def _changes(first: Layer, second: Layer, key: str) -> tuple[Changes, dict[str, int]]:
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
    moved[rows] = signatures(first.geometry)[rows] != signatures(second.geometry)[partners]
    counts: dict[str, int] = {}
    differs = np.zeros(first.n_rows, bool)
    theirs_named = {n.casefold(): n for n in second.table.column_names}
    for name in first.table.column_names:
        other = theirs_named.get(name.casefold())
        if other is not None:
            mask = _differs(first, second, name, other, rows, partners)
            counts[name] = int(mask.sum())
            differs[rows[mask]] = True
    n_same = len(rows) - int((moved | differs).sum())
    return (
        Changes(
            key, NamedRows.of(first, partner < 0), NamedRows.of(second, is_added), n_same,
            NamedRows.of(first, moved), NamedRows.of(first, differs),
        ),
        counts,
    )  # fmt: skip


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


def signatures(column: GeometryColumn) -> np.ndarray:
    """Return an (n_rows,) uint64 for each geometry, equal for those of the same edges.

    Neither the start of rings, nor their direction, nor the order of rings and parts matters. A sum of
    well-mixed bits of each edge (or point), so different ones agree by chance once in 2**64.
    """
    xy = column.xy + 0.0  # minus zero is zero
    bits = np.ascontiguousarray(xy).view(U64)
    place = _mixed(bits[:, 0] * U64(0x9E3779B97F4A7C15) ^ _mixed(bits[:, 1]))
    row_of_vertex = owners(column.vertex_offsets_of_rows)
    ring_of = owners(column.ring_offsets)
    is_edge = ring_of[:-1] == ring_of[1:]
    a, b = place[:-1][is_edge], place[1:][is_edge]
    edges = _mixed((a + b) * U64(0xC2B2AE3D27D4EB4F) ^ (a ^ b))
    lone = np.diff(column.ring_offsets)[ring_of] == 1
    total = np.zeros(column.n_rows, U64)
    with np.errstate(over="ignore"):
        np.add.at(total, row_of_vertex[:-1][is_edge], edges)
        np.add.at(total, row_of_vertex[lone], place[lone])
        total += column.is_null.astype(U64)
    return total


def _mixed(values: np.ndarray) -> np.ndarray:
    """Mix 64 bits well (Stafford 2011, variant 13)."""
    with np.errstate(over="ignore"):
        values = (values ^ (values >> U64(30))) * U64(0xBF58476D1CE4E5B9)
        values = (values ^ (values >> U64(27))) * U64(0x94D049BB133111EB)
    return values ^ (values >> U64(31))
