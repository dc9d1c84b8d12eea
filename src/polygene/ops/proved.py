"""What a work wrote is looked at, row by row, with the exact test of `audit`."""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, distinct
from polygene.errors import ValidityError
from polygene.geometry import Family, GeometryColumn
from polygene.plane.problems import Problem
from polygene.plane.validity import problems_of


def prove_valid(column: GeometryColumn, what: str, asked: BoolArray | None = None) -> int:
    """Look at every row that a work made, with the exact test of `audit`; return how many there are.

    ``asked`` (n_rows,) are those it made, all if it is not given.

    Raises
    ------
    ValidityError
        If one is invalid: a bug of ours, never the user's.
    """
    if column.family != Family.POLYGONS:
        return 0
    found = problems_of(column, asked)
    faults = np.flatnonzero(found.kind < Problem.WRONG_DIRECTION)
    if len(faults):
        first, n = int(faults[0]), len(distinct(found.row[faults]))
        x, y = found.xy[first].tolist()
        raise ValidityError(
            f"{what}: row {int(found.row[first]) + 1} of what came out is invalid "
            f"({Problem(int(found.kind[first])).words}, at {x!r} {y!r}); {n} in all"
        )
    return column.n_rows
