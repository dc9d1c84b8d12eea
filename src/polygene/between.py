"""Coordinate operations: from one coordinate reference system to another (pyproj)."""

from __future__ import annotations

import warnings
from collections.abc import Sequence

import numpy as np

from polygene import proj
from polygene.arrays import F64Array
from polygene.crs import LONGITUDE_LATITUDE, degrees_of, is_geographic, label, turn_of, unit
from polygene.errors import DataError
from polygene.geometry import GeometryColumn

# Metres from the middle of a map, 25 times round the earth: beyond, it is on its way to infinity, as a
# stereographic map is at the other pole, and a place is that of a number's last digits.
FARTHEST = 1e9
# Metres from where a place on the edge of a map is tried again: by the last digit it may lie beside the
# map, and by some metres where that is made of a table, as Robinson's.
BESIDE = (0.001, 2.5, 10.0)
SOME = 2000  # of more places without one, so many are tried first: with a wrong CRS all have none
EARTH = 6_371_000.0  # metres, its radius


def _ways(
    first: proj.CRS, second: proj.CRS, area: proj.AreaOfInterest | None
) -> tuple[proj.TransformerGroup | None, str]:
    """Return the operations between two CRS for an area; None, and what is wrong, if there are none."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            group = proj.TransformerGroup(first, second, always_xy=True, area_of_interest=area)  # type: ignore[arg-type]
        except proj.ProjError as err:
            return None, f": {err}"
        except IndexError:  # pyproj's own, where PROJ has no operation at all
            return None, ""
    return (group, "") if group.transformers else (None, "")


class Way:
    """One coordinate operation between two CRS, the same for all coordinates.

    Of several operations that are known, the best for an area (by PROJ's order) is taken for all:
    operations that change from place to place would tear borders.

    Attributes
    ----------
    accuracy : float or None
        In metres, None if it is not known.
    is_best : bool
        Whether there is none better that needs a file which is not here.
    """

    def __init__(
        self, source: proj.CRS, target: proj.CRS, area: Sequence[float] | None = None
    ) -> None:
        """Find the way; ``area`` is west, south, east and north of what it is for, in degrees."""
        self.source, self.target = source, target
        # What leads there leads back: the order of the two has no part in the choice.
        self._is_turned = source.to_wkt() > target.to_wkt()
        first, second = (target, source) if self._is_turned else (source, target)
        of = None if area is None else proj.AreaOfInterest(*area)
        group, said = _ways(first, second, of)
        if group is None and of is not None:  # none that is meant for there
            group, said = _ways(first, second, None)
        if group is None:
            raise DataError(f"no way is known from {label(source)} to {label(target)}{said}")
        self._operation = group.transformers[0]
        self.is_best = bool(group.best_available)
        accuracy = self._operation.accuracy
        self.accuracy = float(accuracy) if accuracy is not None and accuracy >= 0 else None
        self.description = self._operation.description or ""
        self._keeps_turn = is_geographic(source) and is_geographic(target)

    def there(self, xy: F64Array) -> F64Array:
        """Return (n, 2) coordinates in the target; not finite where they have no place."""
        found = self._moved(xy, "INVERSE" if self._is_turned else "FORWARD", self.source)
        if self._keeps_turn:
            # A shift of some metres must not turn 180 into -180.
            to_degrees, turn = degrees_of(self.source), turn_of(self.target)
            near = xy[:, 0] * (to_degrees / degrees_of(self.target))
            with np.errstate(invalid="ignore"):
                found[:, 0] -= turn * np.round((found[:, 0] - near) / turn)
        elif not is_geographic(self.target):
            found[np.abs(found).max(axis=1, initial=0.0) * unit(self.target)[1] > FARTHEST] = np.nan
        return found

    def back(self, xy: F64Array) -> F64Array:
        """Return (n, 2) coordinates in the source; not finite where they have no place."""
        return self._moved(xy, "FORWARD" if self._is_turned else "INVERSE", self.target)

    def _moved(self, xy: F64Array, direction: str, of: proj.CRS) -> F64Array:
        """Move coordinates that are in one of the two CRS; at the edge of a map from inside it."""
        found = self._as_they_are(xy, direction)
        lost = np.flatnonzero(np.isnan(found[:, 0]) & np.isfinite(xy).all(axis=1))
        if len(lost) > SOME:
            some = xy.take(np.random.default_rng(0).choice(lost, SOME, replace=False), axis=0)
            if np.isnan(self._from_beside(some, direction, of)).all():
                return found
        found[lost] = self._from_beside(xy.take(lost, axis=0), direction, of)
        return found

    def _from_beside(self, xy: F64Array, direction: str, of: proj.CRS) -> F64Array:
        """Return the places of what lies beside coordinates that have none, if on the edge of a map."""
        found = np.full(xy.shape, np.nan)
        metre = 1 / (unit(of)[1] * (EARTH if is_geographic(of) else 1.0))
        for step in BESIDE:
            for to in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                lost = np.flatnonzero(np.isnan(found[:, 0]))
                if len(lost) == 0:
                    return found
                beside = xy.take(lost, axis=0) + np.array(to) * (step * metre)
                place = self._as_they_are(beside, direction)
                back = self._as_they_are(place, "INVERSE" if direction == "FORWARD" else "FORWARD")
                # Beyond the edge some longitudes begin anew, at the other end of the map.
                with np.errstate(invalid="ignore"):
                    is_off = ~(np.abs(back - beside).max(axis=1) < 2 * BESIDE[-1] * metre)
                place[is_off] = np.nan
                found[lost] = place
        return found

    def _as_they_are(self, xy: F64Array, direction: str) -> F64Array:
        if len(xy) == 0:
            return np.zeros((0, 2))
        x, y = np.ascontiguousarray(xy.T)
        found: F64Array = np.stack(self._operation.transform(x, y, direction=direction), axis=1)
        found[~np.isfinite(found).all(axis=1)] = np.nan
        return found


def way_between(
    source: proj.CRS,
    extent: Sequence[float] | None,
    target: proj.CRS,
    target_extent: Sequence[float] | None = None,
) -> Way:
    """Return the best way from one CRS to another for what two extents, each in its own, both hold."""
    areas = [
        area
        for crs, own in ((source, extent), (target, target_extent))
        if own is not None and (area := area_of(crs, own)) is not None
    ]
    if not areas:
        return Way(source, target)
    west, south = (max(a[k] for a in areas) for k in (0, 1))
    east, north = (min(a[k] for a in areas) for k in (2, 3))
    if west > east or south > north:
        return Way(source, target, areas[-1])
    return Way(source, target, (west, south, east, north))


def to_degrees(crs: proj.CRS, geographic: proj.CRS | str = LONGITUDE_LATITUDE) -> proj.Transformer:
    """Return the way to longitude and latitude.

    Raises
    ------
    DataError
        If the CRS is not tied to the earth, or so strange that there is none.
    """
    try:
        return proj.Transformer.from_crs(crs, geographic, always_xy=True)
    except proj.ProjError as err:
        raise DataError(
            f"no way is known from {label(crs)} to longitude and latitude; if the layer states the "
            "wrong CRS, say the right one with `crs`"
        ) from err


def area_of(crs: proj.CRS, extent: Sequence[float]) -> tuple[float, float, float, float] | None:
    """Return west, south, east and north of an extent in a CRS, in degrees; None if it has no place."""
    x0, y0, x1, y1 = extent
    across, up = (v.ravel() for v in np.meshgrid(np.linspace(x0, x1, 9), np.linspace(y0, y1, 9)))
    lon, lat = np.asarray(to_degrees(crs).transform(across, up))
    has = np.isfinite(lon) & np.isfinite(lat)
    if not has.any():
        return None
    lon, lat = lon[has], lat[has]
    return (
        float(max(lon.min(), -180)),
        float(max(lat.min(), -90)),
        float(min(lon.max(), 180)),
        float(min(lat.max(), 90)),
    )


def transform(
    column: GeometryColumn, source: proj.CRS, target: proj.CRS, where: str
) -> GeometryColumn:
    """Return the column with its vertices in another CRS; heights are left as they are.

    Raises
    ------
    DataError
        If vertices cannot be transformed (outside the reach of either CRS), naming the first row.
    """
    way = way_between(source, column.extent(), target)
    there = way.there(column.xy)
    check_places(column, there, way, where)
    return column.with_xy(there)


def check_places(column: GeometryColumn, there: F64Array, way: Way, where: str) -> None:
    """Refuse vertices that have no place over there, naming the first row.

    Raises
    ------
    DataError
        If there are any.
    """
    at = np.flatnonzero(~np.isfinite(there).all(axis=1))
    if len(at):
        first = int(at[0])
        row = int(np.searchsorted(column.vertex_offsets_of_rows, first, side="right"))
        raise DataError(
            f"{where}, row {row}: {column.xy[first, 0]:g}, {column.xy[first, 1]:g} has no place in "
            f"{label(way.target)}; is the CRS of the layer right ({label(way.source)})?"
        )
