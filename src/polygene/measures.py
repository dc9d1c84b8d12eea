"""Areas and lengths of geometry columns, on the plane and on the ellipsoid.

A ruler measures edges; everything else is sums of those. Both kinds are additive: cut an edge in
two and the measures of its pieces add up to its own, so what goes into an overlay can be balanced
against what comes out.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import numpy as np

from polygene import kernels, parallel, proj
from polygene.arrays import F64Array, I64Array, offsets_from, owners, spans, sum_by
from polygene.classes import dataclass
from polygene.geometry import Family, GeometryColumn

MOST_PIECES = 1000  # of one edge; what turns further is no place, and its measure has no meaning
MOST_TURN = np.radians(4.0)  # that an edge rises or turns in one piece
AT_A_TIME = 16_384  # edges that are measured by one thread at a time


class Ruler(Protocol):
    """Measures edges from ``start`` to ``stop``, both (n, 2) in map units.

    unit : the symbol of its lengths, ``m`` or ``units``
    map_unit : the size of one map unit in it (the largest, where that varies)
    """

    @property
    def unit(self) -> str: ...

    @property
    def map_unit(self) -> float: ...

    def lengths(self, start: F64Array, stop: F64Array) -> F64Array:
        """Return (n,) lengths of edges."""
        ...

    def strips(self, start: F64Array, stop: F64Array) -> F64Array:
        """Return (n,) shares of edges in the area to their left; over a closed ring they sum to it."""
        ...


@dataclass(frozen=True)
class PlaneRuler:
    """Planar measures, in metres if the size of the map unit is known."""

    map_unit: float = 1.0
    unit: str = "units"

    def lengths(self, start: F64Array, stop: F64Array) -> F64Array:
        return np.hypot(*(stop - start).T) * self.map_unit

    def strips(self, start: F64Array, stop: F64Array) -> F64Array:
        (x0, y0), (x1, y1) = start.T, stop.T
        return (0.5 * self.map_unit**2) * (x0 * y1 - x1 * y0)


@dataclass(frozen=True)
class EllipsoidRuler:
    """Measures of longitude and latitude on an ellipsoid; edges run straight in degrees.

    Integrals by three Gauss points along pieces of edges that rise and turn by no more than four
    degrees: right to 1e-9 of the length or area, near the poles too.
    """

    major: float  # semi-major axis in metres
    es: float  # eccentricity squared
    to_radians: float
    unit: str = "m"

    @property
    def map_unit(self) -> float:
        return self.major * self.to_radians

    def lengths(self, start: F64Array, stop: F64Array) -> F64Array:
        """By the radii of curvature of meridian and prime vertical (Snyder 1987, p. 24-25)."""
        return self._summed(self._lengths, start, stop)

    def strips(self, start: F64Array, stop: F64Array) -> F64Array:
        """By Green's theorem: the area of the zone up to a latitude, integrated over longitude."""
        return self._summed(self._strips, start, stop)

    def _summed(
        self, measure: Callable[[F64Array, F64Array], F64Array], start: F64Array, stop: F64Array
    ) -> F64Array:
        """Measure edges, each on its own: side by side, so many at a time that memory is near."""
        found = np.empty(len(start))

        def some(first: int, last: int) -> None:
            part = slice(first, last)
            found[part] = self._measured(measure, start[part], stop[part])

        cuts = range(0, len(start), AT_A_TIME)
        parallel.each(some, [(k, min(k + AT_A_TIME, len(start))) for k in cuts])
        return found

    def _measured(
        self, measure: Callable[[F64Array, F64Array], F64Array], start: F64Array, stop: F64Array
    ) -> F64Array:
        """Measure some edges, long ones piece by piece."""
        way = stop - start
        turn = np.maximum(np.abs(way[:, 0]), np.abs(way[:, 1]))
        counts = np.ceil(turn * (self.to_radians / MOST_TURN))
        long = np.flatnonzero(counts > 1)
        if len(long) == 0:
            return measure(start, stop)
        n = np.minimum(counts[long], MOST_PIECES).astype(np.int64)
        edge, nth = np.repeat(long, n), spans(np.zeros(len(n), np.int64), n)
        low, high = ((nth + k) / np.repeat(n, n) for k in (0, 1))
        a, go = start[edge], way[edge]
        pieces = measure(a + low[:, None] * go, a + high[:, None] * go)
        rest = np.flatnonzero(counts <= 1)
        found = np.empty(len(start))
        found[rest] = measure(start[rest], stop[rest])
        found[long] = np.add.reduceat(pieces, offsets_from(n)[:-1])
        return found

    def _lengths(self, start: F64Array, stop: F64Array) -> F64Array:
        dlon, dlat = ((stop - start) * self.to_radians).T
        total = np.zeros(len(dlon))
        for latitude, weight in self._gauss(start, stop):
            shrink = 1 - self.es * np.sin(latitude) ** 2
            along_meridian = dlat * (1 - self.es) / shrink**1.5
            along_parallel = dlon * np.cos(latitude) / np.sqrt(shrink)
            total += weight * np.hypot(along_meridian, along_parallel)
        return total * self.major

    def _strips(self, start: F64Array, stop: F64Array) -> F64Array:
        dlon = (stop[:, 0] - start[:, 0]) * self.to_radians
        zone = sum(weight * self._zone(latitude) for latitude, weight in self._gauss(start, stop))
        return -(self.major**2) * dlon * zone

    def _gauss(self, start: F64Array, stop: F64Array) -> list[tuple[F64Array, float]]:
        low = start[:, 1] * self.to_radians
        rise = (stop[:, 1] - start[:, 1]) * self.to_radians
        reach = np.sqrt(0.15)
        return [
            (low + rise * place, weight)
            for place, weight in ((0.5 - reach, 5 / 18), (0.5, 8 / 18), (0.5 + reach, 5 / 18))
        ]

    def _zone(self, latitude: F64Array) -> F64Array:
        """Return the area from the equator up, per radian of longitude (Snyder 1987, eq. 3-12)."""
        sine = np.sin(latitude)
        if self.es == 0:
            return sine
        eccentricity = np.sqrt(self.es)
        bulge = np.arctanh(eccentricity * sine) / eccentricity
        return 0.5 * (1 - self.es) * (sine / (1 - self.es * sine**2) + bulge)


def ruler_for(crs: proj.CRS | None) -> Ruler:
    """Return the ruler of a CRS: planar if projected, on its ellipsoid if geographic."""
    if crs is None or not crs.axis_info:
        return PlaneRuler()
    factor = crs.axis_info[0].unit_conversion_factor
    if not crs.is_geographic:
        return PlaneRuler(factor, "m")
    geod = crs.get_geod() or proj.Geod(ellps="WGS84")
    return EllipsoidRuler(geod.a, geod.es, factor)


def ring_areas(xy: F64Array, ring_offsets: I64Array, ruler: Ruler | None = None) -> F64Array:
    """Return the signed area of each ring, positive when counter-clockwise.

    Parameters
    ----------
    xy : (n_vertices, 2) float64
        Vertices of all rings in a row, in map units. A ring repeats its first vertex.
    ring_offsets : (n_rings + 1,) int64
        Ring r is ``xy[ring_offsets[r]:ring_offsets[r + 1]]``; it may be empty.
    ruler : Ruler, optional
        Planar, in square map units, if none is given.

    Returns
    -------
    (n_rings,) float64
        0 for an empty ring.

    Notes
    -----
    On the plane about each ring's first vertex: about the map's origin, small rings far out would
    lose every digit.
    """
    ruler = ruler or PlaneRuler()
    if isinstance(ruler, PlaneRuler):
        return _plane_rings(xy, ring_offsets)[0] * ruler.map_unit**2
    ring_of = owners(ring_offsets)
    strips = ruler.strips(xy[:-1], xy[1:])
    # ring_of    A A A A | B B B B     strip i pairs vertex i with i + 1: the one at the "|" joins
    # is_edge     1 1 1  0  1 1 1      two rings, so is no edge
    is_edge = ring_of[:-1] == ring_of[1:]
    return sum_by(ring_of[:-1][is_edge], strips[is_edge], len(ring_offsets) - 1)


def _plane_rings(xy: F64Array, ring_offsets: I64Array) -> tuple[F64Array, F64Array]:
    """Return the signed areas and the lengths of rings, in map units."""
    n_rings = len(ring_offsets) - 1
    areas, lengths = np.empty(n_rings), np.empty(n_rings)
    xy = np.ascontiguousarray(xy)

    def measure(first: int, stop: int) -> None:
        kernels.run(
            kernels.vertices.measure_rings,
            xy,
            ring_offsets[first : stop + 1],
            areas[first:stop],
            lengths[first:stop],
        )

    parallel.each(measure, parallel.parted(ring_offsets))
    return areas, lengths


def row_areas(column: GeometryColumn, ruler: Ruler | None = None) -> F64Array:
    """Return the (n_rows,) areas of polygons, holes taken off.

    True for valid geometry, whichever way its rings are turned.
    """
    return _without_holes(column, ring_areas(column.xy, column.ring_offsets, ruler))


def _without_holes(column: GeometryColumn, areas: F64Array) -> F64Array:
    """Return the (n_rows,) areas of rows by those of their rings."""
    size = np.abs(areas)
    is_outer = np.zeros(column.n_rings, bool)
    is_outer[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = True
    row_of_ring = owners(column.ring_offsets_of_rows)
    return sum_by(row_of_ring, np.where(is_outer, size, -size), column.n_rows)


def row_lengths(column: GeometryColumn, ruler: Ruler | None = None) -> F64Array:
    """Return the (n_rows,) lengths of lines, or of all rings of polygons."""
    ruler = ruler or PlaneRuler()
    row_of_ring = owners(column.ring_offsets_of_rows)
    if isinstance(ruler, PlaneRuler):
        lengths = _plane_rings(column.xy, column.ring_offsets)[1] * ruler.map_unit
        return sum_by(row_of_ring, lengths, column.n_rows)
    ring_of = owners(column.ring_offsets)
    edge = np.flatnonzero(ring_of[:-1] == ring_of[1:])
    steps = ruler.lengths(column.xy.take(edge, axis=0), column.xy.take(edge + 1, axis=0))
    return sum_by(row_of_ring[ring_of[edge]], steps, column.n_rows)


def row_areas_and_lengths(column: GeometryColumn, ruler: Ruler) -> tuple[F64Array, F64Array]:
    """Return what `row_areas` and `row_lengths` do, on the plane in one look at the vertices."""
    if not isinstance(ruler, PlaneRuler):
        return row_areas(column, ruler), row_lengths(column, ruler)
    areas, lengths = _plane_rings(column.xy, column.ring_offsets)
    row_of_ring = owners(column.ring_offsets_of_rows)
    return (
        _without_holes(column, areas * ruler.map_unit**2),
        sum_by(row_of_ring, lengths * ruler.map_unit, column.n_rows),
    )


def row_measures(column: GeometryColumn, ruler: Ruler) -> F64Array:
    """Return what an overlay must conserve in each row: number of points, length, or area."""
    if column.family == Family.POLYGONS:
        return row_areas(column, ruler)
    if column.family == Family.LINES:
        return row_lengths(column, ruler)
    return np.diff(column.row_offsets).astype(np.float64)
