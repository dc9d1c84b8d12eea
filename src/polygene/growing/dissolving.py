"""A dissolve in tasks: borders of groups by tasks, then groups by their keys, some at a time."""

from __future__ import annotations

import itertools
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from polygene import computing as pc
from polygene import record
from polygene.arrays import BoolArray, I64Array, distinct, offsets_from, spans
from polygene.classes import NamedTuple, dataclass
from polygene.errors import FileError, reason_of
from polygene.formats import geoparquet
from polygene.formats.base import Reading
from polygene.formats.joining import joined
from polygene.formats.parquet_parts.order import sortable
from polygene.growing.calls import Call
from polygene.growing.jobs import Job, job_in, once
from polygene.growing.source import Source, side_of_all
from polygene.growing.tasks import Task
from polygene.growing.work import Done, rows_of, store
from polygene.layer import Layer
from polygene.ops.adding import added
from polygene.ops.dissolving import Grouping, borders_of, groups_together, key_columns
from polygene.ops.given import Names, names
from polygene.ops.ground import SIZES, stretched_at
from polygene.ops.part import Part, working_on
from polygene.ops.places.extents import grid_for
from polygene.ops.summary import Side
from polygene.plane.loose_borders import LooseBorders
from polygene.table.aggregate import Take
from polygene.table.groups import group_rows
from polygene.units import map_units

NUMBER, SIZE, CROSSED = "polygene:number", "polygene:size", "polygene:crossed"
ROWS_READ_TOGETHER = 50_000
BYTES_A_BORDER = 1_200  # that putting together takes at its peak


@dataclass(frozen=True)
class Given:
    """What the first step of a task came to.

    keys : (n_groups) of its groups, in their order; row_counts, border_counts : (n_groups,)
    like : its rows without any; by : the fields they are grouped by
    """

    number: int
    keys: pa.Table
    row_counts: I64Array
    border_counts: I64Array
    like: Layer
    by: list[str]
    side: Side
    without_geometry: int
    step: float
    notes: list[str]
    seconds: float = 0.0


class Share(NamedTuple):
    """Of the files of a task: which rows and borders, as ranges (starts, counts)."""

    number: int
    rows: tuple[I64Array, I64Array]
    borders: tuple[I64Array, I64Array]


@dataclass(frozen=True)
class Bundle:
    """Groups that are put together at once, from the files of the tasks in ``folder``."""

    number: int
    shares: Sequence[Share]
    folder: Path
    to: Path
    like: Layer
    how: Grouping


def give_borders(place: str, task: Task) -> Given:
    """Do the first step of a task of the job that is kept in a folder."""
    job = job_in(place)
    return once(job.folder, task.number, lambda: _given(job, task))


def _given(job: Job, task: Task) -> Given:
    began, told = time.monotonic(), job.call.arguments
    layers, core = rows_of(job, task)
    apart = str(told.get("null_group", "together"))
    with (
        working_on(Part(core, [source.extent for source in job.sources])),
        record.recording(record.Record(job.call.command, {})),
    ):
        found = borders_of(
            layers[0],
            told.get("by", ()),
            apart,
            told.get("precision"),
            str(told.get("invalid", "mend")),
        )
    layer = found.layer
    order, keys, counts = _by_key(key_columns(layer, found.by, apart))
    group_of_row = np.repeat(np.arange(len(counts)), counts)
    numbers = (layer.numbers - 1)[order]
    by_number = np.argsort(numbers)
    at = by_number[np.searchsorted(numbers[by_number], found.number)]
    group_of_border = group_of_row[at]
    border_order = np.argsort(group_of_border, kind="stable")
    border_counts = np.bincount(group_of_border, minlength=len(counts))
    _write_rows(job.folder, task.number, layer.take(order), found.own_sizes[order],
                found.is_crossed[order], numbers)  # fmt: skip
    _write_borders(
        job.folder, task.number, found.borders.take(border_order), found.number[border_order]
    )
    like = replace(layer.take(order[:0]), rows=None, ids=None, lineage=None)
    return Given(
        task.number,
        keys,
        counts,
        border_counts,
        like,
        found.by,
        found.side,
        found.without_geometry,
        found.step,
        found.notes,
        time.monotonic() - began,
    )


def _by_key(keys: pa.Table) -> tuple[I64Array, pa.Table, I64Array]:
    """Sort rows by their keys; return the order, the key of each group and how many rows it has."""
    plain = pa.table([sortable(c) for c in keys.columns], keys.column_names)
    order = pc.sort_indices(plain, [(name, "ascending") for name in plain.column_names])
    rows = np.asarray(order).astype(np.int64)
    group = group_rows(plain, plain.column_names, len(rows)).group[rows]
    is_new = np.ones(len(rows), bool)
    is_new[1:] = group[1:] != group[:-1]
    firsts = np.flatnonzero(is_new)
    counts = np.diff(np.append(firsts, len(rows)))
    return rows, pc.take(keys, pc.column(rows[firsts])).combine_chunks(), counts


def _write_rows(
    folder: Path,
    number: int,
    layer: Layer,
    sizes: np.ndarray,
    is_crossed: BoolArray,
    rows: I64Array,
) -> None:
    more = {NUMBER: rows, SIZE: sizes, CROSSED: is_crossed}
    columns = [*layer.table.columns, *(pa.chunked_array([pc.column(v)]) for v in more.values())]
    fields = [
        *layer.table.schema,
        *(pa.field(n, c.type) for n, c in zip(more, columns[-3:], strict=True)),
    ]
    table = pa.table(columns, pa.schema(fields))
    whole = replace(layer, table=table, rows=None, ids=None, lineage=None)
    cuts = [*range(0, layer.n_rows, ROWS_READ_TOGETHER), layer.n_rows]
    geoparquet.write_groups(folder / f"r{number:05d}.parquet", whole, np.array(cuts, np.int64))


def _write_borders(folder: Path, number: int, borders: LooseBorders, rows: I64Array) -> None:
    columns = {
        "row": rows, "x": borders.x, "y": borders.y, "to_x": borders.to_x, "to_y": borders.to_y,
        "home_x": borders.xy[:, 0], "home_y": borders.xy[:, 1],
        **{f"line{k}": borders.line[:, k] for k in range(4)},
    }  # fmt: skip
    place = folder / f"b{number:05d}.parquet"
    try:
        pq.write_table(
            pa.table(columns),
            place,
            compression="zstd",
            row_group_size=ROWS_READ_TOGETHER,
            use_dictionary=[f"line{k}" for k in range(4)],
        )
    except OSError as err:
        raise FileError(f"cannot write {place}: {reason_of(err)}") from err


def bundles_of(
    given: Sequence[Given], folder: Path, to: Path, call: Call, n_bytes: int, least: int = 1
) -> list[Bundle]:
    """Part the groups of all tasks so that each bundle fits into memory; a group is never parted.

    ``least`` is how many bundles there are to be at least, if there are so many groups.
    """
    keys = pa.concat_tables([one.keys for one in given])
    plain = pa.table([sortable(c) for c in keys.columns], keys.column_names)
    group = group_rows(plain, plain.column_names, keys.num_rows).group
    order = np.asarray(
        pc.sort_indices(plain, [(name, "ascending") for name in plain.column_names])
    ).astype(np.int64)
    n_groups = int(group.max(initial=-1)) + 1
    weights = np.zeros(n_groups, np.int64)
    every = np.concatenate([one.border_counts + one.row_counts for one in given])
    np.add.at(weights, group, every)
    ranked = group[order]
    firsts = np.unique(ranked, return_index=True)[1]
    in_order = ranked[np.sort(firsts)]
    most = min(n_bytes // BYTES_A_BORDER, -(-int(weights.sum()) // least))
    before = np.cumsum(weights[in_order]) - weights[in_order]
    bundle_of = np.zeros(n_groups, np.int64)
    bundle_of[in_order] = before // max(1, most)
    bundle_of = np.unique(bundle_of, return_inverse=True)[1].reshape(-1)
    starts = offsets_from([one.keys.num_rows for one in given])
    shares: dict[int, list[Share]] = {}
    for k, one in enumerate(given):
        own = bundle_of[group[starts[k] : starts[k + 1]]]
        rows, borders = offsets_from(one.row_counts), offsets_from(one.border_counts)
        for number in distinct(own).tolist():
            some = np.flatnonzero(own == number)
            share = Share(
                one.number,
                (rows[some], one.row_counts[some]),
                (borders[some], one.border_counts[some]),
            )
            shares.setdefault(number, []).append(share)
    told = call.arguments
    how = Grouping(
        given[0].by,
        names(told.get("aggregate")),
        str(told.get("null_group", "together")),
        bool(told.get("single_parts")),
    )
    like = next((one.like for one in given if one.row_counts.sum()), given[0].like)
    return [Bundle(k, shares[k], folder, to, like, how) for k in sorted(shares)]


def join_bundle(place: str, bundle: Bundle) -> Done:
    """Put the groups of a bundle together, of the job that is kept in a folder."""
    return once(bundle.to, bundle.number, lambda: _joined(job_in(place), bundle))


def _joined(job: Job, bundle: Bundle) -> Done:
    began = time.monotonic()
    layer, sizes, is_crossed = _rows(bundle)
    borders, number = _borders(bundle)
    step = map_units(job.call.arguments.get("precision"), layer.crs)
    grid = grid_for(layer, [job.sources[0].extent], step)
    result = groups_together(layer, sizes, is_crossed, borders, number, grid, bundle.how)
    made = store(result.layer, bundle.to, bundle.number)
    n_edges = len(number)
    return Done(
        bundle.number, made, result.summary, seconds=time.monotonic() - began, edges=n_edges
    )


def _rows(bundle: Bundle) -> tuple[Layer, np.ndarray, BoolArray]:
    """Return the rows of the groups of a bundle, in the order of their source."""
    readings = []
    for share in bundle.shares:
        place = bundle.folder / f"r{share.number:05d}.parquet"
        groups, mask = _chosen(place, *share.rows)
        layer, _ = geoparquet.rows_of(place, groups, mask)
        readings.append(Reading([layer.without_geometry_as(bundle.like.geometry.family)], []))
    layer = joined(bundle.like.name, bundle.like.name, readings).layers[0]
    number = np.asarray(layer.table.column(NUMBER))
    order = np.argsort(number, kind="stable")
    layer = layer.take(order)
    sizes, is_crossed = (np.asarray(layer.table.column(name)) for name in (SIZE, CROSSED))
    table = layer.table.drop_columns([NUMBER, SIZE, CROSSED])
    if table.num_columns:
        table = table.cast(bundle.like.table.schema)
    column = layer.geometry
    if column.family != bundle.like.geometry.family:
        column = replace(column, family=bundle.like.geometry.family)
    column = replace(column, is_multi=bundle.like.geometry.is_multi)
    whole = replace(bundle.like, geometry=column, table=table, rows=number[order])
    return whole, sizes, is_crossed.astype(bool)


def _borders(bundle: Bundle) -> tuple[LooseBorders, I64Array]:
    tables = []
    for share in bundle.shares:
        place = bundle.folder / f"b{share.number:05d}.parquet"
        groups, mask = _chosen(place, *share.borders)
        try:
            table = pq.ParquetFile(place).read_row_groups(groups)
        except (OSError, pa.ArrowException) as err:
            raise FileError(f"cannot read {place}: {err}") from err
        tables.append(pc.filter(table, pc.column(mask)))
    table = pa.concat_tables(tables)
    found = {name: np.asarray(table.column(name)) for name in table.column_names}
    line = np.column_stack([found[f"line{k}"] for k in range(4)])
    xy = np.column_stack([found["home_x"], found["home_y"]])
    borders = LooseBorders(found["x"], found["y"], found["to_x"], found["to_y"], xy, line)
    return borders, found["row"]


def _chosen(place: Path, starts: I64Array, counts: I64Array) -> tuple[list[int], BoolArray]:
    """Return the groups of rows of a file that hold some ranges, and which of their rows those are."""
    metadata = pq.read_metadata(place)
    ends = offsets_from([metadata.row_group(g).num_rows for g in range(metadata.num_row_groups)])
    has = counts > 0
    starts, counts = starts[has], counts[has]
    wanted = np.zeros(int(ends[-1]) + 1, np.int64)
    np.add.at(wanted, starts, 1)
    np.add.at(wanted, starts + counts, -1)
    is_wanted = np.cumsum(wanted)[:-1] > 0
    groups = [
        g for g, (a, b) in enumerate(itertools.pairwise(ends.tolist())) if is_wanted[a:b].any()
    ]
    rows = spans(ends[groups], np.diff(ends)[groups])
    return groups, is_wanted[rows]


def told(
    given: Sequence[Given], done: Sequence[Done], source: Source, aggregate: Names = ()
) -> Any:
    """Return the summary of the whole."""
    summary = added([one.summary for one in done])
    side = side_of_all(added([one.side for one in given]), source)
    side = replace(side, used=side.taken)
    overlap = None if summary.overlap is None else max(0.0, summary.overlap)
    trees = [tree for text in names(aggregate) for tree in Take.parse(text).trees]
    return replace(
        summary,
        input=side,
        overlap=overlap,
        without_geometry=sum(one.without_geometry for one in given),
        notes=[
            *dict.fromkeys(note for one in given for note in one.notes),
            *stretched_at(
                source.like.crs, source.extent, trees, SIZES[source.like.geometry.family]
            ),
        ],
    )
