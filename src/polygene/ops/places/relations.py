"""Pairs of features of two layers that meet, and which relations make sense for them."""

from __future__ import annotations

import numpy as np

from polygene.arrays import I64Array
from polygene.crs import is_geographic
from polygene.errors import DataError, UsageError, did_you_mean
from polygene.geometry import concatenate, extent_of
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.ops.admit import admit
from polygene.ops.part import current, extent_of_whole
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.plane.relating import Pairs, relate
from polygene.plane.relations import RELATIONS, has_meaning


def related(layer: Layer, other: Layer, precision: float | None = None) -> Pairs:
    """Return all pairs of features of two layers that have a point in common, with their matrices.

    Areas are in square map units; of longitude and latitude in square metres on the ellipsoid.

    Raises
    ------
    DataError
        If coordinates are not finite.
    """
    own = [extent_of(finite_bounds(y)) for y in (layer, other)]
    extents = [extent_of_whole(k, extent) for k, extent in enumerate(own)]
    grid = grid_for(layer, [*extents, *own], precision)
    near = [_near(y, extent) for y, extent in ((layer, extents[1]), (other, extents[0]))]
    ruler = ruler_for(layer.crs) if is_geographic(layer.crs) else None
    first, second = layer.geometry.take(near[0]), other.geometry.take(near[1])
    part = current()
    if part is not None and part.context is not None:  # others of INPUT that are near these
        context = admit(part.context).layer
        first = concatenate([first, context.geometry.take(_near(context, extents[1]))])
    found = relate(first, second, grid, ruler)
    if len(near[0]) < first.n_rows:
        found = found.only(found.first < len(near[0]))
    size = 1.0 if ruler is not None else grid.step**2
    return Pairs(near[0][found.first], near[1][found.second], found.matrix, found.shared * size)


def _near(layer: Layer, extent: tuple[float, float, float, float] | None) -> I64Array:
    """Return the rows whose box meets an extent."""
    if extent is None:
        return np.zeros(0, np.int64)
    bounds = layer.geometry.row_bounds()
    meets = (bounds[:, 0] <= extent[2]) & (bounds[:, 2] >= extent[0])
    meets &= (bounds[:, 1] <= extent[3]) & (bounds[:, 3] >= extent[1])
    return np.flatnonzero(meets)


def check_relation(name: str, layer: Layer, other: Layer) -> None:
    """Refuse a relation that is unknown, or that features of these dimensions can never have.

    Raises
    ------
    UsageError
        If there is no such relation.
    DataError
        If it has no meaning for the two, saying which have.
    """
    if name not in RELATIONS:
        raise UsageError(
            f"there is no relation {name!r}{did_you_mean(name, RELATIONS)} (there are "
            f"{', '.join(RELATIONS)})"
        )
    a, b = layer.geometry.family, other.geometry.family
    if not has_meaning(name, a, b):
        known = [n for n in RELATIONS if has_meaning(n, a, b)]
        raise DataError(
            f"{a.words} never {_VERBS.get(name, name)} {b.words}; what they can be is "
            f"{', '.join(known)}"
        )


_VERBS = {
    "within": "lie within",
    "covered-by": "are covered by",
    "equals": "equal",
    "contains": "contain",
    "covers": "cover",
    "touches": "touch",
    "crosses": "cross",
    "overlaps": "overlap",
}
