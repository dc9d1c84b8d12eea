"""Crossings: the points in which lines of INPUT meet lines of OTHER."""

from __future__ import annotations

from dataclasses import field, replace

import numpy as np

from polygene.arrays import I64Array, distinct, number_pairs, owners
from polygene.classes import dataclass
from polygene.crs import label
from polygene.errors import DataError
from polygene.geometry import Family, GeometryColumn, extent_of, heights_of
from polygene.layer import Layer
from polygene.ops.attributes import joined
from polygene.ops.parts import single_parts as to_single_parts
from polygene.ops.places.bringing import brought
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.summary import Bridge, Side
from polygene.plane import members as members_of
from polygene.plane.borders import outline
from polygene.plane.members import Members
from polygene.plane.overlay import Overlay, overlay
from polygene.plane.steps import steps_of
from polygene.plane.touch import rows_touched
from polygene.progress import SILENT, Progress
from polygene.units import Length, map_units, true_metres


@dataclass(frozen=True)
class CrossingsSummary:
    """Where lines meet: ``pairs`` of features that do, in ``points`` places for all pairs together.

    ``crossed`` and ``other_crossed`` count the features of each side that meet any.
    """

    input: Side
    other: Side
    out: int
    pairs: int
    points: int
    crossed: int
    other_crossed: int
    crs: str
    precision: float
    notes: list[str]
    operation: str = "crossings"
    brought: list[Bridge] = field(default_factory=list)


@dataclass(frozen=True)
class CrossingsResult:
    layer: Layer
    summary: CrossingsSummary


def crossings(
    layer: Layer,
    other: Layer,
    *,
    origins: bool = False,
    single_parts: bool = False,
    precision: Length | None = None,
    follow: Length | None = None,
    progress: Progress = SILENT,
) -> CrossingsResult:
    """Return a multipoint, with the attributes of both, for each pair of lines that meet.

    OTHER may be in another CRS; its edges follow their course within ``follow``, 10 mm if not given.
    ``precision`` is the step of the grid. Lengths are texts, or numbers in metres and in map units.

    Lines meet where they cross or touch, each place once; where they run along each other they share
    a line instead, which `intersect` gives, and neither it nor its ends are among the points.

    Raises
    ------
    DataError
        If one of the layers holds no lines, or coordinates are not finite.
    """
    for role, y in (("INPUT", layer), ("OTHER", other)):
        if y.geometry.family != Family.LINES:
            raise DataError(
                f"{role}, layer {y.name!r}, holds {y.geometry.family.words}; crossings are of "
                "lines with lines"
            )
    bridge = brought(other, layer, follow=true_metres(follow))
    n_other, other = other.n_rows, bridge.layer
    bounds, other_bounds = finite_bounds(layer), finite_bounds(other)
    grid = grid_for(
        layer, [extent_of(bounds), extent_of(other_bounds)], map_units(precision, layer.crs)
    )
    border = outline(other.geometry, grid)
    rows = np.flatnonzero(rows_touched(layer.geometry, bounds, border, grid))
    progress.stage(f"crossings: {len(rows):,} near {other.name}")
    plan = overlay(layer.geometry.take(rows), other.geometry, border, grid)
    pair, node, pairs = _meetings(plan)
    geometry = GeometryColumn.from_points(plan.node_xy[node]).take_parts(
        np.arange(len(node)), pair, len(pairs)
    )
    pairs[:, 0] = rows[pairs[:, 0]]
    table = joined([layer, other], pairs, origins)
    result = replace(layer, geometry=replace(geometry, is_multi=True), table=table, ids=None)
    if single_parts:
        result = to_single_parts(result)
    lost = heights_of([layer.geometry, other.geometry])
    notes = [f"{' and '.join(lost)} values dropped: crossings have none"] if lost else []
    return CrossingsResult(
        result,
        CrossingsSummary(
            input=Side(layer.name, layer.n_total, layer.n_rows, len(rows), Family.LINES),
            other=Side(other.name, other.n_total, n_other, n_other, Family.LINES),
            out=result.n_rows,
            pairs=len(pairs),
            points=len(node),
            crossed=len(distinct(pairs[:, 0])),
            other_crossed=len(distinct(pairs[:, 1])),
            crs=label(layer.crs),
            precision=grid.step,
            notes=notes,
            brought=[] if bridge.facts is None else [bridge.facts],
        ),
    )


def _meetings(plan: Overlay) -> tuple[I64Array, I64Array, I64Array]:
    """Return pair and node of each meeting, sorted, and the (n_pairs, 2) rows of the pairs."""
    steps, noded = steps_of(plan), plan.noded
    row = owners(plan.own.ring_offsets_of_rows)[steps.path]
    along = members_of.of_edges(plan)
    edge = owners(along.offsets)
    at_node = members_of.distinct(
        np.concatenate([noded.low[edge], noded.high[edge]]),
        np.concatenate([along.rows, along.rows]),
        len(noded.node_x),
    )
    ends = np.concatenate([steps.start, steps.stop])
    end_row = np.concatenate([row, row])
    firsts = number_pairs(end_row, ends).firsts
    meets = _triples(end_row[firsts], ends[firsts], at_node.take(ends[firsts]))
    shares = _triples(end_row, ends, along.take(np.concatenate([steps.edge, steps.edge])))
    both = np.concatenate([meets, shares])
    key = number_pairs(number_pairs(both[:, 0], both[:, 1]).numbers, both[:, 2]).numbers
    is_shared = np.zeros(int(key.max(initial=-1)) + 1, bool)
    is_shared[key[len(meets) :]] = True
    kept = meets[~is_shared[key[: len(meets)]]]
    kept = kept[np.lexsort((noded.node_y[kept[:, 2]], noded.node_x[kept[:, 2]], *kept[:, 1::-1].T))]
    is_first = np.ones(len(kept), bool)
    is_first[1:] = (np.diff(kept[:, :2], axis=0) != 0).any(axis=1)
    return np.cumsum(is_first) - 1, kept[:, 2], kept[is_first, :2]


def _triples(row: I64Array, node: I64Array, members: Members) -> I64Array:
    """Return (n, 3): row of INPUT, row of OTHER, node."""
    item = owners(members.offsets)
    return np.stack([row[item], members.rows, node[item]], axis=1)
