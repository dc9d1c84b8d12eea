"""Inputs worked on in tasks, and what comes of them put in its place, all or none."""

from __future__ import annotations

import contextlib
import os
import shutil
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from polygene import reading, record
from polygene.batch import Done, Results, Writing
from polygene.classes import dataclass
from polygene.commit.locks import only_run
from polygene.commit.together import replacing_folder, together
from polygene.errors import DataError, ExpressionError, PolygeneError, UsageError
from polygene.formats import destination, parquet_parts
from polygene.formats.address import LayerRef
from polygene.formats.destination import Target
from polygene.formats.naming import fields_in
from polygene.formats.packed import PIPE, is_packed
from polygene.formats.parquet_parts.index import Index
from polygene.formats.pieces import Pieces
from polygene.formats.registry import is_meant_as_folder
from polygene.formats.wishes import wish
from polygene.growing.calls import Call
from polygene.growing.running import Grounds, OneTaskError, Whole, run
from polygene.layer import Layer
from polygene.notes import counted
from polygene.progress import Progress
from polygene.reading import Choice


@dataclass(frozen=True)
class WholeResult:
    """A result as commands tell of it; the layer is without its rows."""

    layer: Layer
    summary: Any


def work_in_tasks(
    call: Call,
    inputs: Sequence[str],
    others: Sequence[str],
    out: str,
    *,
    choice: Choice,
    other_choice: Choice,
    way: Writing,
    grounds: Grounds,
    progress: Progress,
) -> Results[WholeResult]:
    """Do what `polygene.batch.run` does, in tasks.

    Raises
    ------
    OneTaskError
        If the work is one task by its nature; nothing is left of it then.
    PolygeneError
        If something cannot be done; nothing is written then, and what is done is kept for another go.
    """
    refs = reading.all_of(inputs)
    partners = [reading.single(text, "OTHER") for text in others]
    if fields_in(out) or out == PIPE:
        raise OneTaskError(
            "a destination of several layers, or standard output, is written at once"
        )
    if any(is_packed(ref.path) or str(ref.path) == PIPE for ref in (*refs, *partners)):
        raise OneTaskError("what is packed, or comes from standard input, is read at once")
    destination.check(out, refs, way.on_existing)
    planned = destination.plan(out, refs, way.on_existing)
    with contextlib.ExitStack() as alone:
        for folder, target in {_folder_of(target): target for target in planned}.items():
            lock = folder.with_name(f"{folder.name}.lock")
            alone.enter_context(only_run(lock, target.words))
        return _work(call, refs, partners, planned, choice, other_choice, way, grounds, progress)


def _work(
    call: Call,
    refs: Sequence[LayerRef],
    partners: Sequence[LayerRef],
    planned: Sequence[Target],
    choice: Choice,
    other_choice: Choice,
    way: Writing,
    grounds: Grounds,
    progress: Progress,
) -> Results[WholeResult]:
    """Do it, where nobody else is at it."""
    done, folders = [], []
    earlier: set[Path] = set()  # those that a run before has left for this one
    try:
        for ref, target in zip(refs, planned, strict=True):
            began = time.monotonic()
            folder = _folder_of(target)
            folders.append(folder)
            if grounds.resume and folder.exists():
                earlier.add(folder)
            choices = [choice, *(other_choice for _ in partners)]
            whole = run(
                call,
                [ref, *partners],
                choices,
                folder,
                grounds,
                progress,
                proves=wish().is_proved,
                counts_invalid=way.counts_invalid,
            )
            done.append((ref, target, whole, time.monotonic() - began))
        said: list[str] = []
        if not way.is_dry:
            said = _place([(target, whole) for _, target, whole, _ in done], progress)
    except PolygeneError as err:
        of_use = [f for f in folders if not way.is_dry and _is_of_use(f, err, f in earlier)]
        _forget([f for f in folders if f not in earlier and f not in of_use])
        if of_use:
            err.args = (
                f"{err}\nwhat is done so far is kept in {of_use[-1]}; the same command with `resume` "
                "goes on from there",
            )
        raise
    except OneTaskError:
        _forget(folders)
        raise
    _forget([f for f in folders if not (way.is_dry and f in earlier)])
    results = []
    for ref, target, whole, seconds in done:
        notes = [*whole.notes, *said, _how(whole, grounds)]
        said = []  # of all that is written, told once
        results.append(Done(ref, WholeResult(whole.layer, whole.summary), [target], seconds, notes))
    return Results(results)


def _folder_of(target: Target) -> Path:
    """Return where a work puts what it makes: beside the place of its result."""
    place = Path(os.path.realpath(target.path))
    name = place.stem if place.stem == target.name else f"{place.stem}.{target.name}"
    return place.parent / f".{name}.tasks"


def _is_of_use(folder: Path, err: PolygeneError, is_earlier: bool) -> bool:
    """Return whether another go can go on from what is done, of this one if it is not of one before.

    What was refused for what was asked or what the data are is so again, and its first steps, copies
    of the sources, are of no use.
    """
    is_refused = isinstance(err, DataError | UsageError | ExpressionError)
    done = folder.glob("tasks/d?????" if is_refused else "*/d?????")
    return not (is_refused and is_earlier) and next(done, None) is not None


def _forget(folders: Sequence[Path]) -> None:
    for folder in folders:
        shutil.rmtree(folder, ignore_errors=True)


def _how(whole: Whole, grounds: Grounds) -> str:
    where = "one after the other"
    if grounds.cluster:
        where = f"on the workers of {grounds.cluster}"
    elif grounds.workers > 1:
        where = f"in {counted(grounds.workers, 'process')}".replace("processs", "processes")
    return f"{whole.layer.name}: done in {counted(whole.n_tasks, 'task')}, {where}"


def _place(done: Sequence[tuple[Target, Whole]], progress: Progress) -> list[str]:
    """Put all results in their places, in one step; return what there is to say of it."""
    files: list[tuple[Target, Layer | Pieces]] = []
    with together():
        for target, whole in done:
            progress.stage(f"writing {target.words}")
            metadata = whole.given[0].metadata
            like = replace(whole.layer, name=target.name, metadata=metadata, lineage=None)
            like = _with_lineage(like, target, whole)
            if is_meant_as_folder(target.path):
                _place_folder(target, whole, like)
            elif destination.takes_pieces(target.path):
                index = Index(whole.parts, *whole.kind)
                files.append((target, Pieces.of_folder(whole.folder, index, like)))
            else:
                layer = parquet_parts.read(whole.folder, target.name).layers[0]
                layer = replace(layer, metadata=metadata, lineage=like.lineage, rows=None)
                files.append((target, replace(layer, name=target.name, total=None)))
        return destination.write_all(files)


def _with_lineage(like: Layer, target: Target, whole: Whole) -> Layer:
    noted = record.current()
    if noted is None:
        return like
    return noted.of_result(like, target.words, whole.given[0].lineage, n_rows=whole.n_rows)


def _place_folder(target: Target, whole: Whole, like: Layer) -> None:
    lineage = like.lineage.to_json() if like.lineage is not None else ""
    parquet_parts.write_index(whole.folder, Index(whole.parts, *whole.kind, lineage))
    destination.hold_place(target)
    with replacing_folder(target.path) as new:
        new.rmdir()
        whole.folder.rename(new)
