"""What a worker does: copy a portion of a file, do a task, put a part of the result together.

It is given addresses and numbers of rows, never layers, and writes under names of its own.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import reading, record
from polygene.arrays import BoolArray, I64Array
from polygene.classes import dataclass
from polygene.errors import DataError
from polygene.formats import addressed, geoparquet
from polygene.formats.address import LayerRef
from polygene.formats.base import Reading
from polygene.formats.hilbert import PLACE_BITS, places_along
from polygene.formats.joining import joined
from polygene.formats.parquet_parts import write_part
from polygene.formats.parquet_parts.index import PartFacts, extent_of_boxes
from polygene.formats.parquet_parts.order import (
    CELL_BITS,
    Cells,
    Ordered,
    groups_of,
    ordered,
)
from polygene.formats.wanted import Wanted
from polygene.geometry import Extent, Family
from polygene.growing import far_edges
from polygene.growing.jobs import Job, once
from polygene.growing.nearest import may_be_nearest
from polygene.growing.source import Source, numbered
from polygene.growing.tasks import Task
from polygene.layer import Layer
from polygene.ops.part import Part, working_on
from polygene.ops.summary import NamedRows
from polygene.plane.near_boxes import NearBoxes, reach_of_edges
from polygene.plane.validity import invalid_rows
from polygene.progress import SILENT


@dataclass(frozen=True)
class Made:
    """Rows that a task put on the disk.

    like : the layer without rows; facts : its file, None if there are no rows
    cells : how much there is in each cell; ends : (n_groups, 2) first and last cell of each group
    """

    like: Layer
    kind: tuple[str, bool, str]
    facts: PartFacts | None
    cells: Cells
    ends: I64Array


@dataclass(frozen=True)
class Done:
    """What a task came to."""

    number: int
    made: Made
    summary: Any = None
    notes: list[str] = field(default_factory=list)
    invalid: NamedRows = field(default_factory=NamedRows)
    told: dict[str, np.ndarray] = field(default_factory=dict)
    seconds: float = 0.0
    edges: int = 0


@dataclass(frozen=True)
class Portion:
    """Some rows of a layer of a file, to be copied: ``span``, or all."""

    number: int
    ref: LayerRef
    choice: reading.Choice
    span: tuple[int, int] | None
    first: int
    folder: Path
    types: dict[str, pa.DataType] = field(default_factory=dict)
    family: Family | None = None


def copy_portion(portion: Portion) -> Done:
    """Copy rows of a file to a part of a folder, filtered, with their numbers."""
    return once(portion.folder, portion.number, lambda: _copied(portion))


def _copied(portion: Portion) -> Done:
    wanted = Wanted(where=portion.choice.where, span=portion.span)
    if portion.span is not None:
        wanted = Wanted(span=portion.span, types=portion.types, family=portion.family)
    found = addressed.read(portion.ref, wanted)
    if len(found.layers) > 1:
        kinds = " and ".join(layer.kind for layer in found.layers)
        raise DataError(
            f"{portion.ref.words} holds {kinds} together; convert it first to part them"
        )
    layer, words = portion.choice.of(found.layers[0])
    made = store(numbered(layer, portion.first), portion.folder, portion.number)
    return Done(portion.number, made, layer.n_rows, [*found.notes, *words])


def do_task(job: Job, task: Task) -> Done:
    """Do a task: read its rows and those near, do the work, write what belongs to it."""
    return once(job.folder, task.number, lambda: _done(job, task))


def _done(job: Job, task: Task) -> Done:
    began = time.monotonic()
    layers, core = rows_of(job, task)
    context = None
    if job.core_alone:
        is_core = np.isin(layers[0].numbers - 1, core[0])
        context = layers[0].take(~is_core)
        layers[0] = layers[0].take(is_core)
    part = Part(core, [source.extent for source in job.sources], context)
    with working_on(part), record.recording(record.Record(job.call.command, {})):
        result = job.call.on(*layers, progress=SILENT)
    made = store(result.layer.as_result(), job.folder, task.number)
    invalid = NamedRows()
    if job.counts_invalid and result.layer.geometry.family.words == "polygons":
        invalid = NamedRows.of(result.layer, invalid_rows(result.layer.geometry))
    return Done(
        task.number,
        made,
        result.summary,
        [],
        invalid,
        part.told,
        time.monotonic() - began,
        sum(layer.geometry.n_vertices for layer in layers),
    )


def rows_of(job: Job, task: Task) -> tuple[list[Layer], list[I64Array]]:
    """Return the layers of a task, core rows and those near them, and the numbers of its core rows."""
    boxes = [s.boxes(own) for s, own in zip(job.sources, task.core, strict=True)]
    cells = NearBoxes(np.concatenate(boxes), job.reach)
    layers, core, edges = [], [], [np.zeros((0, 4))]
    for source, own, near in zip(job.sources, task.core, task.near, strict=True):
        groups = np.sort(np.concatenate([own, near]))
        keeps = cells.meets(source.boxes(groups))
        keeps |= _rows_in(source, groups, own)
        layers.append(source.rows(groups, keeps))
        core.append(np.sort(source.numbers(own)))
        if job.reach:
            edges.append(reach_of_edges(layers[-1].geometry, cells))
    further = NearBoxes(np.concatenate(edges), job.reach)
    for k, source in enumerate(job.sources):
        if job.reach and (len(task.near[k]) or k or not job.core_alone):
            layers[k] = _with_more(source, layers[k], further)
    if job.nearest is not None:
        sizes = np.diff(job.sources[0].groups().first)[task.core[0]]
        other = job.sources[1]
        groups, keeps = may_be_nearest(other, boxes[0], sizes, job.nearest, job.reach)
        layers[1] = _with_rows(job.sources[1], layers[1], groups, keeps)
    if job.reach and not job.core_alone and job.call.arguments.get("invalid", "mend") == "mend":
        seen = extent_of_boxes(np.concatenate([*boxes, *edges]))
        layers = [_without_far(y, c, seen, job.reach) for y, c in zip(layers, core, strict=True)]
    return layers, core


def _without_far(layer: Layer, core: I64Array, seen: Extent | None, reach: float) -> Layer:
    """Return a layer whose large polygons, but those of the core, have only what counts near that.

    An invalid one stays as it is: how it is mended hangs on all of it.
    """
    column = layer.geometry
    large = np.diff(column.vertex_offsets_of_rows) >= far_edges.LARGE
    large &= ~np.isin(layer.numbers - 1, core)
    if seen is None or column.family != Family.POLYGONS or not large.any():
        return layer
    large &= ~invalid_rows(column, large)
    margin = 16 * reach
    window = (seen[0] - margin, seen[1] - margin, seen[2] + margin, seen[3] + margin)
    return replace(layer, geometry=far_edges.reduced(column, large, window))


def _with_more(source: Source, layer: Layer, near: NearBoxes) -> Layer:
    """Add rows near edges that reach further than the rows of a task, and tell where those may go."""
    groups = np.flatnonzero(near.meets(source.groups().boxes))
    return _with_rows(source, layer, groups, near.meets(source.boxes(groups)))


def _with_rows(source: Source, layer: Layer, groups: I64Array, keeps: BoolArray) -> Layer:
    """Add those rows of groups that ``keeps`` marks to a layer that may have some."""
    keeps = keeps.copy()
    keeps[keeps] = ~np.isin(source.numbers(groups)[keeps], layer.numbers - 1)
    if not keeps.any():
        return layer
    return source.merged(layer, source.rows(groups, keeps))


def _rows_in(source: Source, groups: I64Array, chosen: I64Array) -> BoolArray:
    """Return which rows of some groups are in chosen ones of them."""
    every = source.groups()
    counts = np.diff(every.first)[groups]
    return np.repeat(np.isin(groups, chosen), counts)


def store(layer: Layer, folder: Path, number: int) -> Made:
    """Write rows as a part of a folder, in their order."""
    rows = ordered(replace(layer, lineage=None))
    column = layer.geometry
    heights = ("" if column.z is None else "Z") + ("" if column.m is None else "M")
    kind = (column.family.words, column.is_multi, heights)
    like = replace(layer.take(np.zeros(0, np.int64)), lineage=None, ids=None, rows=None)
    facts, ends = None, np.zeros((0, 2), np.int64)
    if layer.n_rows:
        facts = write_part(folder, number, rows)
        groups = groups_of(rows.sizes)
        ends = np.stack([rows.cells[groups[:-1]], rows.cells[groups[1:] - 1]], axis=1)
    return Made(like, kind, facts, Cells.of(rows), ends)


def empty_part(like: Layer, folder: Path) -> PartFacts:
    """Write the one part of a layer without rows, which tells its fields and CRS."""
    return write_part(folder, 0, ordered(like))


@dataclass(frozen=True)
class Sheaf:
    """A part of the result, to be put together of what tasks have made.

    first, last : cells; pieces : files of the folder ``of`` and the groups of them that have any
    """

    number: int
    first: int
    last: int
    of: Path
    pieces: Sequence[tuple[str, list[int]]]
    to: Path
    like: Layer
    kind: tuple[str, bool, str]
    proves: bool


def put_together(sheaf: Sheaf) -> PartFacts:
    """Write one part of the result, and look whether it is there as it was meant.

    Raises
    ------
    FileError
        If it cannot be written, or is not.
    """
    with geoparquet.staying_open():
        return write_part(sheaf.to, sheaf.number, _gathered(sheaf), sheaf.proves)


def _gathered(sheaf: Sheaf) -> Ordered:
    readings = []
    for file, groups in sheaf.pieces:
        boxes = geoparquet.boxes_of(sheaf.of / file, groups)
        cells = places_along(boxes, _is_geographic(sheaf.like)) >> (2 * PLACE_BITS - CELL_BITS)
        keeps = (cells >= sheaf.first) & (cells <= sheaf.last)
        layer, _ = geoparquet.rows_of(sheaf.of / file, groups, keeps)
        readings.append(Reading([layer], []))
    layer = joined(sheaf.like.name, sheaf.like.name, readings).layers[0] if readings else sheaf.like
    del readings
    table = layer.table.cast(sheaf.like.table.schema) if layer.table.num_columns else layer.table
    return ordered(
        replace(sheaf.like, geometry=layer.geometry.of_kind(*sheaf.kind[1:]), table=table)
    )


def _is_geographic(layer: Layer) -> bool:
    return layer.crs is not None and layer.crs.is_geographic
