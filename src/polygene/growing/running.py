"""The whole of a work in tasks: copies where they are needed, tasks, the result put together."""

from __future__ import annotations

import functools
import hashlib
import os
import shutil
import stat
import time
from collections.abc import Callable, Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from polygene import __version__, phrases, reading, record
from polygene.arrays import distinct
from polygene.classes import dataclass
from polygene.crs import degrees_of
from polygene.errors import DataError, FileError, reason_of
from polygene.formats import origins
from polygene.formats.address import LayerRef
from polygene.formats.base import Reading
from polygene.formats.parquet_parts import like_of, write_index
from polygene.formats.parquet_parts.index import Index, PartFacts, files_in, read_index
from polygene.formats.parquet_parts.order import Cells
from polygene.growing import portions, ways, work
from polygene.growing.calls import Call
from polygene.growing.dissolving import bundles_of, give_borders, join_bundle
from polygene.growing.dissolving import told as dissolve_told
from polygene.growing.executors import Cluster, Executor, Here, Processes
from polygene.growing.jobs import Job, job_in, keep
from polygene.growing.nearest import Wish
from polygene.growing.source import Source, side_of_all
from polygene.growing.tasks import Task, edges_of_memory, tasks_of
from polygene.growing.work import Done, Made, Sheaf
from polygene.layer import Layer
from polygene.notes import Warned, counted, summed
from polygene.ops.adding import added
from polygene.ops.places.extents import grid_for
from polygene.ops.summary import NamedRows
from polygene.progress import Progress
from polygene.units import map_units, metres

T = TypeVar("T")
R = TypeVar("R")
DEFAULT_MEMORY = 2_000_000_000


class OneTaskError(Exception):
    """The work cannot be cut; the reason is what it says."""


@dataclass(frozen=True)
class Grounds:
    """What there is to work with.

    memory : bytes for all processes together; workers : processes of this machine
    cluster : the address of a scheduler; resume : whether to go on from what a run before has done
    tasks : how many, if that is to be fixed
    """

    memory: int = DEFAULT_MEMORY
    workers: int = 1
    cluster: str = ""
    resume: bool = False
    tasks: int | None = None

    def executor(self) -> Executor:
        if self.cluster:
            return Cluster(self.cluster)
        return Here() if self.workers <= 1 else Processes(self.workers)

    @property
    def bytes_of_one(self) -> int:
        """How much memory a process may take."""
        return self.memory if self.cluster or self.workers <= 1 else self.memory // self.workers

    def most_edges(self, sources: Sequence[Source]) -> int:
        """Return how many edges a task may have in its core."""
        if self.tasks is None:
            return self.edges
        total = sum(source.index.n_vertices + source.n_rows for source in sources)
        return max(1, -(-total // self.tasks))

    @property
    def edges(self) -> int:
        """How many edges a task may have."""
        return edges_of_memory(self.bytes_of_one)


@dataclass(frozen=True)
class Whole:
    """What a work came to, with its rows in a folder that is not yet in its place.

    layer : the result without rows; n_rows : how many there are
    """

    folder: Path
    parts: list[PartFacts]
    kind: tuple[str, bool, str]
    layer: Layer
    n_rows: int
    summary: Any
    notes: list[str]
    n_tasks: int
    given: list[Layer] = field(default_factory=list)


def run(
    call: Call,
    refs: Sequence[LayerRef],
    choices: Sequence[reading.Choice],
    folder: Path,
    grounds: Grounds,
    progress: Progress,
    proves: bool = True,
    counts_invalid: bool = False,
) -> Whole:
    """Do a work in tasks, in a folder of its own; INPUT's address first, then the OTHERs'.

    Raises
    ------
    OneTaskError
        If it is one task by its nature.
    PolygeneError
        If something cannot be read, worked on or written. What is done stays in the folder.
    """
    executor = grounds.executor()
    if reason := ways.one_task(call):  # before anything is read, which may be what cannot be cut
        raise OneTaskError(reason)
    for ref in refs:
        origins.whole(ref.path)  # workers know nothing of holes, and what is filled is changed
    _begin(folder, call, refs, grounds)
    own = Runner(executor, progress, folder, grounds)
    sources, notes = [], []
    for k, (ref, choice) in enumerate(zip(refs, choices, strict=True)):
        source, said = own.source(ref, choice, k)
        sources.append(source)
        notes += said
    if any(source.index.n_vertices == 0 for source in sources):
        raise OneTaskError("a layer without geometry is no work to cut")
    way = ways.way_of(call, sources)
    if isinstance(way, str):
        raise OneTaskError(way)
    given = [
        _noted(ref, source, k) for k, (ref, source) in enumerate(zip(refs, sources, strict=True))
    ]
    reach = way.reach * _step(call, sources)
    most = grounds.most_edges([s for s in sources if s is sources[0] or way.all_are_core])
    progress.stage("cutting the work into tasks")
    tasks = tasks_of(
        sources,
        [k == 0 or way.all_are_core for k in range(len(sources))],
        reach,
        most,
        bool(sources[0].like.crs is not None and sources[0].like.crs.is_geographic),
        None if call.command in ways.KEEP_OTHERS else reach,
        way.own_are_near,
    )
    place = folder / "tasks"
    wish = _wish(call, sources[0]) if way.looks_far else None
    job = Job(call, tuple(sources), place, reach, counts_invalid, way.core_alone, wish)
    keep(place, "job", job)
    if call.command == "dissolve":
        given_borders = own.all(
            functools.partial(give_borders, str(place)), tasks, "borders of task"
        )
        groups = folder / "groups"
        groups.mkdir(exist_ok=True)
        bundles = bundles_of(
            given_borders, place, groups, call, grounds.bytes_of_one, grounds.tasks or 1
        )
        if not bundles:
            raise OneTaskError("all of its features are left out")
        done = own.all(functools.partial(join_bundle, str(place)), bundles, "groups of task")
        parts, like, kind, to = own.together(done, groups, folder / "result", proves)
        summary = dissolve_told(
            given_borders, done, sources[0], call.arguments.get("aggregate") or ()
        )
    else:
        done = own.all(functools.partial(do_task_of, str(place)), tasks, "task")
        parts, like, kind, to = own.together(done, place, folder / "result", proves)
        summary = _told(call, sources, done)
    notes += _invalid(done, like) if counts_invalid else []
    n_rows = sum(part.n_rows for part in parts)
    if _key(call, refs, grounds) != (folder / "key").read_text(encoding="ascii"):
        raise FileError(
            f"{' or '.join(ref.words for ref in refs)} was changed while it was worked on; start again "
            "when it rests"
        )
    return Whole(to, parts, kind, like, n_rows, summary, notes, len(tasks), given)


def _wish(call: Call, source: Source) -> Wish:
    """Return which nearest rows of OTHER a work needs."""
    told, crs = call.arguments, source.like.crs
    up_to = metres(told.get("up_to"), crs)
    unit = 1.0
    if crs is not None and crs.axis_info:
        unit = crs.axis_info[0].unit_conversion_factor
    return Wish(int(told.get("count") or 1), np.inf if up_to is None else up_to / unit)


def do_task_of(place: str, task: Task) -> Done:
    """Do a task of the job that is kept in a folder."""
    return work.do_task(job_in(place), task)


def _begin(folder: Path, call: Call, refs: Sequence[LayerRef], grounds: Grounds) -> None:
    """Make the folder of a work, or go on in it if the same was begun there and that is wanted."""
    key = _key(call, refs, grounds)
    place = folder / "key"
    if folder.exists():
        try:
            same = place.read_text(encoding="ascii") == key
        except OSError:
            same = False
        if grounds.resume and _is_strange(folder):
            raise FileError(
                f"{folder} is another user's, or everybody may write there, so it is not gone on from; "
                "without `resume` the work begins anew"
            )
        if grounds.resume and same:
            return
        if grounds.resume:
            raise FileError(
                f"{folder} holds what another work, or other inputs, came to; without `resume` it "
                "begins anew"
            )
        shutil.rmtree(folder)
    try:
        folder.mkdir()
        place.write_text(key, encoding="ascii")
    except OSError as err:
        raise FileError(f"cannot write in {folder.parent}: {reason_of(err)}") from err


def _is_strange(folder: Path) -> bool:
    """Whether somebody else may have put something into a folder."""
    state = folder.stat()
    owner = os.geteuid() if hasattr(os, "geteuid") else state.st_uid
    return state.st_uid != owner or bool(os.name == "posix" and state.st_mode & stat.S_IWOTH)


def _key(call: Call, refs: Sequence[LayerRef], grounds: Grounds) -> str:
    """Return what tells a work from others: what is asked, of which state of which files."""
    told = [__version__, call.command, repr(sorted(call.arguments.items(), key=str))]
    told += [str(grounds.edges), str(grounds.tasks)]
    for ref in refs:
        told.append(ref.words)
        for path in [piece.path for piece in ref.pieces or (ref,)]:
            files = files_in(path) if path.is_dir() else [path]
            for file in files:
                state = file.stat()
                told.append(f"{file.name} {state.st_size} {state.st_mtime_ns}")
    return hashlib.sha256("\n".join(told).encode()).hexdigest()


def _step(call: Call, sources: Sequence[Source]) -> float:
    """Return the step of the grid of the whole, in map units."""
    like = sources[0].like
    precision = (
        map_units(call.arguments.get("precision"), like.crs) if ways.takes_map_units(call) else None
    )
    return grid_for(like, [s.extent for s in sources], precision).step


def _noted(ref: LayerRef, source: Source, k: int) -> Layer:
    """Note a layer that is read, for the lineage."""
    layer = replace(source.like, total=source.total)
    noted = record.current()
    if noted is None:
        return layer
    return noted.note(ref, Reading([layer], []), record.OTHER if k else record.INPUT)[0]


class Runner:
    """What the steps of one work share."""

    def __init__(
        self, executor: Executor, progress: Progress, folder: Path, grounds: Grounds
    ) -> None:
        self.executor, self.progress = executor, progress
        self.folder, self.grounds = folder, grounds

    def all(self, do: Callable[[T], R], items: Sequence[T], what: str) -> list[R]:
        """Do all items, and tell how many are done and about how long the rest takes."""
        found: dict[int, R] = {}
        began = time.monotonic()
        self.progress.stage(f"{what} 1 of {len(items):,}")
        executor = self.executor
        if len(items) == 1 and isinstance(executor, Processes):
            executor = Here()  # another process would take longer to begin than most work takes
        for k, result in executor.each(do, items):
            found[k] = result
            n = len(found)
            rest = (time.monotonic() - began) / n * (len(items) - n)
            if n < len(items):
                self.progress.stage(
                    f"{what} {n + 1:,} of {len(items):,}, about {_span(rest)} to go"
                )
        return [found[k] for k in range(len(items))]

    def source(self, ref: LayerRef, choice: reading.Choice, k: int) -> tuple[Source, list[str]]:
        """Return a layer as tasks read it: a folder with an index as it is, all else copied."""
        is_plain = choice.where is None and choice.crs is None and choice.invalid == "keep"
        is_plain &= not ref.pieces and not choice.box
        if is_plain and ref.path.is_dir():
            index = read_index(ref.path)
            source = None if index is None else _as_it_is(ref, index)
            if source is not None and not _is_doubtful(source):
                return source, []
        return self._copied(ref, choice, k)

    def _copied(self, ref: LayerRef, choice: reading.Choice, k: int) -> tuple[Source, list[str]]:
        origins.whole(ref.path)
        place = self.folder / f"layer{k}"
        place.mkdir(exist_ok=True)
        cut = portions.cut(ref, choice, place)
        is_large = len(cut) > 1
        run = self if is_large else Runner(Here(), self.progress, self.folder, self.grounds)
        done = portions.copied(cut, functools.partial(run.all, work.copy_portion), ref.words)
        parts, like, kind, to = run.together(done, place, self.folder / f"source{k}", False)
        notes = summed([note for one in done for note in one.notes])
        like = replace(like, name=ref.name)
        n_total = sum(p.span[1] - p.span[0] for p in cut if p.span) or done[0].summary
        if choice.where is not None and cut[0].span is None:
            n_total = like.n_total
        like, is_copy = _without_numbers(like), True
        return Source(to, Index(parts, *kind), ref.words, like, n_total, is_copy), notes

    def together(
        self, done: Sequence[Done], of: Path, to: Path, proves: bool
    ) -> tuple[list[PartFacts], Layer, tuple[str, bool, str], Path]:
        """Put what tasks have made together as one folder in its order."""
        made = [one.made for one in done]
        like, kind = _whole_kind(made)
        ranges = Cells.together([one.cells for one in made]).parts()
        sheaves = [
            Sheaf(k, first, last, of, _pieces(made, first, last), to, like, kind, proves)
            for k, (first, last) in enumerate(ranges)
        ]
        if to.exists():
            shutil.rmtree(to)
        to.mkdir()
        parts = self.all(work.put_together, sheaves, "putting together part") if sheaves else []
        if not parts:
            parts = [work.store(like, to, 0).facts or work.empty_part(like, to)]
        write_index(to, Index(parts, *kind))
        return parts, like, kind, to


def _pieces(made: Sequence[Made], first: int, last: int) -> list[tuple[str, list[int]]]:
    """Return which groups of which files may hold rows of some cells."""
    found = []
    for one in made:
        if one.facts is not None:
            groups = np.flatnonzero((one.ends[:, 0] <= last) & (one.ends[:, 1] >= first))
            if len(groups):
                found.append((one.facts.file, groups.tolist()))
    return found


def _whole_kind(made: Sequence[Made]) -> tuple[Layer, tuple[str, bool, str]]:
    """Return the result without rows, and its kind, from those of its tasks."""
    filled = [one for one in made if one.facts is not None] or list(made)
    families = [one.kind[0] for one in filled]
    if len(set(families)) > 1:
        raise DataError(
            f"{filled[0].like.name} holds {' and '.join(dict.fromkeys(families))} together; convert it "
            "first to part them"
        )
    heights = "".join(h for h in "ZM" if any(h in one.kind[2] for one in filled))
    kind = (families[0], any(one.kind[1] for one in made), heights)
    return filled[0].like, kind


def _as_it_is(ref: LayerRef, index: Index) -> Source:
    like = like_of(ref.path, index, ref.name)
    folder = ref.path.absolute()
    states = [(folder / part.file).stat() for part in index.parts]
    stamps = tuple((state.st_size, state.st_mtime_ns) for state in states)
    return Source(folder, index, ref.words, like, index.n_rows, stamps=stamps)


def _is_doubtful(source: Source) -> bool:
    """Whether coordinates cannot be the longitudes and latitudes that a layer states."""
    crs, extent = source.like.crs, source.extent
    if crs is None or extent is None or not crs.is_geographic:
        return False
    size = degrees_of(crs)
    return max(map(abs, extent[::2])) * size > 540 or max(map(abs, extent[1::2])) * size > 90


def _without_numbers(like: Layer) -> Layer:
    from polygene.growing.source import IDENTIFIER, NUMBER

    names = [n for n in (NUMBER, IDENTIFIER) if n in like.table.column_names]
    return replace(like, table=like.table.drop_columns(names), total=None)


def _told(call: Call, sources: Sequence[Source], done: Sequence[Done]) -> Any:
    """Return the summary of the whole."""
    summary = added([one.summary for one in done])
    own = sources[0]
    facts: dict[str, Any] = {}
    if hasattr(summary, "input_total"):
        other = sources[1]
        used = [one.told["unused"] for one in done if "unused" in one.told]
        n_used = len(distinct(np.concatenate(used))) if used else 0
        facts = {
            "input_total": own.total,
            "other_total": other.total,
            "other_taken": other.n_rows,
            "unused": other.n_rows - n_used,
        }
        distances = [one.told["distances"] for one in done if "distances" in one.told]
        if distances and getattr(summary, "middle", None) is not None:
            facts["middle"] = float(np.median(np.concatenate(distances)))
    elif hasattr(summary, "others"):
        sides = [
            side_of_all(side, source)
            for side, source in zip((summary.input, *summary.others), sources, strict=True)
        ]
        facts = {"input": replace(sides[0], used=sides[0].taken), "others": sides[1:]}
    elif hasattr(summary, "total"):
        facts = {"total": own.total}
    del call
    return replace(summary, **facts)


def _invalid(done: Sequence[Done], like: Layer) -> list[str]:
    rows = added([one.invalid for one in done])
    if not isinstance(rows, NamedRows) or not rows.count:
        return []
    which = phrases.named(rows)
    return [
        Warned(
            f"{like.name}: {counted(rows.count, 'feature')} invalid, as they came: {which}; `invalid` "
            "mend mends them"
        )
    ]


def _span(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"
