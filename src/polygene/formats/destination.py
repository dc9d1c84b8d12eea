"""Destinations: where results go, under which names, and what stands in the way."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Literal, cast

from polygene import provenance
from polygene.classes import NamedTuple
from polygene.commit.locks import alone_in
from polygene.commit.together import together, until_in_place
from polygene.errors import ExistsError, FileError, TableError, UsageError, reason_of
from polygene.formats import beside, proof
from polygene.formats.address import LayerRef, split
from polygene.formats.arrow_types import storable
from polygene.formats.base import PieceWriter, check_is_here
from polygene.formats.file_names import file_name
from polygene.formats.naming import (
    Values,
    check_distinct,
    check_name,
    check_pattern,
    distinct_names,
    fields_in,
    plainly,
    safely,
)
from polygene.formats.packed import PIPE
from polygene.formats.pieces import Pieces
from polygene.formats.registry import (
    FolderPath,
    format_of,
    is_meant_as_folder,
    readable_format,
)
from polygene.layer import Layer

DEFAULT_ENDING = ".gpkg"

OnExisting = Literal["refuse", "replace", "next"]


class Target(NamedTuple):
    """The file and layer that one result goes to."""

    path: Path
    name: str
    is_new: bool = False  # not there when it was planned, and not to be written over
    note: str = ""  # what there is to say about its name
    part: str = ""  # of a result that is parted by the values of fields: which values

    @property
    def words(self) -> str:
        if str(self.path) == PIPE:
            return "standard output"
        return f"{self.path}#{self.name}" if format_of(self.path).HOLDS_MANY else str(self.path)


def plan(
    destination: str,
    sources: Sequence[LayerRef],
    on_existing: OnExisting,
    keeps_names: bool = False,
) -> list[Target]:
    """Say where the result from each source goes; checked before anything is computed.

    A single result goes into a layer called like its file, unless it is to keep its name or the
    destination says another; several are called like their sources.

    Raises
    ------
    UsageError
        If several results would get one name, or a name cannot be a layer's.
    FileError
        If the place cannot be written to.
    ExistsError
        If a result is there already and is not to be replaced.
    """
    parts: list[tuple[LayerRef, Sequence[Values]]] = [(source, [{}]) for source in sources]
    return [own[0] for own in plan_parts(destination, parts, on_existing, keeps_names)]


def check(
    destination: str,
    sources: Sequence[LayerRef],
    on_existing: OnExisting,
    keeps_names: bool = False,
) -> None:
    """Refuse a destination that is sure to be refused in the end, before anything is computed.

    Raises
    ------
    PolygeneError
        As `plan`; of one that names fields only what is in front of those is looked at.
    """
    check_is_here(destination)
    if fields_in(destination):
        path = split(destination)[0]
        fixed = path.partition("{")[0]
        folder = Path(fixed) if fixed.endswith(("/", os.sep)) or not fixed else Path(fixed).parent
        if not _can_be_made(folder):
            _check_place(folder / f"_{Path(path).suffix or DEFAULT_ENDING}")
        format_of(Path(f"_{Path(path).suffix or DEFAULT_ENDING}"))
        return
    plan(destination, sources, on_existing, keeps_names)


def plan_parts(
    destination: str,
    sources: Sequence[tuple[LayerRef, Sequence[Values]]],
    on_existing: OnExisting,
    keeps_names: bool = False,
) -> list[list[Target]]:
    """Say where each part of the result from each source goes; as `plan` otherwise.

    A part is told by its values of the fields that the destination names.

    Raises
    ------
    PolygeneError
        As `plan`.
    """
    check_is_here(destination)
    path, fragment = split(destination)
    check_pattern(destination, [values for _, parts in sources for values in parts])
    if not path:
        raise UsageError(f"{destination!r} names no file to write to; for this folder say ./")
    is_folder = path.endswith(("/", os.sep)) or (path != PIPE and Path(path).is_dir())
    if is_folder and is_meant_as_folder(FolderPath(path)):
        is_folder, path = False, path.rstrip("/" + os.sep)
        as_folder: type[Path] = FolderPath
    else:
        as_folder = Path
    pattern = os.path.join(path, f"{{name}}{DEFAULT_ENDING}") if is_folder else path
    names = distinct_names([source for source, _ in sources])
    is_like_file = len(sources) == 1 and "{name}" not in pattern and not keeps_names
    in_path, in_name = safely(), plainly()
    planned = []
    for k, ((source, parts), name) in enumerate(zip(sources, names, strict=True)):
        own = []
        for values in parts:
            layer = in_name.filled(fragment or "{name}", name, source, k, values)
            part_name = layer if fragment else name
            place = as_folder(in_path.filled(pattern, part_name, source, k, values))
            if is_like_file and not fragment and str(place) != PIPE:
                layer = place.stem
            part = ", ".join(f"{field} = {value or 'null'}" for field, value in values.items())
            target = _target(place, layer, part_name, "{name}" in pattern)
            own.append(target._replace(part=part))
        planned.append(own)
    targets = [target for own in planned for target in own]
    for target in targets:
        check_name(target.name)
    check_distinct((str(target.path), target.name, target.words) for target in targets)
    if path == PIPE:
        if len(targets) > 1:
            raise UsageError(f"one layer goes to standard output, and there are {len(targets)}")
        return planned
    for place in dict.fromkeys(target.path for target in targets):
        folder = Path(path) if is_folder else place.parent
        if not ((is_folder or "{" in path) and _can_be_made(folder)):
            _check_place(place)
    clear = iter(_clear_of_existing(targets, on_existing))
    return [[next(clear) for _ in own] for own in planned]


def _target(path: Path, layer: str, name: str, is_by_name: bool) -> Target:
    """Return where a result goes; it is said if its name had to change to be a file's."""
    own = layer if str(path) == PIPE or format_of(path).HOLDS_MANY else path.stem
    is_other = is_by_name and file_name(name) != name
    said = f"{name!r} cannot be a file's name; its file is called {path.name}"
    return Target(path, own, note=said if is_other else "")


def _can_be_made(folder: Path) -> bool:
    """Whether a folder is not there yet but its own folder is."""
    return not folder.exists() and folder.parent.is_dir()


def _check_place(path: Path) -> None:
    """Refuse early what could not be written in the end."""
    if path.is_dir() and not is_meant_as_folder(path):
        raise FileError(f"{path} is a folder, not a file")
    if path.exists() and not path.is_dir() and is_meant_as_folder(path):
        raise FileError(f"{path} is a file, not a folder")
    if getattr(format_of(path), "IS_ONLY_READ", False):
        instead = getattr(format_of(path), "INSTEAD", ".csv or .xlsx")
        raise FileError(f"{path}: a {format_of(path).NAME} is only read here; write {instead}")
    folder = path.parent
    if not folder.is_dir():
        raise FileError(f"cannot write {path}: there is no folder {folder}")
    if not os.access(folder, os.W_OK):
        raise FileError(f"cannot write {path}: no permission to write in {folder}")
    if path.exists():
        readable_format(path)
        if not os.access(path, os.W_OK):
            raise FileError(f"cannot write {path}: it is read-only")


def _check_folder(path: Path) -> None:
    """Refuse a folder to be replaced that holds what is no part of a layer: it would be lost."""
    for folder, _, names in os.walk(path):
        for name in names:
            if not name.endswith(".parquet") and name[0] not in "_.":
                place = os.path.relpath(os.path.join(folder, name), path)
                what = f"{path} holds {place}, which is no part of a layer"
                raise FileError(f"{what}; move it, or name another folder")


def _clear_of_existing(targets: Sequence[Target], on_existing: OnExisting) -> list[Target]:
    clear = []
    existing = _Existing()
    for target in targets:
        there = existing.names(target)
        if on_existing == "replace":
            if target.path.is_dir():
                _check_folder(target.path)
            clear.append(target)
        elif not existing.has(target):
            clear.append(target._replace(is_new=True))
        elif on_existing == "next":
            clear.append(_next(target, there)._replace(is_new=True))
        else:
            free = _next(target, there)
            raise ExistsError(
                f"{target.words} exists already; `replace` overwrites it, `next` writes "
                f"{free.words}"
            )
    return clear


def those_there(targets: Sequence[Target]) -> list[Target]:
    """Return the targets at which there is a layer already, called as it is."""
    existing = _Existing()
    names = [{name.casefold(): name for name in existing.names(target)} for target in targets]
    return [
        target._replace(name=own[target.name.casefold()])
        for target, own in zip(targets, names, strict=True)
        if target.name.casefold() in own
    ]


class _Existing:
    """What is there where results go: each package and folder looked at once."""

    def __init__(self) -> None:
        self._found: dict[tuple[Path, str], tuple[list[str], set[str]]] = {}

    def names(self, target: Target) -> list[str]:
        return self._at(target)[0]

    def has(self, target: Target) -> bool:
        return target.name.casefold() in self._at(target)[1]

    def _at(self, target: Target) -> tuple[list[str], set[str]]:
        is_package = format_of(target.path).HOLDS_MANY
        key = (target.path, "") if is_package else (target.path.parent, target.path.suffix)
        if key not in self._found:
            if not is_package:
                names = [path.stem for path in key[0].glob(f"*{key[1]}")]
            elif target.path.exists():
                names = readable_format(target.path).layer_names(target.path)
            else:
                names = []
            self._found[key] = names, {name.casefold() for name in names}
        return self._found[key]


def _next(target: Target, there: Sequence[str]) -> Target:
    """Return the next version: one more than the highest number there."""
    base = re.sub(r"_\d+$", "", target.name)
    pattern = re.compile(re.escape(base) + r"(?:_(\d+))?", re.IGNORECASE)
    numbers = [int(m[1] or 1) for m in map(pattern.fullmatch, there) if m]
    name = f"{base}_{max(numbers) + 1}"
    if format_of(target.path).HOLDS_MANY:
        return target._replace(name=name)
    return target._replace(path=target.path.with_stem(name), name=name)


def write_all(results: Sequence[tuple[Target, Layer | Pieces]]) -> list[str]:
    """Write results, all of them or none; return what there is to say about it.

    What comes in pieces is for formats that take such: see `takes_pieces`.

    Runs that write into one folder at once wait for each other, so that none undoes another's work.

    Raises
    ------
    FileError
        If a file cannot be written.
    ExistsError
        If another run has written a result of that name since it was planned.
    """
    notes = [target.note for target, _ in results if target.note]
    by_file: dict[str, list[tuple[Target, Layer | Pieces]]] = {}
    for target, layer in results:
        by_file.setdefault(os.path.realpath(target.path), []).append((target, layer))
    with together():
        folders = until_in_place(_folders_for([target.path for target, _ in results]))
        until_in_place(alone_in(*folders))
        existing = _Existing()
        for target, _ in results:
            if target.is_new and str(target.path) != PIPE and existing.has(target):
                raise ExistsError(f"{target.words} was written by another run meanwhile")
        for own in by_file.values():
            path, layers = own[0][0].path, [layer for _, layer in own]
            whole = [layer for layer in layers if isinstance(layer, Layer)]
            if len(whole) == len(layers):
                notes += _write_file(path, whole)
            else:
                notes += _write_pieces(path, layers)
    return notes


def takes_pieces(path: Path) -> bool:
    """Whether a file's format is written piece by piece."""
    return hasattr(format_of(path), "write_pieces")


def hold_place(target: Target) -> None:
    """Hold the place of a result until it is there, as `write_all` does.

    Raises
    ------
    ExistsError
        If another run has written a result of that name since it was planned.
    """
    folders = until_in_place(_folders_for([target.path]))
    until_in_place(alone_in(*folders))
    if target.is_new and _Existing().has(target):
        raise ExistsError(f"{target.words} was written by another run meanwhile")


@contextlib.contextmanager
def _folders_for(paths: Sequence[Path]) -> Iterator[list[Path]]:
    """Make the folders that are not there yet; take them away again if nothing gets into them."""
    made = []
    folders = list(dict.fromkeys(path.parent for path in paths if str(path) != PIPE))
    try:
        for folder in folders:
            if not folder.is_dir():
                try:
                    folder.mkdir()
                except OSError as err:
                    raise FileError(f"cannot make the folder {folder}: {reason_of(err)}") from err
                made.append(folder)
        yield [Path(os.path.realpath(path)).parent for path in paths if str(path) != PIPE]
    except BaseException:
        for folder in made:
            with contextlib.suppress(OSError):
                folder.rmdir()
        raise


def _write_pieces(path: Path, layers: Sequence[Layer | Pieces]) -> list[str]:
    """Write layers of which some come in pieces into one file."""
    notes, pieces = [], []
    for layer in layers:
        if isinstance(layer, Layer):
            layer, own = storable(layer)
            notes += own
            layer = Pieces.of(layer)
        pieces.append(layer)
    done = cast(PieceWriter, format_of(path)).write_pieces(path, pieces)
    done = done._replace(notes=[*notes, *done.notes])
    return proof.notes_of_pieces(path, pieces, done)


def _write_file(path: Path, layers: Sequence[Layer]) -> list[str]:
    tables = [layer.name for layer in layers if layer.is_table]
    if tables and not format_of(path).HOLDS_TABLES:
        raise TableError(
            f"{path}: {tables[0]} is a table without geometry, for which {format_of(path).NAME} has no "
            "place; write it as .csv, .xlsx, .parquet or .arrow, or into a .gpkg"
        )
    stored = [storable(layer) for layer in layers]
    done = format_of(path).write(path, [layer for layer, _ in stored])
    notes = proof.notes_of(
        path, done._replace(notes=[*(n for _, own in stored for n in own), *done.notes])
    )
    if str(path) != PIPE and not format_of(path).KEEPS_LINEAGE:
        beside.write(path, provenance.told(layers[0].lineage, notes))
    return notes
