"""The whole work cut into tasks, from the indices alone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene.arrays import I64Array, offsets_from
from polygene.classes import dataclass
from polygene.formats.hilbert import places_along
from polygene.formats.parquet_parts.index import Groups, extent_of_boxes
from polygene.growing.source import Source
from polygene.ops.overlays.scene import rows_near
from polygene.plane.near_boxes import NearBoxes

BYTES_AN_EDGE = 500  # that an overlay takes at its peak
BYTES_OF_A_PROCESS = 200_000_000  # before it has read anything
LEAST_EDGES = 100_000  # of a task: below, its start costs more than its work


@dataclass(frozen=True)
class Task:
    """One part of the work.

    core : by layer, the groups of rows that it is for
    near : by layer, groups that may hold rows near those
    """

    number: int
    core: tuple[I64Array, ...]
    near: tuple[I64Array, ...]


def edges_of_memory(n_bytes: int) -> int:
    """Return how many edges a task may have in its core, in so much memory of its own."""
    # Rows near the core are about as many again where tasks are small.
    return max(LEAST_EDGES, int((n_bytes - BYTES_OF_A_PROCESS) / BYTES_AN_EDGE / 1.5))


def tasks_of(
    sources: Sequence[Source],
    is_core: Sequence[bool],
    reach: float,
    most_edges: int,
    is_geographic: bool,
    far: float | None = None,
    own_are_near: bool = True,
) -> list[Task]:
    """Cut the work in tasks of about ``most_edges`` edges, along the curve.

    Parameters
    ----------
    is_core : of which layers the rows are the work of some task; INPUT's are
    reach : how far from a core row, in map units, others have to do with it
    far : rows of OTHERs further than this from INPUT are no task's work; None to keep all
    own_are_near : whether rows of INPUT near those of a task belong to what it reads
    """
    every = [source.groups() for source in sources]
    extent = sources[0].extent
    layer, group, place, edges = [], [], [], []
    for k, groups in enumerate(every):
        if not is_core[k]:
            continue
        own = np.arange(len(groups.part))
        if k and far is not None and extent is not None:
            grown = (extent[0] - far, extent[1] - far, extent[2] + far, extent[3] + far)
            own = own[rows_near(_finite(groups.boxes), grown)]
        layer.append(np.full(len(own), k))
        group.append(own)
        place.append(places_along(groups.boxes[own], is_geographic))
        edges.append(groups.vertices[own] + 1)
    layers, numbers, weights = (np.concatenate(v) for v in (layer, group, edges))
    order = np.argsort(np.concatenate(place), kind="stable")
    layers, numbers, weights = layers[order], numbers[order], weights[order]
    n_tasks = max(1, -(-int(weights.sum()) // most_edges))
    at = (np.cumsum(weights) - weights) * n_tasks // max(1, int(weights.sum()))
    cuts = offsets_from(np.bincount(at, minlength=n_tasks)) if len(at) else np.zeros(2, np.int64)
    tasks: list[Task] = []
    for start, stop in zip(cuts[:-1].tolist(), cuts[1:].tolist(), strict=True):
        if start == stop and (tasks or len(at)):
            continue
        core = tuple(
            np.sort(numbers[start:stop][layers[start:stop] == k]) for k in range(len(sources))
        )
        near = _near(every, core, reach)
        if not own_are_near:
            near = (near[0][:0], *near[1:])
        tasks.append(Task(len(tasks), core, near))
    return tasks


def _near(every: Sequence[Groups], core: Sequence[I64Array], reach: float) -> tuple[I64Array, ...]:
    """Return the groups of each layer that may hold rows near core rows and are not core."""
    boxes = np.concatenate([groups.boxes[own] for groups, own in zip(every, core, strict=True)])
    cells, extent = NearBoxes(boxes, reach, least_cells=1 << 12), extent_of_boxes(boxes)
    if extent is None:
        return tuple(own[:0] for own in core)
    x0, y0, x1, y1 = extent
    found = []
    for groups, own in zip(every, core, strict=True):
        # Most are not even near the whole; the raster is asked of the rest.
        low_x, low_y, high_x, high_y = groups.boxes.T
        with np.errstate(invalid="ignore"):
            is_near = (low_x <= x1 + reach) & (high_x >= x0 - reach)
            is_near &= (low_y <= y1 + reach) & (high_y >= y0 - reach)
        is_near[own] = False
        some = np.flatnonzero(is_near)
        found.append(some[cells.meets(groups.boxes[some])])
    return tuple(found)


def _finite(boxes: np.ndarray) -> np.ndarray:
    """Return boxes of which those without anything meet nothing."""
    return np.where(np.isnan(boxes), np.array([np.inf, np.inf, -np.inf, -np.inf]), boxes)
