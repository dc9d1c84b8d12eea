"""What every format offers, and what all of them share."""

from __future__ import annotations

import contextlib
import gc
import glob
import os
import re
from collections.abc import Container, Iterator, Mapping, Sequence
from contextvars import ContextVar
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Protocol, TypeVar

from polygene.classes import NamedTuple
from polygene.errors import DataError, ExistsError, UsageError

if TYPE_CHECKING:
    from polygene.formats.pieces import Pieces
    from polygene.formats.wanted import Wanted
    from polygene.geometry import GeometryColumn
    from polygene.info import LayerInfo
    from polygene.layer import Layer


T = TypeVar("T")
_ADDRESS = re.compile(r"([A-Za-z][A-Za-z0-9+.-]+:)/+(.*)", re.DOTALL)  # a drive has one letter
_OF_SHAPEFILE = (".shp", ".shx", ".dbf", ".prj", ".cpg")


class Closes(Protocol):
    """What is open, as a connection to a database."""

    def close(self) -> None: ...


class Reading(NamedTuple):
    """Layers read and what there is to say about it.

    More than one layer comes from one table if its geometry has mixed dimensions. ``state`` tells the
    state that the files were in, where they are local (`resting.State`).
    """

    layers: list[Layer]
    notes: list[str]
    state: object = None


class Known(NamedTuple):
    """Geometry that need not be decoded again where its bytes have the checksums given here.

    A reader decodes it after all where they have not.
    """

    geometry: GeometryColumn
    sums: Sequence[int]


class Way(NamedTuple):
    """What a format does to every layer, so that it is no fault.

    declared : the fields whose changes have been told already
    has_loose_rings : which ring is a hole of which is found on reading
    keeps_types : it states the types of fields, also of those without a value
    """

    declared: frozenset[str] = frozenset()
    has_loose_rings: bool = False
    keeps_types: bool = True


class Written(NamedTuple):
    """What a format made of layers: what there is to say, and what reading the file is to give.

    meant : the layers as they are in the file: fields as they are called there, in its CRS and order
    way : what the format does to every layer
    sums : checksums of the geometry by layer, where `read` takes what is `Known`
    sums_of_pieces : likewise of what was written piece by piece, of each
    """

    notes: list[str]
    meant: Sequence[Layer]
    way: Way = Way()
    sums: Mapping[str, Sequence[int]] = MappingProxyType({})
    sums_of_pieces: Mapping[str, Sequence[Sequence[int]]] = MappingProxyType({})


class Format(Protocol):
    """A module that reads and writes one open format."""

    NAME: str
    ENDINGS: tuple[str, ...]
    HOLDS_MANY: bool  # several layers in one file
    HOLDS_TABLES: bool  # it may be without geometry
    KEEPS_LINEAGE: bool  # it has a place for it inside
    READS_PART: bool  # its `read` takes what is `Wanted` of a layer

    def is_like(self, head: bytes) -> bool:
        """Whether a file that begins so may be of this format."""
        ...

    def list_layers(self, path: Path) -> list[LayerInfo]: ...

    def layer_names(self, path: Path) -> list[str]: ...

    def read(self, path: Path, name: str) -> Reading: ...

    def write(self, path: Path, layers: Sequence[Layer]) -> Written:
        """Write layers, whole or not at all; those of the same name are replaced, others stay."""
        ...


class PartReader(Protocol):
    """The format of a module that can leave unwanted features in the file."""

    def read(self, path: Path, name: str, wanted: Wanted) -> Reading: ...


class ProofReader(Protocol):
    """The format of a module that can leave out decoding of geometry that is known."""

    def read(self, path: Path, name: str, *, known: Known) -> Reading: ...


class PieceReader(Protocol):
    """The format of a module that can do both for some rows."""

    def read(self, path: Path, name: str, wanted: Wanted, *, known: Known) -> Reading: ...


class PieceWriter(Protocol):
    """The format of a module that can write layers too large for memory; it keeps lineage inside."""

    def write_pieces(self, path: Path, layers: Sequence[Pieces]) -> Written: ...


kept_open: ContextVar[dict[object, Closes] | None] = ContextVar("polygene_open", default=None)


@contextlib.contextmanager
def keeping_open() -> Iterator[None]:
    """Let files that are read again and again stay open while this lasts: see `kept_open`."""
    files: dict[object, Closes] = {}
    token = kept_open.set(files)
    try:
        yield
    finally:
        kept_open.reset(token)
        for file in files.values():
            file.close()


@contextlib.contextmanager
def collecting_no_garbage() -> Iterator[None]:
    """Let Python not look for reference cycles while millions of values are made that have none.

    Parsing 190 MB of GeoJSON takes 3 s this way and 9 s otherwise.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def check_is_here(destination: str | os.PathLike[str]) -> None:
    """Refuse an address of the web, also one that was made a path, as a place to write to.

    Raises
    ------
    UsageError
        If it is one.
    """
    found = _ADDRESS.match(os.fspath(destination))
    if found is not None and not Path(found[1]).exists():
        raise UsageError(
            f"{found[1]}//{found[2]} is not on this machine, where results are written; write a file "
            "here and take it there with what that server is for"
        )


def check_free(path: Path, replaces: bool) -> None:
    """Refuse a file that is there, unless it is to be replaced, and what is no place for one.

    Raises
    ------
    ExistsError, UsageError
        Otherwise.
    """
    check_is_here(path)
    if path.exists() and not replaces:
        raise ExistsError(f"{path} exists; `replace` overwrites it")


def files_beside(path: Path) -> list[Path]:
    """Return a file with those that are parts of it: a Shapefile is several.

    Not those that only have its name, as a layer in another format, and no indexes of other programs.
    """
    if path.suffix.lower() != ".shp":
        return [path]
    found = path.parent.glob(f"{glob.escape(path.stem)}.*")
    return sorted(p for p in found if p.suffix.lower() in _OF_SHAPEFILE and p.is_file())


def is_beside(path: Path, siblings: Container[str]) -> bool:
    """Whether a file is part of another of its folder, whose names are given, or not to be read.

    A .dbf beside a .shp is its table; what begins with ``~$`` tells that a workbook is open.
    """
    if path.suffix.lower() == ".dbf":
        return any(path.with_suffix(ending).name in siblings for ending in (".shp", ".SHP"))
    return path.name.startswith("~$")


def only_one(path: Path, layers: Sequence[T], what: str) -> T:
    """Return the one layer that a file of some format can hold.

    Raises
    ------
    DataError
        If there are several.
    """
    if len(layers) != 1:
        raise DataError(
            f"{path}: {what} holds one layer, and there are {len(layers)}; write to a folder or a "
            "GeoPackage"
        )
    return layers[0]
