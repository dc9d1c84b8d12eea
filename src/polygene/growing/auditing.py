"""An audit in tasks: rows by tasks, duplicates by marks of all, fields one by one."""

from __future__ import annotations

import functools
import shutil
import tempfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from polygene import reading
from polygene.arrays import I64Array, distinct
from polygene.classes import dataclass
from polygene.crs import label
from polygene.formats.address import LayerRef
from polygene.geometry import GeometryColumn
from polygene.growing.calls import Call
from polygene.growing.jobs import Job, job_in, keep
from polygene.growing.running import Grounds, Runner
from polygene.growing.source import Source
from polygene.growing.tasks import Task, tasks_of
from polygene.layer import Layer
from polygene.ops.audit import (
    Audit,
    FieldFinding,
    Finding,
    duplicates,
    marks_of,
    problems_of_fields,
    problems_of_rows,
    twins,
)
from polygene.places import inside_points
from polygene.progress import Progress


@dataclass(frozen=True)
class Looked:
    """What a task found: problems with rows as the layer counts them, and marks of all its rows."""

    geometry: list[Finding]
    place: list[Finding]
    known: I64Array
    marks: np.ndarray


def look_at(place: str, task: Task) -> Looked:
    """Look at the rows of a task of the job that is kept in a folder."""
    source = job_in(place).sources[0]
    layer = source.rows(task.core[0])
    numbers = layer.numbers - 1
    geometry, outside = problems_of_rows(layer)
    known, marks = marks_of(layer)
    return Looked(
        [replace(f, rows=numbers[f.rows]) for f in geometry],
        [replace(f, rows=numbers[f.rows]) for f in outside],
        numbers[known],
        marks,
    )


def audit_in_tasks(
    ref: LayerRef, choice: reading.Choice, grounds: Grounds, progress: Progress
) -> tuple[Layer, Audit, list[str]]:
    """Return a layer without its rows, what is wrong with it, and what there is to say.

    Raises
    ------
    PolygeneError
        If it cannot be read.
    """
    # Where a cluster sees it too: here, not among this machine's temporary folders.
    folder = Path(tempfile.mkdtemp(prefix=".audit.tasks.", dir=Path.cwd()))
    try:
        run = Runner(grounds.executor(), progress, folder, grounds)
        source, notes = run.source(ref, choice, 0)
        is_geographic = bool(source.like.crs is not None and source.like.crs.is_geographic)
        tasks = tasks_of([source], [True], 0.0, grounds.most_edges([source]), is_geographic)
        tasks = [replace(task, near=tuple(near[:0] for near in task.near)) for task in tasks]
        place = folder / "tasks"
        keep(place, "job", Job(Call("audit", "", ""), (source,), place))
        looked = run.all(functools.partial(look_at, str(place)), tasks, "task")
        geometry = _together([one.geometry for one in looked])
        outside = _together([one.place for one in looked])
        findings = [*geometry, _twins(source, looked), *outside]
        found = Audit(
            name=source.like.name,
            features=source.n_rows,
            family=source.like.kind,
            crs=label(source.like.crs),
            findings=[f for f in findings if f.count],
            fields=_fields(source),
            notes=[],
        )
        return replace(source.like, total=source.total), found, notes
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _together(every: Sequence[Sequence[Finding]]) -> list[Finding]:
    """Return the problems of all tasks, each kind once, its rows rising."""
    found = []
    for alike in zip(*every, strict=True):
        rows = np.concatenate([f.rows for f in alike])
        order = np.argsort(rows, kind="stable")
        places = np.concatenate([f.places for f in alike])
        found.append(replace(alike[0], rows=rows[order], places=places[order]))
    return found


def _twins(source: Source, looked: Sequence[Looked]) -> Finding:
    known = np.concatenate([one.known for one in looked])
    order = np.argsort(known)
    rows, twin = twins(known[order], np.concatenate([one.marks for one in looked])[order])
    if not len(rows):
        return duplicates(rows, np.zeros((0, 2)), [])
    every = source.groups()
    groups = distinct(np.searchsorted(every.first, rows, side="right") - 1)
    if source.is_copy:
        groups = np.arange(len(every.part))
    layer = source.rows(groups)
    at = np.searchsorted(layer.numbers - 1, rows)
    labels = [source.like.row_label(int(t)) for t in twin[:1000]]
    return duplicates(rows, inside_points(layer.geometry.take(at)), labels)


def _fields(source: Source) -> list[FieldFinding]:
    """Return the problems of fields, read one after the other."""
    found: list[FieldFinding] = []
    for field in source.like.table.schema:
        parts = [
            pq.read_table(source.folder / part.file, columns=[field.name])
            for part in source.index.parts
        ]
        table = pa.concat_tables(parts).cast(pa.schema([field]))
        geometry = GeometryColumn.nulls(table.num_rows)
        found += problems_of_fields(Layer(source.like.name, geometry, table, source.like.crs))
    return found
