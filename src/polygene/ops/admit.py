"""Who may take part: invalid polygons are mended before any work, or refused, or left out.

The other end is `polygene.ops.proved`: what a work wrote is looked at with the same exact test.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, get_args

import numpy as np

from polygene.arrays import BoolArray, I64Array
from polygene.classes import NamedTuple
from polygene.errors import GeometryError, check_choice
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.measures import row_areas, ruler_for
from polygene.ops.mending import mended_rows
from polygene.ops.places.extents import finite_bounds
from polygene.ops.summary import Admitted, NamedRows, unit_of
from polygene.plane.problems import Problem
from polygene.plane.validity import problems_of

Invalid = Literal["mend", "refuse", "leave-out"]


class Admission(NamedTuple):
    """A layer that may be worked on: all its polygons that matter are valid.

    is_vanished : (n_rows,) rows of which nothing was left when they were mended
    kept : (n_rows,) the rows they were before some were left out
    """

    layer: Layer
    facts: Admitted
    is_vanished: BoolArray
    kept: I64Array


def admit(
    layer: Layer,
    invalid: str = "mend",
    *,
    matters: BoolArray | None = None,
    precision: float | None = None,
    counts: BoolArray | None = None,
) -> Admission:
    """Mend, refuse or leave out invalid polygons; what is valid stays bit for bit.

    Parameters
    ----------
    invalid : ``mend`` by the rule of `polygene.ops.mend`, ``refuse`` or ``leave-out``
    matters : (n_rows,) bool, optional
        Rows that have a part in the work; only they are looked at.
    counts : (n_rows,) bool, optional
        Rows that are told of, all if it is not given.

    Raises
    ------
    GeometryError
        If there are any and they are refused, naming the first; if coordinates cannot be computed with.
    UsageError
        If that is no way to treat them.
    """
    check_choice("invalid", invalid, get_args(Invalid))
    nothing, every = np.zeros(layer.n_rows, bool), np.arange(layer.n_rows)
    if layer.geometry.family != Family.POLYGONS:
        return Admission(layer, Admitted(), nothing, every)
    if invalid == "mend":
        finite_bounds(layer)
        return _mended(layer, matters, precision, every >= 0 if counts is None else counts)
    is_bad = nothing.copy()
    found = problems_of(layer.geometry, matters)
    faults = np.flatnonzero(found.kind < Problem.WRONG_DIRECTION)
    is_bad[found.row[faults]] = True
    unit = unit_of(Family.POLYGONS, ruler_for(layer.crs))
    if len(faults) and invalid == "refuse":
        row, n = int(found.row[faults[0]]), int(is_bad.sum())
        x, y = found.xy[faults[0]]
        raise GeometryError(
            f"layer {layer.name!r}",
            layer.row_label(row),
            f"{Problem(int(found.kind[faults[0]])).words}, at {x:.10g} {y:.10g} "
            f"({n:,} of {layer.n_rows:,} features are invalid)",
            "mend the layer first, or say with `invalid` mend or leave-out",
        )
    told = every >= 0 if counts is None else counts
    told = told if matters is None else told & matters
    facts = Admitted(int(told.sum()), left_out=NamedRows.of(layer, is_bad & told), unit=unit)
    if not is_bad.any():
        return Admission(layer, facts, nothing, every)
    kept = np.flatnonzero(~is_bad)
    return Admission(replace(layer.take(kept), total=layer.n_total), facts, nothing[kept], kept)


def _mended(
    layer: Layer, matters: BoolArray | None, precision: float | None, told: BoolArray
) -> Admission:
    ruler = ruler_for(layer.crs)
    unit = unit_of(Family.POLYGONS, ruler)
    every = np.arange(layer.n_rows)
    n_looked = int(told.sum() if matters is None else (matters & told).sum())
    column, is_mended = mended_rows(layer.geometry, layer.crs, precision, matters)
    if not is_mended.any():
        return Admission(layer, Admitted(n_looked, unit=unit), is_mended, every)
    rows = np.flatnonzero(is_mended & told)
    before, now = (c.take(rows) for c in (layer.geometry, column))
    is_vanished = is_mended & column.is_empty & ~layer.geometry.is_empty
    facts = Admitted(
        checked=n_looked,
        mended=NamedRows.of(layer, is_mended & told),
        left_out=NamedRows(),
        before=float(row_areas(before, ruler).sum()),
        after=float(row_areas(now, ruler).sum()),
        unit=unit,
        vanished=NamedRows.of(layer, is_vanished & told),
    )
    return Admission(replace(layer, geometry=column), facts, is_vanished, every)
