"""From addresses to written results: what all commands on layers do around their operation."""

from __future__ import annotations

import shlex
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Generic, Protocol, TypeVar

import pyarrow as pa
import pyproj

from polygene import crs as crs_module
from polygene import record, units
from polygene.errors import DataError, FileError, UsageError
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.formats.base import Reading
from polygene.formats.destination import OnExisting, Target
from polygene.formats.registry import ENDINGS
from polygene.formats.wanted import Wanted
from polygene.geometry import Extent, Family
from polygene.layer import Layer, distinct_name
from polygene.ops.admit import admit
from polygene.ops.bridge import brought
from polygene.ops.carrying import boxes_of
from polygene.ops.extents import doubt_of
from polygene.ops.subset import where
from polygene.ops.summary import Admitted, Bridge, NamedRows
from polygene.plane.validity import invalid_rows
from polygene.progress import SILENT, Progress

if TYPE_CHECKING:
    from polygene.table.expression import Expression


class Result(Protocol):
    """What an operation gives back."""

    @property
    def layer(self) -> Layer: ...


R = TypeVar("R", bound=Result)


@dataclass(frozen=True)
class Done(Generic[R]):
    """One input worked on: its result, where it went, the seconds it took, what is to be said."""

    source: LayerRef
    result: R
    target: Target
    seconds: float
    notes: list[str]


@dataclass(frozen=True)
class Failed:
    """A source that could not be worked on, and why."""

    source: LayerRef
    reason: str


def admitted_words(name: str, facts: Admitted) -> list[str]:
    """Say what became of invalid features, if there were any."""
    notes = []
    for rows, what in ((facts.mended, "mended"), (facts.left_out, "left out")):
        if rows.count:
            n = f"{rows.count:,} of {facts.checked:,}"
            notes.append(f"{name}: {what} {n} features that were invalid: {_named(rows)}")
    return notes


def _named(rows: NamedRows) -> str:
    return ", ".join(rows.first) + (" …" if rows.count > len(rows.first) else "")


class Results(list[Done[R]], Generic[R]):
    """What was done, in order, and what could not be."""

    def __init__(self, done: Sequence[Done[R]], failed: Sequence[Failed] = ()) -> None:
        super().__init__(done)
        self.failed = list(failed)


@dataclass(frozen=True)
class Choice:
    """How layers are taken from their files.

    where : a filter; box : a rectangle that the operation keeps to, so that a reader may
    crs : the one of those that state none, or one that cannot be right
    invalid : what becomes of invalid polygons where they are only carried: ``keep``, ``mend``,
        ``refuse`` or ``leave-out``; operations that work on geometry see to theirs themselves
    looks_only : whether a CRS that cannot be right is told rather than refused
    """

    where: Expression | None = None
    crs: pyproj.CRS | None = None
    invalid: str = "keep"
    box: Extent | None = None
    looks_only: bool = False

    def read(self, ref: LayerRef, role: str = record.INPUT) -> Reading:
        """Read a layer, or what a format lets one read of it when only some is wanted."""
        reading = address.read(ref, Wanted(self.box, self.where))
        noted = record.current()
        if noted is None:
            return reading
        return Reading(noted.note(ref, reading.layers, role), reading.notes)

    def of(self, layer: Layer) -> tuple[Layer, list[str]]:
        """Return what is taken of a layer, and what became of its invalid features."""
        if self.crs is not None and (layer.crs is None or layer.doubt):
            layer = replace(layer, crs=self.crs, doubt=0.0)
        if self.where is not None:
            layer = where(layer, self.where)
        doubt = doubt_of(layer)
        if doubt and not self.looks_only:
            raise DataError(doubt)
        notes = [doubt] if doubt else []
        if self.invalid == "keep":
            return layer, notes
        admission = admit(layer, self.invalid)
        return admission.layer, [*notes, *admitted_words(layer.name, admission.facts)]


def run(
    inputs: Sequence[str],
    operation: Callable[[Layer], tuple[R, list[str]]],
    out: str,
    *,
    choice: Choice | None = None,
    on_existing: OnExisting = "refuse",
    stops_at_first: bool = False,
    counts_invalid: bool = False,
    progress: Progress = SILENT,
) -> Results[R]:
    """Read each input, work on it, and write all results together at the end.

    Of several inputs those that cannot be worked on are left out and told, unless the first is to
    stop it all. With ``counts_invalid`` it is said how many features of the results are invalid, where
    an operation only carries geometry.

    Raises
    ------
    PolygeneError
        If nothing can be done, or there is but one input and it cannot; then nothing is written.
    """
    choice = choice or Choice()
    refs = list(dict.fromkeys(ref for text in inputs for ref in address.resolve(text)))
    destination.plan(out, refs, on_existing)  # fail now rather than after the work
    sources: list[LayerRef] = []
    given: list[Layer] = []
    results: list[tuple[R, list[str], float]] = []
    failed: list[Failed] = []
    for ref in refs:
        progress.stage(f"reading {ref.words}")
        began = time.monotonic()
        try:
            reading = choice.read(ref)
            notes = list(reading.notes)
            for layer in reading.layers:
                taken, words = choice.of(layer)
                result, more = operation(taken)
                more = [*notes, *words, *more]
                if counts_invalid:
                    more += still_invalid(result.layer)
                results.append((result, more, time.monotonic() - began))
                given.append(layer)
                sources.append(LayerRef(ref.path, layer.name))
                notes, began = [], time.monotonic()
        except (DataError, FileError) as err:
            if stops_at_first or len(refs) == 1:
                raise
            failed.append(Failed(ref, str(err)))
            if len(failed) == len(refs):
                raise
    targets = destination.plan(out, sources, on_existing)
    progress.stage(f"writing {out}")
    written = write(
        [
            (target, replace(result.layer, metadata=layer.metadata))
            for target, (result, _, _), layer in zip(targets, results, given, strict=True)
        ],
        given,
    )
    if results and written:
        results[-1][1].extend(written)
    done = [
        Done(source, result, target, seconds, notes)
        for source, target, (result, notes, seconds) in zip(sources, targets, results, strict=True)
    ]
    return Results(done, failed)


def still_invalid(layer: Layer) -> list[str]:
    """Say how many features of a layer are invalid and stay so."""
    if layer.geometry.family != Family.POLYGONS:
        return []
    rows = NamedRows.of(layer, invalid_rows(layer.geometry))
    if not rows.count:
        return []
    return [
        f"{layer.name}: {rows.count:,} of {layer.n_rows:,} features are invalid and stay as they are: "
        f"{_named(rows)}; --invalid mend mends them"
    ]


def write(results: Sequence[tuple[Target, Layer]], made_of: Sequence[Layer] = ()) -> list[str]:
    """Write results under their names, each with its lineage; return what there is to say about it.

    ``made_of`` is the INPUT that each was made of; without it, each is made of all that was read.

    Raises
    ------
    PolygeneError
        If one cannot be written.
    """
    noted = record.current()
    named = []
    for k, (target, layer) in enumerate(results):
        layer = replace(layer, name=target.name, lineage=None)
        if noted is not None:
            own = made_of[k].lineage if made_of else None
            layer = noted.of_result(layer, target.words, own)
        named.append((target, layer))
    return destination.write_all(named)


def dump(folder: str, layers: Sequence[Layer], words: Sequence[str]) -> Path:
    """Keep the layers of a work that went wrong, and how it was asked for; return the folder.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    place = Path(folder)
    try:
        place.mkdir(parents=True, exist_ok=True)
        (place / "command.txt").write_text(shlex.join(words) + "\n", encoding="utf-8")
    except OSError as err:
        raise FileError(f"cannot keep a dump in {place}: {err.strerror}") from err
    target = place / "layers.gpkg"
    target.unlink(missing_ok=True)
    roles = ["input", *(f"other_{k}" for k in range(1, len(layers)))]
    named = [replace(layer, name=role) for layer, role in zip(layers, roles, strict=True)]
    destination.write_all([(Target(target, y.name), y) for y in named])
    return place


class Other:
    """OTHER as it was read, in its own CRS, and what there is to say about that."""

    def __init__(self, layer: Layer, notes: Sequence[str] = ()) -> None:
        self.layer, self.notes = layer, list(notes)

    def over(self, layer: Layer) -> Layer:
        """Return OTHER as it is laid over a layer; operations bring it to that one's CRS."""
        del layer
        return self.layer


class Box(Other):
    """A rectangle as OTHER: in a CRS of its own or, without one, in that of all it is laid over."""

    def __init__(self, box: Extent, crs: pyproj.CRS | None = None) -> None:
        super().__init__(Layer("box", boxes_of([box]), pa.table({}), crs))
        self._first: Layer | None = None

    def over(self, layer: Layer) -> Layer:
        """Return the rectangle with a CRS.

        Raises
        ------
        UsageError
            If it has none of its own and the layers it is laid over have different ones.
        """
        if self.layer.crs is not None:
            return self.layer
        first = self._first = self._first or layer
        if not crs_module.is_same(first.crs, layer.crs):
            raise UsageError(
                f"--box is in the CRS of INPUT, and the INPUTs are in several: {first.name} in "
                f"{crs_module.label(first.crs)}, {layer.name} in {crs_module.label(layer.crs)}; say "
                "with --box-crs which one the box is in"
            )
        return replace(self.layer, crs=layer.crs)


def bridge_words(facts: Bridge, onto: str) -> str:
    """Say how a layer came to the CRS of another."""
    words = f"{facts.name} was brought from {facts.source} to {facts.target}, the CRS of {onto}"
    more = []
    if facts.far:
        more.append(f"{facts.far:,} of {facts.total:,} features are far from {onto}")
    if facts.cut:
        more.append(f"of {facts.cut:,} only what is near it was taken")
    if facts.has_edges:
        course = f"edges follow their course within {units.metres_worded(facts.follow)}"
        more.append(course + (f", with {facts.added:,} more vertices" if facts.added else ""))
    if facts.mended:
        more.append(f"{facts.mended:,} mended, since their bent edges came to cross")
    if facts.accuracy is None:
        more.append("how exact the way between the two is is not known")
    elif facts.accuracy > 0:
        more.append(f"exact to {units.metres_worded(facts.accuracy)}, by {facts.operation}")
    if not facts.is_best:
        more.append("a better way needs a file that is not here")
    if facts.outside.count:
        n = facts.outside.count
        more.append(f"{n:,} outside of where that is used were left out: {_named(facts.outside)}")
    return "; ".join([words, *more])


def read_one(
    text: str, choice: Choice, progress: Progress = SILENT, role: str = "INPUT"
) -> tuple[Layer, list[str]]:
    """Read an address that must come to one layer; return it and what there is to say about it.

    Raises
    ------
    PolygeneError
        If there is not exactly one such layer, or it cannot be read.
    """
    refs = address.resolve(text)
    if len(refs) > 1:
        names = ", ".join(ref.words for ref in refs[:5])
        raise UsageError(f"{role} must be one layer, and {text!r} stands for {len(refs)}: {names}")
    progress.stage(f"reading {refs[0].words}")
    reading = choice.read(refs[0])
    if len(reading.layers) > 1:
        kinds = " and ".join(layer.geometry.family.words for layer in reading.layers)
        raise DataError(f"{role}, {text}, holds {kinds} together; convert it first to part them")
    layer, words = choice.of(reading.layers[0])
    return layer, [*reading.notes, *words]


def read_alike(
    inputs: Sequence[str],
    choice: Choice,
    progress: Progress = SILENT,
    *,
    outside: str = "refuse",
    follow: float | None = None,
) -> tuple[list[Layer], list[str]]:
    """Read layers to be put together: all brought to the CRS of the first, their names distinct.

    ``outside`` is what becomes of features outside the area of use of that CRS: ``refuse``, ``bring``
    or ``leave-out``. Returns also what there is to say.

    Raises
    ------
    PolygeneError
        If one cannot be read, or has no CRS where others have one.
    """
    refs = list(dict.fromkeys(ref for text in inputs for ref in address.resolve(text)))
    layers: list[Layer] = []
    notes: list[str] = []
    for ref in refs:
        progress.stage(f"reading {ref.words}")
        reading = choice.read(ref)
        notes += reading.notes
        for found in reading.layers:
            layer, words = choice.of(found)
            notes += words
            if layers:
                layer, more = all_brought(layer, layers[0], outside, follow)
                notes += more
            names = {y.name for y in layers}
            if layer.name in names:
                layer = replace(layer, name=distinct_name(f"{ref.path.stem}_{layer.name}", names))
            layers.append(layer)
    return layers, notes


def all_brought(
    layer: Layer, onto: Layer, outside: str, follow: float | None = None
) -> tuple[Layer, list[str]]:
    """Bring all of a layer to the CRS of another; what is left out is left out as rows.

    Raises
    ------
    DataError
        If features have no place there, or lie outside its area of use and that is refused.
    """
    found = brought(layer, onto, whole=True, outside=outside, follow=follow, invalid="keep")
    if found.facts is None:
        return found.layer, []
    notes = [bridge_words(found.facts, onto.name)]
    gone = layer.geometry.is_empty != found.layer.geometry.is_empty
    if gone.any():
        return replace(found.layer.take(~gone), total=layer.n_total), notes
    return found.layer, notes


def box_of(box: Extent, box_crs: str | None, layer: Layer) -> Extent:
    """Return a box as it lies in the CRS of a layer, with all that is in it.

    Raises
    ------
    PolygeneError
        If there is no such CRS, or the box has no place in the layer's.
    """
    if box_crs is None:
        return box
    rectangle = Layer("box", boxes_of([box]), pa.table({}), crs_of(box_crs))
    found = brought(rectangle, layer, whole=True).layer.geometry.extent()
    assert found is not None
    return found


def crs_of(text: str) -> pyproj.CRS:
    """Return the CRS that a text means: a code, WKT, or the one of a layer it is the address of.

    Raises
    ------
    PolygeneError
        If it is none, or the layer has none.
    """
    path = Path(address.split(text)[0])
    if path.suffix.lower() in ENDINGS and path.exists():
        layer, _ = read_one(text, Choice(), role="the layer to take the CRS of")
        if layer.crs is None:
            raise DataError(f"layer {layer.name!r} has no CRS to take")
        return layer.crs
    return crs_module.parse(text)


def read_all(inputs: Sequence[str], choice: Choice) -> tuple[list[Layer], list[str]]:
    """Read all layers that some addresses stand for, and what there is to say about it.

    Raises
    ------
    PolygeneError
        If one cannot be read.
    """
    refs = list(dict.fromkeys(ref for text in inputs for ref in address.resolve(text)))
    readings = [choice.read(ref) for ref in refs]
    notes = [note for reading in readings for note in reading.notes]
    layers = []
    for found in (layer for reading in readings for layer in reading.layers):
        layer, words = choice.of(found)
        layers.append(layer)
        notes += words
    return layers, notes


def write_named(out: str, layers: Sequence[Layer], replaces: bool) -> None:
    """Write layers under their own names.

    Raises
    ------
    PolygeneError
        If they cannot be written there.
    """
    path = Path(address.split(out)[0])
    refs = [LayerRef(path, layer.name) for layer in layers]
    targets = destination.plan(out, refs, "replace" if replaces else "refuse")
    write(list(zip(targets, layers, strict=True)))


def single_target(out: str, on_existing: OnExisting) -> Target:
    """Return where a single result goes; its layer is called like the file if nothing else is said.

    Raises
    ------
    PolygeneError
        If it cannot go there.
    """
    path = Path(address.split(out)[0])
    return destination.plan(out, [LayerRef(path, path.stem)], on_existing)[0]


def read_other(
    text: str, choice: Choice, progress: Progress = SILENT, any_family: bool = False
) -> Other:
    """Read OTHER, which must come to one layer; of mixed dimensions its polygons are taken.

    With ``any_family`` it may be of points or lines, and empty.

    Raises
    ------
    PolygeneError
        If there is not exactly one such layer, or it cannot be read.
    """
    refs = address.resolve(text)
    if len(refs) > 1:
        names = ", ".join(ref.words for ref in refs[:5])
        raise UsageError(f"OTHER must be one layer, and {text!r} stands for {len(refs)}: {names}")
    progress.stage(f"reading {refs[0].words}")
    reading = choice.read(refs[0], record.OTHER)
    layers = reading.layers
    if len(layers) > 1:
        layers = [layer for layer in layers if layer.geometry.family == Family.POLYGONS]
    if not layers:
        raise DataError(f"OTHER, {text}, holds no polygons")
    chosen, words = choice.of(layers[0])
    if choice.where is not None and chosen.n_rows == 0 and not any_family:
        raise DataError(
            f"OTHER, layer {chosen.name!r}: none of its {chosen.n_total:,} features is left after "
            f"the filter {choice.where.text}"
        )
    return Other(chosen, [*reading.notes, *words])
