"""Many inputs, one operation: read each, work on it, write all results together."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Generic, Protocol, TypeVar

import numpy as np

from polygene import phrases
from polygene.classes import dataclass
from polygene.errors import DataError, FileError, TableError
from polygene.formats import destination
from polygene.formats.address import LayerRef, split
from polygene.formats.destination import OnExisting, Target
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.notes import Warned
from polygene.ops.summary import NamedRows
from polygene.plane.validity import invalid_rows
from polygene.progress import SILENT, Progress
from polygene.reading import Choice, all_of, passed_over
from polygene.writing import nothing_to_part, placed, write


class Result(Protocol):
    """What an operation gives back."""

    @property
    def layer(self) -> Layer: ...


R = TypeVar("R", bound=Result)


@dataclass(frozen=True)
class Done(Generic[R]):
    """One input worked on: its result, where it goes, the seconds it took, what is to be said.

    It goes to several places if it is parted by the values of fields.
    """

    source: LayerRef
    result: R
    targets: Sequence[Target]
    seconds: float
    notes: list[str]


@dataclass(frozen=True)
class Failed:
    """A source that could not be worked on, and why."""

    source: LayerRef
    reason: str


@dataclass(frozen=True)
class Companion(Generic[R]):
    """A second layer that results have, and the destination for those."""

    out: str
    of: Callable[[R], Layer | None]


@dataclass(frozen=True)
class Writing:
    """How results are written.

    stops_at_first : whether the first input that cannot be worked on stops it all
    counts_invalid : whether it is said how many features of the results are invalid, where an
        operation only carries geometry
    is_dry : whether all the work is done and nothing written
    """

    on_existing: OnExisting = "refuse"
    stops_at_first: bool = False
    counts_invalid: bool = False
    is_dry: bool = False


class Results(list[Done[R]], Generic[R]):
    """What was done, in order, and what could not be."""

    def __init__(self, done: Sequence[Done[R]], failed: Sequence[Failed] = ()) -> None:
        super().__init__(done)
        self.failed = list(failed)


def run(
    inputs: Sequence[str],
    operation: Callable[[Layer], R],
    out: str,
    *,
    choice: Choice | None = None,
    way: Writing | None = None,
    side: Companion[R] | None = None,
    progress: Progress = SILENT,
) -> Results[R]:
    """Read each input, work on it, and write all results together at the end.

    Of several inputs those that cannot be worked on are left out and told, unless the first is to
    stop it all.

    Raises
    ------
    PolygeneError
        If nothing can be done, or there is but one input and it cannot; then nothing is written.
    """
    choice, way = choice or Choice(), way or Writing()
    refs = all_of(inputs)
    for place in (out, *([side.out] if side else [])):
        destination.check(place, refs, way.on_existing)  # fail now rather than after the work
    work: _Work[R] = _Work(choice=choice, way=way, sources=[], given=[], results=[], failed=[])
    tables: list[str] = []
    for ref in refs:
        progress.stage(f"reading {ref.words}")
        try:
            work.on(ref, operation, out)
        except TableError:
            tables.append(passed_over(ref.name))
            if len(tables) + len(work.failed) == len(refs):
                raise
        except (DataError, FileError) as err:
            work.failed.append(Failed(ref, str(err)))
            if way.stops_at_first or len(tables) + len(work.failed) == len(refs):
                raise
    if tables:
        work.results[0][1][:0] = tables
    results = [(ref, r[0].layer) for ref, r in zip(work.sources, work.results, strict=True)]
    planned = placed(results, out, way.on_existing)
    pairs = [(*pair, y) for own, y in zip(planned, work.given, strict=True) for pair in own]
    if side is not None:
        beside = [(y, side.of(r[0])) for r, y in zip(work.results, work.given, strict=True)]
        layers = [(layer, given) for given, layer in beside if layer is not None]
        results = [(LayerRef(Path(out), layer.name), layer) for layer, _ in layers]
        shares = split(side.out)[0] == split(out)[0]  # a file cannot have both called like it
        places = placed(results, side.out, way.on_existing, keeps_names=shares)
        pairs += [(*p, y) for own, (_, y) in zip(places, layers, strict=True) for p in own]
    if not way.is_dry:
        progress.stage(f"writing {out}")
        named = [(t, replace(layer, metadata=given.metadata)) for t, layer, given in pairs]
        written = write(named, [given for _, _, given in pairs])
        if work.results:
            work.results[-1][1].extend(written)
    done = [
        Done(source, result, [target for target, _ in own], seconds, notes)
        for source, own, (result, notes, seconds) in zip(
            work.sources, planned, work.results, strict=True
        )
    ]
    return Results(done, work.failed)


@dataclass(frozen=True)
class _Work(Generic[R]):
    """What has been done so far: results with their notes and seconds, each of one layer given."""

    choice: Choice
    way: Writing
    sources: list[LayerRef]
    given: list[Layer]
    results: list[tuple[R, list[str], float]]
    failed: list[Failed]

    def on(self, ref: LayerRef, operation: Callable[[Layer], R], out: str) -> None:
        """Work on each layer that is read for an address: of mixed kinds there are several."""
        began = time.monotonic()
        reading = self.choice.read(ref)
        notes = list(reading.notes)
        for layer in reading.layers:
            taken, words = self.choice.of(layer)
            result = _as_own(operation(taken))
            more = [*notes, *words, *nothing_to_part(result.layer, out)]
            if self.way.counts_invalid:
                more += still_invalid(result.layer)
            self.results.append((result, more, time.monotonic() - began))
            self.given.append(layer)
            self.sources.append(LayerRef(ref.path, layer.name))
            notes, began = [], time.monotonic()


def _as_own(result: R) -> R:
    """Return a result whose rows are counted as it has them."""
    own: R = replace(result, layer=result.layer.as_result())  # type: ignore[type-var]
    return own


def still_invalid(layer: Layer) -> list[str]:
    """Say how many features of a layer are invalid, or have coordinates that are no numbers."""
    if layer.geometry.family != Family.POLYGONS:
        bounds = layer.geometry.row_bounds()
        is_odd = ~np.isfinite(bounds).all(axis=1) & ~layer.geometry.is_empty
        if not is_odd.any():
            return []
        rows = NamedRows.of(layer, is_odd)
        what = "features have coordinates that are no finite numbers, and stay as they are"
        words = f"{rows.count:,} of {layer.n_rows:,} {what}: {phrases.named(rows)}"
        return [Warned(f"{layer.name}: {words}")]
    rows = NamedRows.of(layer, invalid_rows(layer.geometry))
    if not rows.count:
        return []
    which = phrases.named(rows)
    return [
        Warned(
            f"{layer.name}: {rows.count:,} of {layer.n_rows:,} features are invalid and stay as they "
            f"are: {which}; `invalid` mend mends them"
        )
    ]
