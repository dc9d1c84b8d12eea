"""Features in degrees on planes of their own, and back over the poles and the 180th meridian."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyproj

from polygene.arrays import F64Array, I64Array, owners, spans
from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.layer import Layer

MOST_TURN = 4.0  # degrees of longitude that an edge may span


class LocalPlanes:
    """A plane for each feature, true in distance and direction from its middle.

    The azimuthal equidistant projection on the ellipsoid (Snyder 1987, chapter 25), by geodesics.
    """

    def __init__(self, column: GeometryColumn, crs: pyproj.CRS) -> None:
        self.geod = crs.get_geod() or pyproj.Geod(ellps="WGS84")
        self.factor = np.degrees(crs.axis_info[0].unit_conversion_factor)
        bounds = column.row_bounds() * self.factor
        with np.errstate(invalid="ignore"):
            self.middle = np.where(
                np.isfinite(bounds[:, :2]), (bounds[:, :2] + bounds[:, 2:]) / 2, 0
            )
        self.furthest = 0.0

    def to_plane(self, column: GeometryColumn, rows: I64Array) -> GeometryColumn:
        lon0, lat0 = self.middle[rows[owners(column.vertex_offsets_of_rows)]].T
        lon, lat = (column.xy * self.factor).T
        azimuth, _, distance = self.geod.inv(lon0, lat0, lon, lat)
        angle = np.radians(azimuth)
        self.furthest = max(self.furthest, float(np.max(distance, initial=0)))
        xy = np.stack([distance * np.sin(angle), distance * np.cos(angle)], axis=1)
        return replace(column, xy=xy, z=None, m=None)

    def to_degrees(self, column: GeometryColumn, rows: I64Array) -> GeometryColumn:
        """Return the column in degrees; longitudes run on beyond 180 rather than jump.

        A ring round a pole runs through all longitudes; it is led along the pole back to where it
        began. Near a pole edges get vertices, for what is straight on the plane is not so in degrees.
        """
        for _ in range(8):  # each time the longest are halved at least
            degrees = self._degrees(column, rows)
            turns = _turns(degrees[:, 0], column.ring_offsets)
            if (np.abs(turns) <= MOST_TURN).all():
                break
            column = _divided(column, np.maximum(1, np.ceil(np.abs(turns) / MOST_TURN)).astype(int))
        else:
            degrees = self._degrees(column, rows)
            turns = _turns(degrees[:, 0], column.ring_offsets)
        starts = column.ring_offsets[:-1]
        ring_of = owners(column.ring_offsets)
        run = np.concatenate([[0.0], np.cumsum(turns)])[:-1]
        lon = degrees[starts, 0][ring_of] + run - run[starts][ring_of]
        column = replace(column, xy=np.stack([lon, degrees[:, 1]], axis=1))
        return self._round_poles(column)

    def _degrees(self, column: GeometryColumn, rows: I64Array) -> F64Array:
        lon0, lat0 = self.middle[rows[owners(column.vertex_offsets_of_rows)]].T
        x, y = column.xy.T
        distance, azimuth = np.hypot(x, y), np.degrees(np.arctan2(x, y))
        lon, lat, _ = self.geod.fwd(lon0, lat0, azimuth, distance)
        lon = lon0 + (np.asarray(lon) - lon0 + 180) % 360 - 180
        return np.stack([lon, np.asarray(lat)], axis=1)

    def _round_poles(self, column: GeometryColumn) -> GeometryColumn:
        """Lead rings that run through all longitudes back along the pole that they go round."""
        starts, stops = column.ring_offsets[:-1], column.ring_offsets[1:]
        lon, lat = column.xy.T
        turned = np.zeros(column.n_rings)
        has = stops > starts
        turned[has] = lon[stops[has] - 1] - lon[starts[has]]
        round_pole = np.flatnonzero(np.abs(turned) > 180)
        if len(round_pole) == 0:
            return column.with_xy(column.xy / self.factor)
        # Eastward with the area to the left is round the north pole; holes run the other way.
        part_of_ring = owners(column.part_offsets)
        is_outer = np.arange(column.n_rings) == column.part_offsets[part_of_ring]
        north = (turned > 0) == is_outer
        first, last = starts[round_pole], stops[round_pole] - 1
        pole = np.where(north[round_pole], 90.0, -90.0)
        more = np.stack([
            np.stack([lon[last], pole], 1), np.stack([lon[first], pole], 1),
            np.stack([lon[first], lat[first]], 1),
        ], axis=1)  # fmt: skip
        counts = np.diff(column.ring_offsets)
        counts[round_pole] += 3
        offsets = np.concatenate([[0], np.cumsum(counts)])
        xy = np.empty((int(offsets[-1]), 2))
        is_new = np.zeros(len(xy), bool)
        is_new[(offsets[1:][round_pole, None] - np.arange(3, 0, -1)).ravel()] = True
        xy[~is_new], xy[is_new] = column.xy, more.reshape(-1, 2)
        return replace(column, xy=xy / self.factor, ring_offsets=offsets, z=None, m=None)


def _turns(lon: F64Array, ring_offsets: I64Array) -> F64Array:
    """Return by how much longitude changes from each vertex to the next of its ring, 0 at the last."""
    turns = np.zeros(len(lon))
    turns[:-1] = (np.diff(lon) + 180) % 360 - 180
    turns[ring_offsets[1:][np.diff(ring_offsets) > 0] - 1] = 0
    return turns


def _divided(column: GeometryColumn, pieces: I64Array) -> GeometryColumn:
    """Cut the edge after each vertex (n_vertices,) into so many equal pieces."""
    pieces[column.ring_offsets[1:][np.diff(column.ring_offsets) > 0] - 1] = 1
    start = np.repeat(np.arange(column.n_vertices), pieces)
    nth = spans(np.zeros(len(pieces), np.int64), pieces)
    stop = np.minimum(start + 1, column.n_vertices - 1)
    share = (nth / pieces[start])[:, None]
    first, last = column.xy.take(start, axis=0), column.xy.take(stop, axis=0)
    xy = np.where(nth[:, None] > 0, (1 - share) * first + share * last, first)
    before = np.concatenate([[0], np.cumsum(pieces)])
    return replace(column, xy=xy, ring_offsets=before[column.ring_offsets], z=None, m=None)


def within_the_world(column: GeometryColumn, layer: Layer) -> tuple[GeometryColumn, int]:
    """Part areas at the 180th meridian, as RFC 7946, 3.1.9 wants it; return how many there were."""
    from polygene.ops.clip import clip
    from polygene.ops.mend import mended_rows

    bounds = column.row_bounds()
    turn = 180.0 / np.degrees(layer.crs.axis_info[0].unit_conversion_factor) if layer.crs else 180.0
    # What runs all round is led through the clip too: its hole may be led along the pole as well.
    over = np.flatnonzero(
        (bounds[:, 0] < -turn)
        | (bounds[:, 2] > turn)
        | (bounds[:, 2] - bounds[:, 0] >= 1.99 * turn)
    )
    if len(over) == 0:
        return column, 0
    some = Layer("x", column.take(over), pa.table({"row": over}), layer.crs)
    parts, rows = [], []
    for k in (-1, 0, 1):
        west = -turn + 2 * turn * k
        box = np.array([(west, -turn), (west + 2 * turn, -turn), (west + 2 * turn, turn), (west, turn),
                        (west, -turn)])  # fmt: skip
        world = Layer(
            "w", GeometryColumn.from_rings([[[box]]], Family.POLYGONS), pa.table({}), layer.crs
        )
        found = clip(some, world).layer
        parts.append(found.geometry.with_xy(found.geometry.xy - (2 * turn * k, 0)))
        rows.append(np.asarray(found.table["row"]))
    rest = np.setdiff1d(np.arange(column.n_rows), over)
    both = concatenate([*parts, column.take(rest)])
    row = np.concatenate([*rows, rest])
    row_of_part = row[owners(both.row_offsets)]
    order = np.argsort(row_of_part, kind="stable")
    both = both.take_parts(order, row_of_part[order], column.n_rows)
    # What goes round a pole begins and ends at one meridian, where its two parts are joined again.
    joined, _ = mended_rows(both.take(over), layer.crs)
    return both.with_rows(over, joined), len(over)
