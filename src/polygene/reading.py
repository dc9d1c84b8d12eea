"""From addresses to layers: filters, reference systems, invalid features, roles."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from polygene import crs as crs_module
from polygene import phrases, proj, record
from polygene.classes import dataclass
from polygene.errors import DataError, PolygeneError, UsageError
from polygene.formats import address, addressed
from polygene.formats.address import LayerRef
from polygene.formats.base import Reading
from polygene.formats.endings import ENDINGS
from polygene.formats.wanted import Wanted
from polygene.geometry import Extent, Family, GeometryColumn, extent_of
from polygene.layer import Layer, distinct_name
from polygene.longitudes import doubted, goes_beyond
from polygene.ops.admit import admit
from polygene.ops.places.boxes import box_layer
from polygene.ops.places.bringing import brought
from polygene.ops.places.extents import doubt_of
from polygene.progress import SILENT, Progress

if TYPE_CHECKING:
    from polygene.table.expression import Expression


ROOM = 1e-3  # likewise about one that is brought to another CRS
MARGIN = 1e-6  # of a box about what is wanted, as a share of its size: borders are moved by less


def _matching(layer: Layer, where: Expression) -> tuple[Layer, list[str]]:
    from polygene.ops.subset import told_matching  # with all that expressions need

    return told_matching(layer, where)


@dataclass(frozen=True)
class Choice:
    """How layers are taken from their files.

    where : a filter; box : a rectangle that the operation keeps to, so that a reader may
    crs : the one of those that state none, or one that cannot be right
    invalid : what becomes of invalid polygons where they are only carried: ``keep``, ``mend``,
        ``refuse`` or ``leave-out``; operations that work on geometry see to theirs themselves
    looks_only : whether a CRS that cannot be right is told rather than refused
    takes_tables : whether what is asked for works on tables without geometry too
    near : where all that the operation keeps lies, and in which CRS, its own if in none; of what comes
        over the web only that is fetched
    only : which fields are looked at, if geometry is not: see `polygene.formats.wanted.Wanted`
    """

    where: Expression | None = None
    crs: proj.CRS | None = None
    invalid: str = "keep"
    box: Extent | None = None
    looks_only: bool = False
    takes_tables: bool = False
    near: tuple[Extent, proj.CRS | None] | None = None
    only: Callable[[Sequence[str]], Iterable[str] | None] | None = None

    def read(self, ref: LayerRef, role: str = record.INPUT) -> Reading:
        """Read a layer, or what a format lets one read of it when only some is wanted."""
        # A reader cannot know what whole turns are in a CRS that the file does not say.
        is_turned = self.crs is not None and crs_module.is_geographic(self.crs)
        box = self._near(ref) if self.box is None or is_turned else self.box
        reading = addressed.read(ref, Wanted(box, self.where, only=self.only))
        noted = record.current()
        if noted is None:
            return reading
        return Reading(noted.note(ref, reading, role), reading.notes)

    def _near(self, ref: LayerRef) -> Extent | None:
        """Return the box that is wanted of a layer of the web; None for any other."""
        if self.near is None or ref.pieces or self.crs is not None:
            return None
        extent, crs = self.near
        own = address.crs_over_the_web(ref)
        if own is None:
            return None
        if goes_beyond(extent, crs):  # services count within half a turn (RFC 7946, 5.2)
            return None
        if crs is None or crs_module.is_same(own, crs):
            return _with_room(extent, MARGIN, 0.0)
        return _box_there(extent, crs, own)

    def of(self, layer: Layer) -> tuple[Layer, list[str]]:
        """Return what is taken of a layer, and what became of its invalid features."""
        if not self.takes_tables:
            noted = record.current()
            layer.check_geometry(noted.command if noted is not None else "this")
        if layer.is_table:
            return (layer, []) if self.where is None else _matching(layer, self.where)
        if self.crs is not None and (layer.crs is None or layer.doubt):
            layer = doubted(replace(layer, crs=self.crs, doubt=0.0))
        said: list[str] = []
        if self.where is not None:
            layer, said = _matching(layer, self.where)
        doubt = doubt_of(layer)
        if doubt and not self.looks_only:
            raise DataError(doubt)
        notes = [*said, doubt] if doubt else said
        if self.invalid == "keep":
            return layer, notes
        admission = admit(layer, self.invalid)
        return admission.layer, [*notes, *phrases.admitted(layer.name, admission.facts)]


def _with_room(extent: Extent, share: float, least: float) -> Extent:
    room = max(least, share * max(extent[2] - extent[0], extent[3] - extent[1]))
    return extent[0] - room, extent[1] - room, extent[2] + room, extent[3] + room


def _box_there(extent: Extent, crs: proj.CRS, own: proj.CRS) -> Extent | None:
    """Return a box in another CRS that holds all of one, with room for how borders come over there.

    None if it has no place there.
    """
    size = 1e-6 if crs_module.is_geographic(crs) else 0.1 / crs_module.unit(crs)[1]
    nothing = Layer("", GeometryColumn.nulls(0), pa.table({}), own)
    try:
        there = brought(box_layer(_with_room(extent, ROOM, size), crs), nothing, whole=True)
    except PolygeneError:
        return None
    return there.layer.geometry.extent()


def near_inputs(choice: Choice, inputs: Sequence[str], others: Sequence[str]) -> Choice:
    """Return how OTHERs are taken of which only what lies near INPUTs matters.

    INPUTs are looked at only if that saves something: if an OTHER comes over the web, and none of them.

    Raises
    ------
    PolygeneError
        If one cannot be read.
    """
    if choice.crs is not None or not any(map(address.is_remote, others)):
        return choice
    refs = all_of(inputs)
    if any(address.crs_over_the_web(ref) is not None for ref in refs):
        return choice
    layers = [layer for ref in refs for layer in addressed.read(ref).layers if not layer.is_table]
    return replace(choice, near=place_of_all([Other(layer) for layer in layers]))


def single(text: str, role: str) -> LayerRef:
    """Return the one layer that an address stands for.

    Raises
    ------
    PolygeneError
        If it stands for several, or none.
    """
    refs = address.resolve(text)
    if len(refs) > 1:
        names = ", ".join(ref.words for ref in refs[:5])
        raise UsageError(f"{role} must be one layer, and {text!r} stands for {len(refs)}: {names}")
    return refs[0]


def all_of(inputs: Sequence[str]) -> list[LayerRef]:
    """Return the layers that some addresses stand for, each once.

    Raises
    ------
    PolygeneError
        If one stands for none.
    """
    return list(dict.fromkeys(ref for text in inputs for ref in address.resolve(text)))


def read_one(
    text: str, choice: Choice, progress: Progress = SILENT, role: str = "INPUT"
) -> tuple[Layer, list[str]]:
    """Read an address that must come to one layer; return it and what there is to say about it.

    Raises
    ------
    PolygeneError
        If there is not exactly one such layer, or it cannot be read.
    """
    ref = single(text, role)
    progress.stage(f"reading {ref.words}")
    reading = choice.read(ref)
    if len(reading.layers) > 1:
        kinds = " and ".join(layer.geometry.family.words for layer in reading.layers)
        raise DataError(f"{role}, {text}, holds {kinds} together; convert it first to part them")
    layer, words = choice.of(reading.layers[0])
    return layer, [*reading.notes, *words]


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
    ref = single(text, "OTHER")
    progress.stage(f"reading {ref.words}")
    reading = choice.read(ref, record.OTHER)
    layers = reading.layers
    if len(layers) > 1:
        layers = [layer for layer in layers if layer.geometry.family == Family.POLYGONS]
    if not layers:
        raise DataError(f"OTHER, {text}, holds no polygons")
    chosen, words = choice.of(layers[0])
    if (
        choice.near is not None and not chosen.n_rows
    ):  # there may be some elsewhere, and that is said
        return read_other(text, replace(choice, near=None), progress, any_family)
    if choice.where is not None and chosen.n_rows == 0 and not any_family:
        raise DataError(
            f"OTHER, layer {chosen.name!r}: none of its {chosen.n_total:,} features is left after "
            f"the filter {choice.where.text}"
        )
    return Other(chosen, [*reading.notes, *words])


def read_all(inputs: Sequence[str], choice: Choice) -> tuple[list[Layer], list[str]]:
    """Read all layers that some addresses stand for, and what there is to say about it.

    Raises
    ------
    PolygeneError
        If one cannot be read.
    """
    refs = all_of(inputs)
    readings = [choice.read(ref) for ref in refs]
    notes = [note for reading in readings for note in reading.notes]
    layers = []
    every = [layer for reading in readings for layer in reading.layers]
    for found in with_geometry(every, choice, notes):
        layer, words = choice.of(found)
        layers.append(layer)
        notes += words
    return layers, notes


def with_geometry(layers: Sequence[Layer], choice: Choice, notes: list[str]) -> list[Layer]:
    """Return layers without the tables among them, if those cannot be worked on; that is said."""
    rest = [layer for layer in layers if not layer.is_table]
    if choice.takes_tables or not rest:
        return list(layers)
    notes += [passed_over(layer.name) for layer in layers if layer.is_table]
    return rest


def passed_over(name: str) -> str:
    """Say that a table among layers is left out."""
    return f"{name} is a table without geometry; left out"


def read_named(
    inputs: Sequence[str], choice: Choice, progress: Progress = SILENT
) -> tuple[list[Layer], list[str]]:
    """Read layers to be put together, their names distinct: with that of their file in front.

    Returns also what there is to say.

    Raises
    ------
    PolygeneError
        If one cannot be read.
    """
    every: list[Layer] = []
    notes: list[str] = []
    for ref in all_of(inputs):
        progress.stage(f"reading {ref.words}")
        reading = choice.read(ref)
        notes += reading.notes
        for found in reading.layers:
            names = {y.name for y in every}
            if found.name in names:
                found = replace(found, name=distinct_name(f"{ref.path.stem}_{found.name}", names))
            every.append(found)
    layers = []
    for found in with_geometry(every, choice, notes):
        layer, words = choice.of(found)
        notes += words
        layers.append(layer)
    return layers, notes


def first_of(layers: Sequence[Layer]) -> Layer:
    """Return the first layer that is no table, else the first."""
    return next((y for y in layers if not y.is_table), layers[0])


def box_of(box: Extent, box_crs: str | None, layer: Layer) -> Extent:
    """Return a box as it lies in the CRS of a layer, with all that is in it.

    Raises
    ------
    PolygeneError
        If there is no such CRS, or the box has no place in the layer's, or in a picture.
    """
    if box_crs is None:
        if box[0] > box[2]:
            raise UsageError(
                f"a picture shows no box that begins at x {box[0]:g}, which is more than {box[2]:g}; "
                "over the 180th meridian bring the layers to a CRS of that place first, and say "
                "`box_crs`"
            )
        return box
    rectangle = box_layer(box, crs_of(box_crs))
    found = brought(rectangle, layer, whole=True).layer.geometry.extent()
    assert found is not None
    return found


def crs_of(text: str) -> proj.CRS:
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


class Other:
    """OTHER as it was read, in its own CRS, and what there is to say about that."""

    def __init__(self, layer: Layer, notes: Sequence[str] = ()) -> None:
        self.layer, self.notes = layer, list(notes)

    def over(self, layer: Layer) -> Layer:
        """Return OTHER as it is laid over a layer; operations bring it to that one's CRS."""
        del layer
        return self.layer


class Rectangle(Other):
    """A rectangle as OTHER: in a CRS of its own or, without one, in that of all it is laid over."""

    def __init__(self, box: Extent, crs: proj.CRS | None = None) -> None:
        is_over = crs is None and box[0] > box[2]  # of degrees, as will be seen
        own = box_layer(box, crs_module.parse("OGC:CRS84") if is_over else crs)
        super().__init__(replace(own, crs=crs))
        self._box = box
        self._first: Layer | None = None

    def over(self, layer: Layer) -> Layer:
        """Return the rectangle with a CRS.

        Raises
        ------
        UsageError
            If it has none of its own and the layers it is laid over have different ones; if it begins
            east of where it ends, and they are on a plane.
        """
        if self.layer.crs is not None:
            return self.layer
        first = self._first = self._first or layer
        if not crs_module.is_same(first.crs, layer.crs):
            raise UsageError(
                f"the box is in the CRS of INPUT, and the INPUTs are in several: {first.name} in "
                f"{crs_module.label(first.crs)}, {layer.name} in {crs_module.label(layer.crs)}; say "
                "with `box_crs` which one the box is in"
            )
        return box_layer(self._box, layer.crs)


def place_of_all(others: Sequence[Other]) -> tuple[Extent, proj.CRS | None] | None:
    """Return where OTHERs lie, and in which CRS; None if that is not one."""
    layers = [other.layer for other in others]
    found = [e for e in (y.geometry.extent() for y in layers) if e is not None]
    extent = extent_of(np.array(found)) if found else None
    if (
        extent is None
        or not layers
        or any(not crs_module.is_same(y.crs, layers[0].crs) for y in layers)
    ):
        return None
    return extent, layers[0].crs
