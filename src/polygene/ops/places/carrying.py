"""Geometry over the way to another CRS: cut to windows, following its course, proved by coming back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.arrays import BoolArray, F64Array, offsets_from, owners, sum_by
from polygene.between import BESIDE, Way
from polygene.classes import NamedTuple
from polygene.crs import degrees_of, is_from, is_geographic
from polygene.errors import BalanceError
from polygene.geometry import Extent, Family, GeometryColumn
from polygene.layer import Layer
from polygene.measures import ring_areas
from polygene.ops import part
from polygene.ops.overlays.how import resolved
from polygene.ops.overlays.laying import laid_over
from polygene.ops.places.boxes import ring_round
from polygene.ops.places.courses import Units, followed, metres_between, torn_edges
from polygene.plane import rules

SAME_PLACE = 0.01  # metres that a vertex may be off when it comes back
# Maps of the whole earth that PROJ does not come back from so well: of a table, whose parts are two
# metres apart where they meet, pieced together, or by steps that end too soon.
ROUGH = ("robinson", "goode", "van der grinten", "hammer")
ABOUT_THERE = 5.0  # metres that a vertex may be off then
STEEP = 100.0  # metres within which it may be seen whether it is there that they are the same


class Places(NamedTuple):
    """Where vertices are in the other CRS, (n, 2), and how many metres (n,) off they come back.

    most : metres that they may be off
    """

    there: F64Array
    off: F64Array
    most: float = SAME_PLACE

    def rows_nowhere(self, column: GeometryColumn) -> BoolArray:
        """Return which rows of the column that has these vertices have one without a place."""
        return _rows_with(column, ~(self.off <= self.most))


class Over(NamedTuple):
    """Geometry in its own CRS, cut to the windows and following its course, and where its vertices are.

    is_bad : (n_rows,) rows that have no place there, or are turned inside out
    is_cut : (n_rows,); added : vertices; off : metres that one was off at most when it came back
    """

    column: GeometryColumn
    there: F64Array
    is_bad: BoolArray
    is_cut: BoolArray
    added: int
    off: float

    def without_bad(self) -> Over:
        kept = ~self.is_bad
        there = self.column.with_xy(self.there).only(kept).xy
        return self._replace(column=self.column.only(kept), there=there, is_bad=np.zeros_like(kept))


def over(
    layer: Layer,
    way: Way,
    follow: float,
    windows: Sequence[Extent] | None,
    clear: float,
    extent: Extent | None,
    known: Places | None = None,
) -> Over:
    """Follow courses, cut to the windows, go there and prove it by coming back.

    ``known`` are the places of the layer's vertices, if somebody has asked for them already.
    """
    course = followed(layer.geometry, way, follow, windows, None if known is None else known.there)
    added = course.column.n_vertices - layer.geometry.n_vertices
    is_bad = _rows_with(course.column, course.is_torn)
    is_cut = np.zeros(layer.n_rows, bool)
    if windows is not None:
        column, is_cut = cut_to(replace(layer, geometry=course.column), windows)
        if is_cut.any():
            # The border of the windows is no straight line there either; it must stay clear of INPUT.
            course = followed(column, way, max(follow, clear / 4))
            is_bad |= _rows_with(course.column, course.is_torn)
            _prove_clear(course.column, course.there, windows, way, extent)
    column, there = course.column, course.there
    is_bad |= _rows_with(column, torn_edges(column, there, way))
    if known is None or column is not layer.geometry:
        known = _places(column.xy, there, way)
    off = known.off
    is_bad |= known.rows_nowhere(column)
    is_bad |= _turned_over(column, column.with_xy(there), way)
    is_bad &= ~column.is_empty
    return Over(
        column=column,
        there=there,
        is_bad=is_bad,
        is_cut=is_cut,
        added=added,
        off=float(off.max(initial=0.0)),
    )


def places_of(column: GeometryColumn, way: Way) -> Places:
    """Return where the vertices of a column are over there."""
    return _places(column.xy, way.there(column.xy), way)


def _places(xy: F64Array, there: F64Array, way: Way) -> Places:
    is_rough = any(is_from(crs, ROUGH) for crs in (way.source, way.target))
    return Places(there, _coming_back(xy, there, way), ABOUT_THERE if is_rough else SAME_PLACE)


def _coming_back(xy: F64Array, there: F64Array, way: Way) -> F64Array:
    """Return how many metres places (n, 2) are off when they come back.

    Where a map is very steep, as equal-area ones are at the poles, the way back is less exact than the
    way there. What comes back some metres off, and goes to the same place again, is measured there.
    """
    back = way.back(there)
    off = metres_between(Units.of(way.source), xy, back)
    steep = np.flatnonzero((off > SAME_PLACE) & (off < STEEP))
    if len(steep):
        again = way.there(back.take(steep, axis=0))
        there_off = metres_between(Units.of(way.target), there.take(steep, axis=0), again)
        off[steep] = np.fmin(off[steep], there_off)
    far = np.flatnonzero(off >= STEEP)
    if len(far) and not is_geographic(way.source):
        off[far] = _off_at_the_edge(xy.take(far, axis=0), there.take(far, axis=0), way)
    return off


def _off_at_the_edge(xy: F64Array, there: F64Array, way: Way) -> F64Array:
    """Return how many metres places (n, 2) are off that come back at the other end of a map.

    What lies a little beyond its edge does. Where a place beside it comes back, and goes to about as
    near as it is here, nothing is off; where none does, all is.
    """
    source, target = Units.of(way.source), Units.of(way.target)
    off = np.full(len(xy), np.inf)
    for step in BESIDE:
        for to in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            beside = xy + np.array(to) * (step / source.size)
            place = way.there(beside)
            is_same = metres_between(source, beside, way.back(place)) < SAME_PLACE
            is_same &= metres_between(target, there, place) < 4 * step
            off[is_same] = 0.0
    return off


def _rows_with(column: GeometryColumn, is_so: BoolArray) -> BoolArray:
    """Return which rows have a vertex of which something is true."""
    found = np.zeros(column.n_rows, bool)
    found[owners(column.vertex_offsets_of_rows)[is_so]] = True
    return found


def cut_to(layer: Layer, windows: Sequence[Extent]) -> tuple[GeometryColumn, BoolArray]:
    """Return the geometry of a layer cut to windows, and which rows reached beyond them.

    The border of the windows must lie outside of what they are for, so that the cut meets none of it.
    """
    column = layer.geometry
    bounds = column.row_bounds()
    is_inside = column.is_empty
    for x0, y0, x1, y1 in windows:
        is_inside |= (bounds >= (x0, y0, -np.inf, -np.inf)).all(axis=1) & (
            bounds <= (np.inf, np.inf, x1, y1)
        ).all(axis=1)
    rows = np.flatnonzero(~is_inside)
    if len(rows) == 0:
        return column, ~is_inside
    boxes = Layer("window", boxes_of(windows), pa.table({}), layer.crs)
    some = Layer(layer.name, column.take(rows), pa.table({}), layer.crs)
    with part.apart():
        laid = laid_over(some, [boxes], rules.CLIP, resolved({}, some))
    came, new = laid.rows[:, 0], laid.result.layer.geometry
    counts = np.zeros(len(rows), np.int64)
    counts[came] = np.diff(new.row_offsets)
    found = replace(new, row_offsets=offsets_from(counts), is_null=np.zeros(len(rows), bool))
    return column.with_rows(rows, found), ~is_inside


def window_between(x0: float, x1: float, extent: Extent, turn: float) -> Extent:
    """Return a window from one longitude to another on all that lies in an extent.

    It is higher than that: in one as flat as a line along a parallel nothing would lie.
    """
    west, south, east, north = extent
    room = max(east - west, north - south)
    pole = turn / 4
    return max(x0, west), max(south - room, -pole), min(x1, east), min(north + room, pole)


def _prove_clear(
    column: GeometryColumn,
    there: F64Array,
    windows: Sequence[Extent],
    way: Way,
    extent: Extent | None,
) -> None:
    """Look at every edge that the cut to the windows made: none may reach into INPUT's extent.

    Raises
    ------
    BalanceError
        If one does: a bug of ours.
    """
    if column.family != Family.POLYGONS or extent is None:
        return
    ring_of = owners(column.ring_offsets)
    start = np.flatnonzero(ring_of[:-1] == ring_of[1:])
    a, b = column.xy.take(start, axis=0), column.xy.take(start + 1, axis=0)
    is_made = np.zeros(len(start), bool)
    slack = 1e-9 * max(np.abs(windows).max(), 1.0)
    for axis in (0, 1):
        for side in {box[k] for box in windows for k in (axis, axis + 2)}:
            if not _is_end(way.source, axis, side):
                is_made |= (np.abs(a[:, axis] - side) < slack) & (np.abs(b[:, axis] - side) < slack)
    at = start[is_made]
    p, q = there.take(at, axis=0), there.take(at + 1, axis=0)
    reaches = _reach_into(p, q, extent)
    if reaches.any():
        x, y = p[reaches][0].tolist()
        raise BalanceError(f"a window that OTHER was cut to reaches into INPUT, at {x!r} {y!r}")


def _is_end(crs: proj.CRS, axis: int, value: float) -> bool:
    """Whether longitudes or latitudes go no further than a value."""
    if not is_geographic(crs):
        return False
    return abs(value) * degrees_of(crs) >= (180, 90)[axis] - 1e-9


def _reach_into(p: F64Array, q: F64Array, extent: Extent) -> BoolArray:
    """Return which edges from p to q (n, 2) have a place in an extent."""
    x0, y0, x1, y1 = extent
    low, high = np.minimum(p, q), np.maximum(p, q)
    meets = (low <= (x1, y1)).all(axis=1) & (high >= (x0, y0)).all(axis=1)
    way = q - p
    corners = np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1)])
    sides = np.stack([way[:, 0] * (y - p[:, 1]) - way[:, 1] * (x - p[:, 0]) for x, y in corners])
    return meets & (sides.min(axis=0) <= 0) & (sides.max(axis=0) >= 0)


def boxes_of(boxes: Sequence[Extent]) -> GeometryColumn:
    """Return rectangles as a column of polygons."""
    return GeometryColumn.from_rings([[[ring_round(box)]] for box in boxes], Family.POLYGONS)


def _turned_over(column: GeometryColumn, there: GeometryColumn, way: Way) -> BoolArray:
    """Return rows with a ring that was turned inside out, since it goes round a place that has none.

    A map that is right all over the inside of a ring keeps the way it turns. Longitudes jump at the
    180th meridian, so rings that were brought to such are not asked.
    """
    found = np.zeros(column.n_rows, bool)
    if column.family != Family.POLYGONS or is_geographic(way.target) or column.n_vertices == 0:
        return found
    before = ring_areas(column.xy, column.ring_offsets)
    after = ring_areas(there.xy, there.ring_offsets)
    ring_of = owners(there.ring_offsets)
    is_edge = ring_of[:-1] == ring_of[1:]
    steps = np.hypot(*(there.xy[1:] - there.xy[:-1]).T)[is_edge]
    length = sum_by(ring_of[:-1][is_edge], steps, there.n_rings)
    size = Units.of(way.target).size
    with np.errstate(invalid="ignore"):
        is_sure = np.abs(after) * size > 1e-3 * length
        turned = is_sure & (np.sign(after) != np.sign(before) * _handedness(column.xy, way))
    found[owners(column.ring_offsets_of_rows)[turned]] = True
    return found


def _handedness(xy: F64Array, way: Way) -> float:
    """Return -1 if the way mirrors the plane, as one to axes that point west does, else 1."""
    some = xy[np.linspace(0, len(xy) - 1, 25).astype(np.int64)]
    step = 1e-6 * max(float(np.abs(some).max()), 1.0)
    here, east, north = (way.there(some + d) for d in ((0, 0), (step, 0), (0, step)))
    a, b = east - here, north - here
    with np.errstate(invalid="ignore"):
        return float(np.sign(np.nansum(np.sign(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])))) or 1.0
