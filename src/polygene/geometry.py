"""The geometry column: all features of a layer in a few flat arrays, no object per feature."""

from __future__ import annotations

import enum
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import (
    BoolArray,
    F64Array,
    I64Array,
    offsets_from,
    spans,
    take_spans,
)
from polygene.classes import dataclass

# x and y minimum, x and y maximum.
Extent = tuple[float, float, float, float]


class Family(enum.IntEnum):
    """What a layer's features are made of; the value is their dimension."""

    POINTS = 0
    LINES = 1
    POLYGONS = 2

    @property
    def words(self) -> str:
        """The name used in messages."""
        return ("points", "lines", "polygons")[self]


LONG_RING = 64  # vertices from which on points are put in order before they are located in a ring
_KINDS = (
    ("xy", np.dtype(np.float64)),
    ("ring_offsets", np.dtype(np.int64)),
    ("part_offsets", np.dtype(np.int64)),
    ("row_offsets", np.dtype(np.int64)),
    ("is_null", np.dtype(bool)),
    ("z", np.dtype(np.float64)),
    ("m", np.dtype(np.float64)),
)


@dataclass(frozen=True)
class GeometryColumn:
    """Geometry of n rows, in the nested-offsets layout of columnar data, always held as multi.

    Row i is the parts ``row_offsets[i]:row_offsets[i + 1]``, part j the rings ``part_offsets[j]:
    part_offsets[j + 1]``, ring k the vertices ``ring_offsets[k]:ring_offsets[k + 1]``. A ring of a
    polygon repeats its first vertex; the first ring of a part is its outer ring. Lines and points
    use the same three levels: a part of a line layer has one "ring", its path; a part of a point
    layer one ring of one vertex. So one piece of code serves all three.

    Attributes
    ----------
    family : Family
    xy : (n_vertices, 2) float64
    ring_offsets : (n_rings + 1,) int64
    part_offsets : (n_parts + 1,) int64
    row_offsets : (n_rows + 1,) int64
    is_null : (n_rows,) bool
        A null geometry has no parts. A row without parts that is not null is empty.
    is_multi : bool
        Whether files should get multi geometries; False only if no row has two parts.
    z, m : (n_vertices,) float64 or None
    """

    family: Family
    xy: F64Array
    ring_offsets: I64Array
    part_offsets: I64Array
    row_offsets: I64Array
    is_null: BoolArray
    is_multi: bool = True
    z: F64Array | None = None
    m: F64Array | None = None

    def __post_init__(self) -> None:
        # Arrays of others may be of other types, views, or not to be written to, as Arrow's are; the
        # compiled loops take none such.
        for name, kind in _KINDS:
            own = getattr(self, name)
            if own is not None and not (
                isinstance(own, np.ndarray)
                and own.dtype == kind
                and own.flags.c_contiguous
                and own.flags.writeable
            ):
                object.__setattr__(self, name, np.array(own, kind, order="C"))

    def as_multi_as(self, *sources: GeometryColumn) -> GeometryColumn:
        """Return the same, told to be multi if a source is, or a row has several parts."""
        has_several = bool((np.diff(self.row_offsets) > 1).any())
        return replace(self, is_multi=has_several or any(source.is_multi for source in sources))

    @property
    def n_rows(self) -> int:
        return len(self.is_null)

    @property
    def n_parts(self) -> int:
        return len(self.part_offsets) - 1

    @property
    def n_rings(self) -> int:
        return len(self.ring_offsets) - 1

    @property
    def n_vertices(self) -> int:
        return len(self.xy)

    @property
    def ring_offsets_of_rows(self) -> I64Array:
        """(n_rows + 1,) offsets row → ring."""
        return self.part_offsets[self.row_offsets]

    @property
    def vertex_offsets_of_rows(self) -> I64Array:
        """(n_rows + 1,) offsets row → vertex."""
        return self.ring_offsets[self.ring_offsets_of_rows]

    @property
    def is_empty(self) -> BoolArray:
        """(n_rows,) rows without any vertex, null or not."""
        return np.diff(self.vertex_offsets_of_rows) == 0

    @staticmethod
    def from_parts(
        family: Family,
        xy: F64Array,
        ring_offsets: I64Array,
        part_offsets: I64Array,
        row_of_part: I64Array,
        n_rows: int,
    ) -> GeometryColumn:
        """Build a column from parts in rising order of row; rows without parts are empty."""
        row_offsets = offsets_from(np.bincount(row_of_part, minlength=n_rows))
        return GeometryColumn(
            family=family,
            xy=xy,
            ring_offsets=ring_offsets,
            part_offsets=part_offsets,
            row_offsets=row_offsets,
            is_null=np.zeros(n_rows, bool),
        )

    @staticmethod
    def nulls(n_rows: int) -> GeometryColumn:
        """Build a column of rows that have no geometry."""
        none = np.zeros(1, np.int64)
        return GeometryColumn(
            family=Family.POINTS,
            xy=np.zeros((0, 2)),
            ring_offsets=none,
            part_offsets=none,
            row_offsets=np.zeros(n_rows + 1, np.int64),
            is_null=np.ones(n_rows, bool),
            is_multi=False,
        )

    @staticmethod
    def from_points(xy: F64Array) -> GeometryColumn:
        """Build a column of single points, one a row, from (n, 2) coordinates."""
        steps = np.arange(len(xy) + 1, dtype=np.int64)
        return GeometryColumn(
            family=Family.POINTS,
            xy=xy,
            ring_offsets=steps,
            part_offsets=steps,
            row_offsets=steps,
            is_null=np.zeros(len(xy), bool),
            is_multi=False,
        )

    @staticmethod
    def from_rings(rings: Sequence[Sequence[Sequence[F64Array]]], family: Family) -> GeometryColumn:
        """Build a column from nested lists: rows of parts of rings, each ring (n, 2).

        For small hand-made geometry: a box, sample data, tests.
        """
        flat = [np.asarray(ring, np.float64) for row in rings for part in row for ring in part]
        return GeometryColumn(
            family=family,
            xy=np.concatenate(flat) if flat else np.zeros((0, 2)),
            ring_offsets=offsets_from([len(ring) for ring in flat]),
            part_offsets=offsets_from([len(part) for row in rings for part in row]),
            row_offsets=offsets_from([len(row) for row in rings]),
            is_null=np.zeros(len(rings), bool),
        )

    def take(self, rows: I64Array) -> GeometryColumn:
        """Return the chosen rows, in the order given; a row may be chosen more than once."""
        rows = np.asarray(rows, np.int64)
        if len(rows) == self.n_rows and (rows == np.arange(self.n_rows)).all():
            return self
        part_counts = np.diff(self.row_offsets)[rows]
        parts = spans(self.row_offsets[rows], part_counts)
        taken = self._take_parts(parts)
        return replace(taken, row_offsets=offsets_from(part_counts), is_null=self.is_null[rows])

    def only(self, kept: BoolArray) -> GeometryColumn:
        """Return the column with the geometry of some rows only; the others are empty."""
        if kept.all():
            return self
        rows = np.flatnonzero(kept)
        counts = np.zeros(self.n_rows, np.int64)
        counts[rows] = np.diff(self.row_offsets)[rows]
        return replace(
            self.take(rows), row_offsets=offsets_from(counts), is_null=self.is_null & kept
        )

    def slice_rows(self, start: int, stop: int) -> GeometryColumn:
        """Return rows that follow each other, without copying their vertices."""
        parts = slice(*self.row_offsets[[start, stop]])
        rings = slice(*self.part_offsets[[parts.start, parts.stop]])
        vertices = slice(*self.ring_offsets[[rings.start, rings.stop]])
        return replace(
            self,
            xy=self.xy[vertices],
            ring_offsets=self.ring_offsets[rings.start : rings.stop + 1] - vertices.start,
            part_offsets=self.part_offsets[parts.start : parts.stop + 1] - rings.start,
            row_offsets=self.row_offsets[start : stop + 1] - parts.start,
            is_null=self.is_null[start:stop],
            z=None if self.z is None else self.z[vertices],
            m=None if self.m is None else self.m[vertices],
        )

    def take_parts(self, parts: I64Array, row_of_part: I64Array, n_rows: int) -> GeometryColumn:
        """Return a column of ``n_rows`` rows made of chosen parts, in rising order of row."""
        taken = self._take_parts(parts)
        row_offsets = offsets_from(np.bincount(row_of_part, minlength=n_rows))
        return replace(taken, row_offsets=row_offsets, is_null=np.zeros(n_rows, bool))

    def _take_parts(self, parts: I64Array) -> GeometryColumn:
        ring_counts = np.diff(self.part_offsets)[parts]
        rings = spans(self.part_offsets[parts], ring_counts)
        vertex_counts = np.diff(self.ring_offsets)[rings]
        starts = self.ring_offsets[rings]
        return replace(
            self,
            xy=take_spans(self.xy, starts, vertex_counts),
            ring_offsets=offsets_from(vertex_counts),
            part_offsets=offsets_from(ring_counts),
            row_offsets=np.arange(len(parts) + 1),
            is_null=np.zeros(len(parts), bool),
            z=None if self.z is None else take_spans(self.z, starts, vertex_counts),
            m=None if self.m is None else take_spans(self.m, starts, vertex_counts),
        )

    def with_xy(self, xy: F64Array) -> GeometryColumn:
        """Return the column with other coordinates for the same vertices."""
        return replace(self, xy=xy)

    def of_kind(self, is_multi: bool, heights: str) -> GeometryColumn:
        """Return it as a piece of a column that has several parts, ``Z`` or ``M`` somewhere."""
        z, m = (
            np.full(self.n_vertices, np.nan) if own is None and name in heights else own
            for name, own in (("Z", self.z), ("M", self.m))
        )
        return replace(self, is_multi=self.is_multi or is_multi, z=z, m=m)

    def row_bounds(self) -> F64Array:
        """Return (n_rows, 4): x and y minimum, x and y maximum; (inf, inf, -inf, -inf) if empty.

        Looked for once, so not to be written to.
        """
        return self._row_bounds

    @cached_property
    def _row_bounds(self) -> F64Array:
        bounds = bounds_of_groups(self.xy, self.vertex_offsets_of_rows)
        bounds.flags.writeable = False
        return bounds

    def with_rows(self, rows: I64Array, new: GeometryColumn) -> GeometryColumn:
        """Return the column with rows (k,) replaced by those of another (k rows); null stays null."""
        source = np.arange(self.n_rows)
        source[rows] = self.n_rows + np.arange(len(rows))
        both = concatenate([self, new]).take(source)
        is_multi = self.is_multi or bool((np.diff(both.row_offsets) > 1).any())
        return replace(both, is_null=self.is_null, is_multi=is_multi)

    def extent(self) -> Extent | None:
        """Return the extent of all rows, None without any."""
        return extent_of(self.row_bounds())

    def fault(self) -> str:
        """Say what of the structure cannot be, "" if all can; what rings are like is another matter."""
        levels = {
            "ring_offsets": (self.ring_offsets, self.n_vertices),
            "part_offsets": (self.part_offsets, self.n_rings),
            "row_offsets": (self.row_offsets, self.n_parts),
        }
        if self.xy.ndim != 2 or self.xy.shape[1] != 2:
            return f"xy is of shape {self.xy.shape}, not (n, 2)"
        for name, axis in (("z", self.z), ("m", self.m)):
            if axis is not None and axis.shape != (self.n_vertices,):
                return f"{name} is of shape {axis.shape}, and there are {self.n_vertices} vertices"
        for name, (offsets, n_items) in levels.items():
            if not len(offsets) or offsets[0] != 0 or offsets[-1] != n_items:
                return f"{name} do not go from 0 to {n_items}"
            if (np.diff(offsets) < 0).any():
                return f"{name} fall"
        if len(self.row_offsets) != self.n_rows + 1:
            return f"row_offsets are of {len(self.row_offsets) - 1} rows, is_null of {self.n_rows}"
        n_parts = np.diff(self.row_offsets)
        if (self.is_null & (n_parts > 0)).any():
            return "a row that is null has parts"
        if not self.is_multi and (n_parts > 1).any():
            return "a row has several parts, and is_multi is False"
        if self.family != Family.POLYGONS and (np.diff(self.part_offsets) != 1).any():
            return f"a part of {self.family.words} has another number of rings than one"
        if self.family == Family.POINTS and (np.diff(self.ring_offsets) != 1).any():
            return "a part of points has another number of vertices than one"
        return ""

    def check(self) -> None:
        """Assert that there is no `fault`; cheap, for our own code after building a column."""
        fault = self.fault()
        assert not fault, fault


def extent_of(bounds: F64Array) -> Extent | None:
    """Return what encloses all bounds (n, 4) that are finite; None if none is."""
    if len(bounds):
        # Column by column, many times sooner; bounds of nothing take no part, NaN does.
        low_x, low_y, high_x, high_y = bounds.T
        found = float(low_x.min()), float(low_y.min()), float(high_x.max()), float(high_y.max())
        if np.isfinite(found).all():
            return found
    is_finite = np.isfinite(bounds)
    if not is_finite.all():
        bounds = bounds[is_finite.all(axis=1)]
    if len(bounds) == 0:
        return None
    low, high = bounds[:, :2].min(axis=0), bounds[:, 2:].max(axis=0)
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def located_in_rings(xy: F64Array, offsets: I64Array, points: F64Array, ring: I64Array) -> I64Array:
    """Return 1 for each of (n, 2) points inside the ring it is asked of, 0 on it, -1 outside; exact."""
    sides = np.empty(len(ring), np.int64)
    is_long = np.diff(offsets)[ring] > LONG_RING
    short, long = np.flatnonzero(~is_long), np.flatnonzero(is_long)
    # Many points of long rings are put in order first: else all edges would be asked of each.
    long = long[np.lexsort((points[long, 1], ring[long]))]
    rings = (np.ascontiguousarray(xy), offsets)
    for chosen, kernel in (
        (short, kernels.places.locate_in_rings),
        (long, kernels.places.locate_rising),
    ):
        sides[chosen] = _located_by(kernel, *rings, points[chosen], ring[chosen])
    return sides


def _located_by(
    kernel: Callable[..., None], xy: F64Array, offsets: I64Array, points: F64Array, ring: I64Array
) -> I64Array:
    x, y = np.ascontiguousarray(points.T)
    sides = np.empty(len(ring), np.int64)

    def locate(first: int, stop: int) -> None:
        own = slice(first, stop)
        kernels.run(kernel, x[own], y[own], ring[own], xy, offsets, np.zeros(16), sides[own])

    if len(ring):
        parallel.each(locate, parallel.split(len(ring)))
    return sides


def bounds_of_groups(xy: F64Array, offsets: I64Array) -> F64Array:
    """Return the (n, 4) bounds of groups of vertices: x, y minimum, x, y maximum.

    Infinite, the minimum above the maximum, for a group without vertices; NaN where a coordinate is.
    """
    if len(xy) == len(offsets) - 1 and (np.diff(offsets) == 1).all():
        return np.concatenate([xy, xy], axis=1)  # points
    bounds = np.empty((len(offsets) - 1, 4))
    xy = np.ascontiguousarray(xy)

    def measure(first: int, stop: int) -> None:
        part = offsets[first : stop + 1]
        kernels.run(kernels.vertices.bound_groups, xy, part, bounds[first:stop])

    parallel.each(measure, parallel.parted(offsets))
    return bounds


def concatenate(columns: Sequence[GeometryColumn]) -> GeometryColumn:
    """Return the rows of several columns of one family in a row.

    Where only some have Z or M, the vertices of the others get NaN.
    """
    first = columns[0]
    if len(columns) == 1:
        return first
    assert all(column.family == first.family for column in columns)
    return GeometryColumn(
        family=first.family,
        xy=np.concatenate([column.xy for column in columns]),
        ring_offsets=_joined([column.ring_offsets for column in columns]),
        part_offsets=_joined([column.part_offsets for column in columns]),
        row_offsets=_joined([column.row_offsets for column in columns]),
        is_null=np.concatenate([column.is_null for column in columns]),
        is_multi=any(column.is_multi for column in columns),
        z=joined_heights(
            [column.z for column in columns], [column.n_vertices for column in columns]
        ),
        m=joined_heights(
            [column.m for column in columns], [column.n_vertices for column in columns]
        ),
    )


def heights_of(columns: Sequence[GeometryColumn]) -> list[str]:
    """Return which of Z and M any of the columns has."""
    has_z = any(column.z is not None for column in columns)
    has_m = any(column.m is not None for column in columns)
    return ["Z"] * has_z + ["M"] * has_m


def joined_heights(values: Sequence[F64Array | None], counts: Sequence[int]) -> F64Array | None:
    """Return Z or M of several pieces in a row, NaN for pieces without; None if none has any."""
    if all(v is None for v in values):
        return None
    return np.concatenate(
        [np.full(n, np.nan) if v is None else v for v, n in zip(values, counts, strict=True)]
    )


def _joined(all_offsets: Sequence[I64Array]) -> I64Array:
    return offsets_from(np.concatenate([np.diff(offsets) for offsets in all_offsets]))
