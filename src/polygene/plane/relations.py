"""The named relations of the Simple Features standard (OGC 06-103r4, 6.1.15), and their patterns.

Covers and covered-by are those of GeoSPARQL (OGC 22-047r1).
"""

from __future__ import annotations

import re

import numpy as np

from polygene.arrays import BoolArray
from polygene.errors import UsageError
from polygene.geometry import Family
from polygene.plane.relating import Pairs

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
    "intersects",
    "within",
    "contains",
    "covers",
    "covered-by",
    "touches",
    "crosses",
    "overlaps",
    "equals",
    "disjoint",
)


def has_meaning(name: str, a: Family, b: Family) -> bool:
    """Whether features of two dimensions can have a relation at all."""
    # Family numbers are dimensions: what lies within another has no more of them.
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
    """Return (n_pairs,) whether a named relation other than disjoint holds."""
    if name == "crosses":
        if a == b:
            return matches(pairs, "0********")
        return matches(pairs, "T*T******" if a < b else "T*****T**")
    if name == "overlaps":
        return matches(pairs, "1*T***T**" if a == Family.LINES else "T*T***T**")
    # Several patterns for touches, covers and covered-by: any of them will do.
    found = np.zeros(len(pairs.first), bool)
    for pattern in _PATTERNS[name]:
        found |= matches(pairs, pattern)
    return found


def matches(pairs: Pairs, pattern: str) -> BoolArray:
    """Return (n_pairs,) whether the matrix is like a pattern, ``T*F**F***``.

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
        # T and F ask whether there is anything, a digit of which dimension.
        if letter == "T":
            found &= dimension >= 0
        elif letter == "F":
            found &= dimension < 0
        elif letter != "*":
            found &= dimension == int(letter)
    return found
