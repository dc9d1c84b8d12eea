"""The bridge: a layer in another CRS, brought to INPUT's, as far as INPUT reaches.

Nothing far is ever transformed. INPUT's extent tells the window in OTHER's CRS (`windows.py`);
features with a part in it are mended there and cut to it; their edges get vertices until they follow
their course (`courses.py`); then vertices are transformed, and proved by going back.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.arrays import BoolArray, F64Array, distinct, owners
from polygene.between import Way, to_degrees, way_between
from polygene.crs import degrees_of, is_geographic, is_same, label, turn_of
from polygene.errors import DataError
from polygene.geometry import Extent, Family, GeometryColumn, bounds_of_groups
from polygene.globe.meridian import AT_POLE, on_the_globe
from polygene.globe.seams import has_seams
from polygene.layer import Layer
from polygene.ops.admit import admit
from polygene.ops.mending import mended_rows, settled_rows
from polygene.ops.overlays.scene import rows_near
from polygene.ops.places.brought import Brought
from polygene.ops.places.carrying import Over, over, places_of
from polygene.ops.places.courses import Units
from polygene.ops.places.extents import finite_bounds
from polygene.ops.places.map_edge import parted_at_edge
from polygene.ops.places.turns import begin_for, rows_parted, within_a_turn
from polygene.ops.places.windows import repeated, windows_of
from polygene.ops.summary import Admitted, Bridge, NamedRows
from polygene.places import inside_points
from polygene.plane.grid import Grid, default_step
from polygene.plane.relating import relate
from polygene.plane.validity import invalid_rows

FOLLOW = 0.01  # metres


def bridged(
    other: Layer,
    onto: Layer,
    *,
    reach: float = 0.0,
    whole: bool = False,
    follow: float | None = None,
    invalid: str = "mend",
    outside: str = "bring",
) -> Brought:
    """Bring a layer to the CRS of another.

    Parameters
    ----------
    reach : how far around the extent of ``onto`` it is wanted too, in its units
    whole : bring all of it, however far
    follow : how closely edges follow their course, in metres; 0.01 if not given
    invalid : what becomes of invalid polygons: ``mend``, ``refuse`` or ``leave-out``; or they are
        carried as they are, ``keep``, where nothing is cut
    outside : of ``whole``, what becomes of rows outside the area of use of the CRS: ``bring``,
        ``refuse`` or ``leave-out``; the last leaves out those without a place there too

    Raises
    ------
    DataError
        If one of the two has a CRS and the other has none, or something near has no place there.
    """
    source, target = other.crs, onto.crs
    if is_same(source, target):
        return _counted_alike(Brought(other), onto, np.inf if whole else reach, invalid)
    if source is None or target is None:
        raise _unknown(other, onto)
    follow = FOLLOW if follow is None else follow
    given = other
    finite_bounds(other)
    extent = onto.geometry.extent()
    way = way_between(source, other.geometry.extent(), target, extent)
    windows, clear = (None, 0.0) if whole else _windows(other, onto, way, extent, reach)
    parts = _parts_near(other.geometry, windows)
    other, parts, facts = _admitted(other, parts, invalid)
    misfits = np.zeros(other.n_rows, bool)
    if whole and outside != "bring":
        misfits = outside_use(other, target)
        if outside == "refuse" and misfits.any():
            raise _misfits(other, misfits, target)
        parts &= ~misfits[owners(other.geometry.row_offsets)]
    drawn = _only_parts(other.geometry, parts)
    near, is_parted = parted_at_edge(replace(other, geometry=drawn), way)
    if windows is not None and near is not drawn:
        windows = repeated(windows, near.extent(), turn_of(source))
    followed = follow
    known = places_of(near, way) if whole else None
    if known is not None and (nowhere := known.rows_nowhere(near)).any():
        # Where a map is steep, as near places that have none, it would take long to follow edges.
        if outside == "leave-out":
            misfits |= nowhere
            near, known = near.only(~nowhere), None
        else:
            followed = np.inf
    gone = over(
        layer=replace(other, geometry=near),
        way=way,
        follow=followed,
        windows=windows,
        clear=clear,
        extent=extent,
        known=known,
    )
    if gone.is_bad.any():
        how = {"reach": reach, "whole": whole, "follow": follow / 2, "outside": outside}
        by_degrees = _by_degrees(given, onto, invalid, how)
        if by_degrees is not None:
            return by_degrees
        if outside != "leave-out":
            raise _refused(other, gone.is_bad, target)
        misfits |= gone.is_bad
        gone = gone.without_bad()
    # Those that were invalid before and are to be kept so are not asked.
    is_kept = invalid == "keep" and near.family == Family.POLYGONS
    arrived, n_mended = _landed(gone, way, ~invalid_rows(drawn) if is_kept else None)
    if (is_lost := _lies_elsewhere(gone.column, gone.there, arrived, way)).any():
        raise _refused(other, is_lost, target)
    bridge = _told(other=other, near=near, arrived=arrived, gone=gone, way=way, misfits=misfits)
    n_parted = int((is_parted & ~arrived.is_empty).sum())
    bridge = replace(bridge, follow=follow, mended=n_mended, parted=n_parted)
    result = replace(other, geometry=arrived, crs=target)
    found = Brought(
        layer=result,
        facts=bridge,
        admitted=facts,
        before=other.geometry,
        after=gone.column,
        source=source,
    )
    return _counted_alike(found, onto, np.inf if whole else reach, invalid)


def _counted_alike(found: Brought, onto: Layer, reach: float, invalid: str) -> Brought:
    """Return a layer with longitudes that count from where those of INPUT do; see `turns`."""
    layer, crs, extent = found.layer, onto.crs, onto.geometry.extent()
    if invalid == "keep" or crs is None or not turn_of(crs) or extent is None:
        return found
    begin = begin_for(layer, onto)
    if begin is None:
        return found
    turned, admitted = within_a_turn(layer.geometry, crs, begin), found.admitted
    if found.facts is None and layer.geometry.family == Family.POLYGONS:
        x0, y0, x1, y1 = extent
        window = (x0 - reach, y0 - reach, x1 + reach, y1 + reach)
        matters = rows_parted(layer.geometry, crs, begin)
        matters |= rows_near(turned.column.row_bounds(), window)
        admission = admit(layer, invalid, matters=matters)
        if admission.layer is not layer:
            turned = within_a_turn(admission.layer.geometry, crs, begin)
        layer, admitted = admission.layer, admission.facts
    facts = found.facts or _at_home(layer, label(crs))
    n = int(turned.is_moved.sum())
    return found._replace(
        layer=replace(layer, geometry=turned.column),
        facts=replace(facts, turned=n, longitudes=[begin, begin + turn_of(crs)]),
        admitted=admitted,
    )


def _at_home(layer: Layer, crs: str) -> Bridge:
    """Return how a layer came over that is in INPUT's CRS."""
    return Bridge(
        name=layer.name,
        source=crs,
        target=crs,
        total=int((~layer.geometry.is_empty).sum()),
        far=0,
        cut=0,
        added=0,
        follow=0.0,
        off=0.0,
        mended=0,
        accuracy=0.0,
        operation="whole turns",
        is_best=True,
        has_edges=False,
    )


def _told(
    other: Layer,
    near: GeometryColumn,
    arrived: GeometryColumn,
    gone: Over,
    way: Way,
    misfits: BoolArray,
) -> Bridge:
    """Return how a layer came over, but for how closely it was to follow and what was mended."""
    has = ~other.geometry.is_empty
    lost = np.diff(near.row_offsets) < np.diff(other.geometry.row_offsets)
    is_cut = (gone.is_cut | lost) & ~arrived.is_empty
    return Bridge(
        name=other.name,
        source=label(way.source),
        target=label(way.target),
        total=int(has.sum()),
        far=int((has & arrived.is_empty & ~misfits).sum()),
        cut=int(is_cut.sum()),
        added=gone.added,
        follow=0.0,
        off=gone.off,
        mended=0,
        accuracy=way.accuracy,
        operation=way.description,
        is_best=way.is_best,
        has_edges=other.geometry.family != Family.POINTS,
        outside=NamedRows.of(other, misfits),
    )


def _landed(gone: Over, way: Way, asked: BoolArray | None) -> tuple[GeometryColumn, int]:
    """Return geometry as it is to be over there, and how many polygons had to be mended for it.

    Parted at the 180th meridian where that is a border, joined where the plane goes on. Edges that bent
    may have come to cross others nearby. Only rows ``asked`` (n_rows,) are looked at, if given.
    """
    arrived = on_the_globe(gone.column, gone.there, way)
    if arrived.family != Family.POLYGONS:
        return arrived, 0
    arrived, is_mended = mended_rows(arrived, way.target, None, asked)
    if is_geographic(way.source) and not is_geographic(way.target):
        has = has_seams(gone.column) & ~arrived.is_empty
        rows = np.flatnonzero(has if asked is None else has & asked)
        if len(rows):
            arrived = settled_rows(arrived, way.target, rows)
            is_mended[rows] = False  # that their sides meet there is as it should be
    return arrived, int(is_mended.sum())


def _lies_elsewhere(
    column: GeometryColumn, there: F64Array, arrived: GeometryColumn, way: Way
) -> BoolArray:
    """Return which areas with a pole on their border (n_rows,) do not hold there what they hold here.

    Longitudes do not tell which side of a border is inside where all of it runs along one meridian,
    as that of a map does on which the poles are points. So a place inside is asked.
    """
    lost = np.zeros(column.n_rows, bool)
    if column.family != Family.POLYGONS or not is_geographic(way.target):
        return lost
    if is_geographic(way.source):
        return lost
    is_pole = 90 - np.abs(there[:, 1]) * degrees_of(way.target) < AT_POLE
    rows = distinct(owners(column.vertex_offsets_of_rows)[is_pole])
    if len(rows) == 0:
        return lost
    spots = way.there(inside_points(column.take(rows)))
    known = np.flatnonzero(np.isfinite(spots).all(axis=1))
    points, areas = GeometryColumn.from_points(spots[known]), arrived.take(rows[known])
    extents = [e for e in (points.extent(), areas.extent()) if e is not None]
    found = relate(points, areas, Grid.over(extents, default_step(True, extents)))
    lost[rows[known]] = True
    lost[rows[known[found.first[found.first == found.second]]]] = False
    return lost


def _by_degrees(other: Layer, onto: Layer, invalid: str, how: dict[str, Any]) -> Brought | None:
    """Bring a layer from one plane to another by way of longitude and latitude.

    A plane of the whole earth is cut at the 180th meridian, where what crosses it must be parted.
    Returns None if that is no way either.
    """
    source, target = other.crs, onto.crs
    if source is None or target is None or is_geographic(source) or is_geographic(target):
        return None
    if target.geodetic_crs is None:
        return None
    nothing = onto.geometry.take(np.zeros(0, np.int64))
    between = Layer(onto.name, nothing, pa.table({}), target.geodetic_crs)
    try:
        first = bridged(other, between, whole=True, follow=how["follow"], invalid=invalid)
        second = bridged(first.layer, onto, invalid="keep" if invalid == "keep" else "mend", **how)
    except DataError:
        return None
    if first.facts is None or second.facts is None:
        return None
    facts = replace(
        second.facts,
        source=first.facts.source,
        added=first.facts.added + second.facts.added,
        follow=2 * how["follow"],
        off=max(first.facts.off, second.facts.off),
        mended=first.facts.mended + second.facts.mended,
        accuracy=first.facts.accuracy,
        operation=first.facts.operation,
        is_best=first.facts.is_best,
    )
    return second._replace(facts=facts, admitted=first.admitted)


def _parts_near(column: GeometryColumn, windows: Sequence[Extent] | None) -> BoolArray:
    """Return which parts (n_parts,) come near the windows; all without windows."""
    if windows is None:
        return np.ones(column.n_parts, bool)
    bounds = bounds_of_groups(column.xy, column.ring_offsets[column.part_offsets])
    near = np.zeros(column.n_parts, bool)
    for window in windows:
        near |= rows_near(bounds, window)
    return near


def _only_parts(column: GeometryColumn, kept: BoolArray) -> GeometryColumn:
    if kept.all():
        return column
    row_of_part = owners(column.row_offsets)
    some = column.take_parts(np.flatnonzero(kept), row_of_part[kept], column.n_rows)
    return replace(some, is_null=column.is_null)


def _admitted(
    other: Layer, parts: BoolArray, invalid: str
) -> tuple[Layer, BoolArray, Admitted | None]:
    """Mend, refuse or leave out invalid polygons that are near; return also the parts that are then."""
    if invalid == "keep" or other.geometry.family != Family.POLYGONS:
        return other, parts, None
    column = other.geometry
    is_near = np.zeros(other.n_rows, bool)
    is_near[owners(column.row_offsets)[parts]] = True
    admission = admit(other, invalid, matters=is_near)
    if admission.layer.geometry is not column:
        # Rows that were mended have other parts: all of them go on.
        mended = admission.layer.geometry
        row_of_part = owners(mended.row_offsets)
        parts = is_near[admission.kept][row_of_part]
    return admission.layer, parts, admission.facts


def _unknown(other: Layer, onto: Layer) -> DataError:
    bare, known = (other, onto) if other.crs is None else (onto, other)
    return DataError(
        f"layer {bare.name!r} has no CRS and layer {known.name!r} is in {label(known.crs)}; say with "
        f"`crs` which one the coordinates of {bare.name!r} are in"
    )


def _refused(layer: Layer, rows: BoolArray, target: proj.CRS) -> DataError:
    return DataError(
        f"layer {layer.name!r}: {_some_of(layer, rows)} no place in {label(target)}; leave such "
        "features out with a filter, or take a CRS that is meant for all of them"
    )


def _misfits(layer: Layer, rows: BoolArray, target: proj.CRS) -> DataError:
    return DataError(
        f"layer {layer.name!r}: {_some_of(layer, rows)} no place where {label(target)} is meant to be "
        "used; name a layer first whose CRS is meant for all, or say with `outside_use` what is to "
        "become of such features"
    )


def _some_of(layer: Layer, rows: BoolArray) -> str:
    named = NamedRows.of(layer, rows)
    if named.count == 1:
        return f"{named.first[0]} has"
    return f"{named.first[0]} and {named.count - 1:,} more of {layer.n_rows:,} features have"


def _windows(
    other: Layer, onto: Layer, way: Way, extent: Extent | None, reach: float
) -> tuple[list[Extent], float]:
    """Return the windows of INPUT in the CRS of a layer, none if INPUT has no extent; and how many
    metres their border is clear of it.
    """
    if extent is None:
        return [], 0.0
    found = windows_of(extent, way, reach)
    if found is None:
        raise DataError(
            f"layer {onto.name!r} has no place in {label(other.crs)}, the CRS of {other.name!r}; is "
            f"its own CRS right ({label(onto.crs)})?"
        )
    if is_geographic(way.source):
        turn = 2 * np.pi / Units.of(way.source).size
        return repeated(found.boxes, other.geometry.extent(), turn), found.clear
    return found.boxes, found.clear


def outside_use(layer: Layer, target: proj.CRS | None, whole_rows: bool = False) -> BoolArray:
    """Return the rows whose middle lies outside the area of use of a CRS.

    With ``whole_rows`` those of which any corner of their box does.
    """
    outside = np.zeros(layer.n_rows, bool)
    area = None if target is None else target.area_of_use
    if area is None or layer.crs is None:
        return outside
    bounds = layer.geometry.row_bounds()
    known = np.flatnonzero(np.isfinite(bounds).all(axis=1))
    x0, y0, x1, y1 = bounds[known].T
    places = [((x0 + x1) / 2, (y0 + y1) / 2)]
    if whole_rows:
        places += [(x, y) for x in (x0, x1) for y in (y0, y1)]
    way = to_degrees(layer.crs)
    for x, y in places:
        lon, lat = (np.asarray(v) for v in way.transform(x, y))
        lon = np.where(np.abs(lon) > 180, (lon + 180) % 360 - 180, lon)
        with np.errstate(invalid="ignore"):
            is_in = (lat >= area.south) & (lat <= area.north)
            if area.west <= area.east:
                is_in &= (lon >= area.west) & (lon <= area.east)
            else:
                is_in &= (lon >= area.west) | (lon <= area.east)
        outside[known] |= ~is_in
    return outside
