"""The named relations of the Simple Features standard (OGC 06-103r4, 6.1.15), and their patterns."""

from __future__ import annotations

import re

import numpy as np

from polygene.arrays import BoolArray, I64Array
from polygene.errors import DataError, UsageError, did_you_mean
from polygene.geometry import Family, extent_of
from polygene.layer import Layer
from polygene.ops.extents import finite_bounds, grid_for
from polygene.plane.relating import Pairs, relate

# Patterns over the matrix row by row: T any, F none, * whatever, or a dimension.
_PATTERNS = {
    "intersects": ["T********", "*T*******", "***T*****", "****T****"],
    "within": ["T*F**F***"],
    "contains": ["T*****FF*"],
    "covers": ["T*****FF*", "*T****FF*", "***T**FF*", "****T*FF*"],
    "covered-by": ["T*F**F***", "*TF**F***", "**FT*F***", "**F*TF***"],
    "touches": ["FT*******", "F**T*****", "F***T****"],
    "equals": ["T*F**FFF*"],
}
RELATIONS = (
    "intersects", "within", "contains", "covers", "covered-by", "touches", "crosses", "overlaps",
    "equals", "disjoint",
)  # fmt: skip
MEETING = tuple(name for name in RELATIONS if name != "disjoint")


def related(layer: Layer, other: Layer, precision: float | None = None) -> Pairs:
    """Return all pairs of features of two layers that have a point in common, with their matrices.

    Raises
    ------
    DataError
        If coordinates are not finite.
    """
    extents = [extent_of(finite_bounds(y)) for y in (layer, other)]
    grid = grid_for(layer, extents, precision)
    near = [_near(y, extent) for y, extent in ((layer, extents[1]), (other, extents[0]))]
    found = relate(layer.geometry.take(near[0]), other.geometry.take(near[1]), grid)
    return Pairs(
        near[0][found.first], near[1][found.second], found.matrix, found.shared * grid.step**2
    )


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


_VERBS = {"within": "lie within", "covered-by": "are covered by", "equals": "equal",
          "contains": "contain", "covers": "cover", "touches": "touch", "crosses": "cross",
          "overlaps": "overlap"}  # fmt: skip


def has_meaning(name: str, a: Family, b: Family) -> bool:
    """Whether features of two dimensions can have a relation at all."""
    if name in ("within", "covered-by"):
        return a <= b
    if name in ("contains", "covers"):
        return a >= b
    if name in ("equals", "overlaps"):
        return a == b
    if name == "crosses":
        return a != b or a == Family.LINES
    if name == "touches":
        return not (a == b == Family.POINTS)
    return True


def holds(name: str, pairs: Pairs, a: Family, b: Family) -> BoolArray:
    """Return for each pair whether a named relation other than disjoint holds."""
    if name == "crosses":
        if a == b:
            return matches(pairs, "0********")
        return matches(pairs, "T*T******" if a < b else "T*****T**")
    if name == "overlaps":
        return matches(pairs, "1*T***T**" if a == Family.LINES else "T*T***T**")
    found = np.zeros(len(pairs.first), bool)
    for pattern in _PATTERNS[name]:
        found |= matches(pairs, pattern)
    return found


def matches(pairs: Pairs, pattern: str) -> BoolArray:
    """Return for each pair whether its matrix is like a pattern, ``T*F**F***``.

    Raises
    ------
    UsageError
        If it is no pattern.
    """
    if not re.fullmatch(r"[TF*012]{9}", pattern.upper()):
        raise UsageError(
            f"{pattern!r} is no pattern; it has nine of T, F, *, 0, 1 and 2, as in T*F**F***"
        )
    found = np.ones(len(pairs.first), bool)
    for letter, dimension in zip(pattern.upper(), pairs.matrix.reshape(-1, 9).T, strict=True):
        if letter == "T":
            found &= dimension >= 0
        elif letter == "F":
            found &= dimension < 0
        elif letter != "*":
            found &= dimension == int(letter)
    return found
