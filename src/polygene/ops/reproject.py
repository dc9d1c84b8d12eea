"""Reproject: change the CRS of a layer."""

from __future__ import annotations

from dataclasses import field, replace

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.classes import dataclass
from polygene.crs import is_same, label
from polygene.errors import DataError
from polygene.globe.meridian import heights_lost
from polygene.layer import Layer
from polygene.notes import Warned, counted
from polygene.ops.given import crs_of
from polygene.ops.places.bridge import outside_use
from polygene.ops.places.bringing import brought
from polygene.ops.places.courses import Units
from polygene.ops.places.turns import within_half_a_turn
from polygene.ops.summary import NamedRows
from polygene.units import length_worded


@dataclass(frozen=True)
class ReprojectSummary:
    """From where to where; vertices added so that long edges keep their course within ``tolerance``.

    ``within`` is that in words.
    accuracy : of the transformation in metres, None if it is not known
    outside : rows that lie outside of where the new CRS is meant to be used
    parted : features over the meridian where the new map ends; mended : those that were invalid on it
    fell : those of which nothing is left there
    turned : features moved by whole turns to within half a turn of the prime meridian
    """

    name: str
    features: int
    source: str
    target: str
    added: int
    tolerance: float | None
    accuracy: float | None
    operation: str
    outside: NamedRows
    notes: list[str]
    within: str = ""
    parted: int = 0
    mended: int = 0
    fell: NamedRows = field(default_factory=NamedRows)
    turned: int = 0


@dataclass(frozen=True)
class ReprojectResult:
    layer: Layer
    summary: ReprojectSummary


def reproject(
    layer: Layer,
    to: proj.CRS | str,
    tolerance: float | None = None,
    *,
    from_: proj.CRS | str | None = None,
) -> ReprojectResult:
    """Bring a layer to another CRS, all of it; CRS may be given by their codes.

    ``from_`` is the one that its coordinates are in, whatever the layer says.

    Edges are straight in the CRS that they are drawn in, and bend on the way to another. With
    ``tolerance``, in units of the new CRS, they get vertices until they are no further off. What
    crosses the 180th meridian is parted there in longitude and latitude, and joined on a plane.
    Longitudes beyond it, such as 190, are brought within -180 to 180.

    Raises
    ------
    DataError
        If the layer has no CRS, or features have no place in the other.
    """
    target = crs_of(to)
    if from_ is not None:
        layer = replace(layer, crs=crs_of(from_))
    if layer.crs is None:
        raise DataError(
            f"layer {layer.name!r} has no CRS, so it cannot be brought to another; say with `from_` "
            "which one its coordinates are in"
        )
    units = Units.of(target)
    metres = np.inf
    if tolerance is not None:
        metres = tolerance * units.size * (units.radius if units.is_geographic else 1.0)
    onto = Layer(layer.name, layer.geometry.take(np.zeros(0, np.int64)), pa.table({}), target)
    found = brought(layer, onto, whole=True, follow=metres, invalid="keep")
    names = label(layer.crs), label(target)
    outside = NamedRows.of(layer, outside_use(layer, target))
    within = "" if tolerance is None else length_worded(tolerance, target)
    arrived = found.layer if found.facts is not None else replace(layer, crs=target)
    turned = within_half_a_turn(arrived)
    n_turned = 0 if turned is None else int(turned.is_moved.sum())
    if turned is not None:
        arrived = replace(arrived, geometry=turned.column)
    if found.facts is None:
        assert is_same(layer.crs, target)
        summary = ReprojectSummary(
            layer.name,
            layer.n_rows,
            *names,
            0,
            tolerance,
            0.0,
            "whole turns" if n_turned else "nothing to do",
            outside,
            _heights_lost(layer, arrived),
            within,
            turned=n_turned,
        )
        return ReprojectResult(arrived, summary)
    facts, notes = found.facts, _heights_lost(layer, arrived)
    if not facts.is_best:
        notes.append(Warned(f"{layer.name}: a better way needs a file that is not here"))
    return ReprojectResult(
        arrived,
        ReprojectSummary(
            layer.name,
            layer.n_rows,
            *names,
            facts.added,
            tolerance,
            facts.accuracy,
            facts.operation,
            outside,
            notes,
            within,
            parted=facts.parted,
            mended=facts.mended,
            fell=NamedRows.of(layer, ~layer.geometry.is_empty & arrived.geometry.is_empty),
            turned=n_turned,
        ),
    )


def _heights_lost(before: Layer, after: Layer) -> list[str]:
    lost = heights_lost(before.geometry, after.geometry)
    if not lost:
        return []
    return [
        Warned(f"{before.name}: {counted(lost, 'feature')} parted over there lost Z or M values")
    ]
