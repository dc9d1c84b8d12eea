"""Choosing features by how they lie to another layer."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import count_by
from polygene.classes import dataclass
from polygene.layer import Layer
from polygene.ops.admit import admit
from polygene.ops.places.partners import beside, metric_of, partners
from polygene.ops.places.relations import related
from polygene.ops.summary import Bridge
from polygene.plane.relations import RELATIONS, has_meaning, holds


@dataclass(frozen=True)
class RelationCounts:
    """How many features of INPUT each relation to any feature of OTHER would select, and which.

    selected : relation → (n_rows,) bool
    brought : how OTHER came from another CRS, if it did
    """

    selected: dict[str, np.ndarray]
    brought: list[Bridge]


@dataclass(frozen=True)
class Chosen:
    """Features chosen by place; ``metric`` is what distances were measured on, if they were."""

    layer: Layer
    metric: str
    brought: list[Bridge]


def relation_counts(
    layer: Layer, other: Layer, precision: float | None = None, follow: float | None = None
) -> RelationCounts:
    """Count, in one pass, what each relation that has a meaning for the two layers would select."""
    found = beside(layer, other, follow=follow)
    pairs = related(admit(layer).layer, found.layer, precision)
    families = (layer.geometry.family, other.geometry.family)
    selected = {}
    for name in RELATIONS:
        if name != "disjoint" and has_meaning(name, *families):
            mask = np.zeros(layer.n_rows, bool)
            mask[pairs.first[holds(name, pairs, *families)]] = True
            selected[name] = mask
    selected["disjoint"] = ~selected["intersects"] & ~layer.geometry.is_empty
    return RelationCounts(selected, [] if found.facts is None else [found.facts])


def chosen_by_place(
    layer: Layer,
    other: Layer,
    relation: str,
    *,
    of_all: bool = False,
    up_to: float | None = None,
    invert: bool = False,
    precision: float | None = None,
    follow: float | None = None,
) -> Chosen:
    """Keep the features that lie in a relation to any feature of OTHER, or to all of them.

    ``up_to`` keeps what lies no further than that from any instead, in metres, or map units without a
    CRS; ``invert`` the rest of it.

    Raises
    ------
    UsageError, DataError
        If the relation is unknown, or has no meaning for the two layers.
    """
    n_other = int((~other.geometry.is_empty).sum())
    asked = "nearest" if up_to is not None else relation
    asked = "intersects" if asked == "disjoint" else asked
    found = partners(layer, other, asked, up_to=up_to, precision=precision, follow=follow)
    counts = count_by(found.first, layer.n_rows)
    if relation == "disjoint" and up_to is None:
        mask = (counts == 0) & ~layer.geometry.is_empty
    else:
        mask = counts == n_other if of_all and up_to is None else counts > 0
    if invert:
        mask = ~mask
    return Chosen(
        replace(layer.take(mask), total=layer.n_total),
        "" if up_to is None else metric_of(layer),
        [] if found.bridge is None else [found.bridge],
    )
