"""Where an extent in one CRS lies in another: one box or two that hold all of it, and not much more.

A projection is right near home only; far from it places fall on each other or have no image. So
what is brought across is cut to a window first, and the window is found from INPUT's side, where
coordinates are known to mean something.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene.arrays import BoolArray, F64Array
from polygene.between import Way
from polygene.classes import NamedTuple
from polygene.crs import degrees_of, is_geographic
from polygene.geometry import Extent
from polygene.ops.places.courses import Units, metres_between

INSIDE = 33  # places across and up an extent that are looked up
ALONG = 512  # places along each side of an extent or window
LEAST_MARGIN = 10.0  # metres round an extent
LARGEST_GAP = 30.0  # degrees of longitude that no place looked up has, or all have some
SAME_PLACE = 1.0  # metres that a place may be off after going there and back
MOST_TRIES = 12


class Windows(NamedTuple):
    """Boxes, and how many metres their border is clear of what they are for."""

    boxes: list[Extent]
    clear: float


def windows_of(extent: Extent, way: Way, reach: float = 0.0) -> Windows | None:
    """Return boxes in the source CRS of ``way`` that hold an extent in its target, grown by ``reach``.

    ``reach`` is in units of the target. The image of their border lies outside the grown extent,
    unless it is where the source ends, at the 180th meridian or a pole. None if the extent has no
    place in the source.
    """
    grown = _grown(extent, way, reach)
    across = np.linspace(grown[0], grown[2], INSIDE), np.linspace(grown[1], grown[3], INSIDE)
    inside = np.stack([v.ravel() for v in np.meshgrid(*across)], axis=1)
    places = np.concatenate([inside, _outline(grown)])
    found = way.back(places)
    there, units = way.there(found), Units.of(way.target)
    with np.errstate(invalid="ignore"):
        is_right = metres_between(units, places, there) <= SAME_PLACE
    if not is_right.any():
        return None
    found = found[is_right]
    clear = min(a - b for a, b in zip(grown[2:], extent[2:], strict=True))
    if units.is_geographic:
        clear *= units.radius
    margin = 0.02
    for _ in range(MOST_TRIES):
        if is_geographic(way.source):
            boxes = _on_the_globe(found, way, grown, margin)
        else:
            boxes = [_with_margin(found, margin)]
        if not _comes_back(boxes, way, grown):
            break
        margin *= 2
    return Windows(boxes, max(clear * units.size, LEAST_MARGIN))


def _grown(extent: Extent, way: Way, reach: float) -> Extent:
    """Return an extent with a margin, no further than longitudes and latitudes go."""
    x0, y0, x1, y1 = extent
    units = Units.of(way.target)
    least = LEAST_MARGIN / (units.size * (units.radius if units.is_geographic else 1.0))
    more_x, more_y = (max(0.01 * (b - a), least) + reach for a, b in ((x0, x1), (y0, y1)))
    if not units.is_geographic:
        return x0 - more_x, y0 - more_y, x1 + more_x, y1 + more_y
    quarter = 90 / degrees_of(way.target)
    y0, y1 = max(y0 - more_y, -quarter), min(y1 + more_y, quarter)
    more_x /= max(np.cos(max(abs(y0), abs(y1)) * units.size), 1e-3)
    x0, x1 = x0 - more_x, x1 + more_x
    if x1 - x0 >= 4 * quarter:
        x0, x1 = -2 * quarter, 2 * quarter
    return x0, y0, x1, y1


def _outline(box: Extent) -> F64Array:
    """Return places along the four sides of a box."""
    x0, y0, x1, y1 = box
    t = np.linspace(0, 1, ALONG)
    x, y = x0 + t * (x1 - x0), y0 + t * (y1 - y0)
    sides = [(x, np.full(ALONG, v)) for v in (y0, y1)] + [(np.full(ALONG, v), y) for v in (x0, x1)]
    return np.concatenate([np.stack(side, axis=1) for side in sides])


def _with_margin(places: F64Array, margin: float) -> Extent:
    low, high = places.min(axis=0), places.max(axis=0)
    more = margin * np.maximum(high - low, 1e-9 * np.abs(places).max())
    (x0, y0), (x1, y1) = (low - more).tolist(), (high + more).tolist()
    return x0, y0, x1, y1


def _on_the_globe(places: F64Array, way: Way, extent: Extent, margin: float) -> list[Extent]:
    """Return boxes of longitude and latitude round places: all longitudes if a pole is among them,
    two boxes if they lie across the 180th meridian.
    """
    size = degrees_of(way.source)
    lon, lat = (places * size).T
    low, high = float(lat.min()), float(lat.max())
    more = margin * max(high - low, 1e-7)
    low, high = max(low - more, -90.0), min(high + more, 90.0)
    ordered = np.sort((lon + 180) % 360 - 180)
    gaps = np.diff(ordered, append=ordered[0] + 360)
    widest = int(np.argmax(gaps))
    west = float(ordered[(widest + 1) % len(ordered)])
    span = 360 - float(gaps[widest])
    poles = [_holds_pole(way, extent, pole / size, west / size) for pole in (-90.0, 90.0)]
    low, high = (-90.0 if poles[0] else low), (90.0 if poles[1] else high)
    more = margin * max(span, 1e-7)
    if any(poles) or gaps[widest] < LARGEST_GAP or span + 2 * more >= 360:
        return [(-180 / size, low / size, 180 / size, high / size)]
    west, east = west - more, west + span + more
    west, east = (west + 180) % 360 - 180, (east + 180) % 360 - 180
    sides = [(west, east)] if west <= east else [(west, 180.0), (-180.0, east)]
    return [(w / size, low / size, e / size, high / size) for w, e in sides]


def _holds_pole(way: Way, extent: Extent, pole: float, longitude: float) -> bool:
    """Whether a pole lies in an extent, and comes back from there as one."""
    there = way.there(np.array([[longitude, pole]]))
    if not np.isfinite(there).all() or not bool(_within(there, extent)[0]):
        return False
    return bool(abs(way.back(there)[0, 1] - pole) * Units.of(way.source).size < 1e-6)


def _within(places: F64Array, box: Extent) -> BoolArray:
    x, y = places.T
    return (x >= box[0]) & (x <= box[2]) & (y >= box[1]) & (y <= box[3])


def _comes_back(boxes: Sequence[Extent], way: Way, extent: Extent) -> bool:
    """Whether the border of windows, where the source goes on beyond it, has an image in an extent."""
    border = np.concatenate([_outline(box) for box in boxes])
    if is_geographic(way.source):
        size = degrees_of(way.source)
        ends = (np.abs(border[:, 0]) * size >= 180 - 1e-9) | (
            np.abs(border[:, 1]) * size >= 90 - 1e-9
        )
        border = border[~ends]
    there = way.there(border)
    with np.errstate(invalid="ignore"):
        is_right = metres_between(Units.of(way.source), border, way.back(there)) <= SAME_PLACE
        return bool((_within(there, extent) & is_right).any())


def repeated(boxes: Sequence[Extent], extent: Extent | None, turn: float) -> list[Extent]:
    """Return boxes as often as they come within longitudes that go on beyond 180."""
    if extent is None:
        return list(boxes)
    return [
        (x0 + k * turn, y0, x1 + k * turn, y1)
        for x0, y0, x1, y1 in boxes
        for k in (-1, 0, 1)
        if k == 0 or (x0 + k * turn < extent[2] and x1 + k * turn > extent[0])
    ]
