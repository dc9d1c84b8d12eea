"""Destinations: where results go, under which names, and what stands in the way."""

from __future__ import annotations

import contextlib
import os
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Literal, NamedTuple

from polygene.commit.locks import alone_in
from polygene.commit.together import together, until_in_place
from polygene.errors import ExistsError, FileError, UsageError, reason_of
from polygene.formats import beside
from polygene.formats.address import LayerRef, split
from polygene.formats.file_names import file_name
from polygene.formats.packed import PIPE
from polygene.formats.registry import format_of, readable_format
from polygene.layer import Layer, distinct_name

DEFAULT_ENDING = ".gpkg"
_RESERVED = ("gpkg_", "rtree_", "sqlite_")

OnExisting = Literal["refuse", "replace", "next"]


class Target(NamedTuple):
    """The file and layer that one result goes to."""

    path: Path
    name: str
    is_new: bool = False  # not there when it was planned, and not to be written over
    note: str = ""  # what there is to say about its name

    @property
    def words(self) -> str:
        if str(self.path) == PIPE:
            return "standard output"
        return f"{self.path}#{self.name}" if format_of(self.path).HOLDS_MANY else str(self.path)


def plan(destination: str, sources: Sequence[LayerRef], on_existing: OnExisting) -> list[Target]:
    """Say where the result from each source goes; checked before anything is computed.

    Raises
    ------
    UsageError
        If several results would get one name, or a name cannot be a layer's.
    FileError
        If the place cannot be written to.
    ExistsError
        If a result is there already and is not to be replaced.
    """
    path, fragment = split(destination)
    if not path:
        raise UsageError(f"{destination!r} names no file to write to; for this folder say ./")
    is_folder = path.endswith(("/", os.sep)) or Path(path).is_dir()
    names = _names(sources)
    layers = [
        _filled(fragment, y, k, n) for k, (y, n) in enumerate(zip(sources, names, strict=True))
    ]
    pattern = os.path.join(path, f"{{name}}{DEFAULT_ENDING}") if is_folder else path
    in_path = layers if fragment else names
    safe: dict[str, str] = {}
    taken: set[str] = set()
    for name in dict.fromkeys(in_path):
        safe[name] = distinct_name(file_name(name), taken, folds=True)
        taken.add(safe[name].casefold())
    targets = [
        _target(_filled(pattern, source, k, "{name}", file_name), layer, name, safe[name])
        for k, (source, layer, name) in enumerate(zip(sources, layers, in_path, strict=True))
    ]
    _check_names(targets, destination)
    if path == PIPE:
        if len(targets) > 1:
            raise UsageError(f"one layer goes to standard output, and there are {len(targets)}")
        return targets
    for place in dict.fromkeys(target.path for target in targets):
        folder = Path(path) if is_folder else place.parent
        if not ((is_folder or "{" in path) and _can_be_made(folder)):
            _check_place(place)
    return _clear_of_existing(targets, on_existing)


def _filled(
    pattern: str | None,
    source: LayerRef,
    k: int,
    name: str,
    made: Callable[[str], str] = str,
) -> str:
    """Return a pattern with name, file and number filled in; the name itself without a pattern."""
    if not pattern:
        return name
    known = {"name": name, "file": made(source.path.stem), "n": str(k + 1)}
    return re.sub(r"\{(name|file|n)\}", lambda found: known[found[1]], pattern)


def _target(pattern: str, layer: str, name: str, safe: str) -> Target:
    """Return where a result goes: ``safe`` is its name where it is part of a path."""
    path = Path(pattern.replace("{name}", safe))
    own = layer if str(path) == PIPE or format_of(path).HOLDS_MANY else path.stem
    is_other = safe != name and "{name}" in pattern
    return Target(
        path,
        own,
        note=f"{name!r} cannot be a file's name; its file is called {path.name}"
        if is_other
        else "",
    )


def _names(sources: Sequence[LayerRef]) -> list[str]:
    """Return a name for each source: its own, where several have one with as much in front as it takes.

    That is the file's name, or else the folder's too, or else the ending.
    """
    names = [source.name for source in sources]
    for front in (
        lambda path: path.stem,
        lambda path: f"{path.absolute().parent.name}_{path.stem}",
        lambda path: f"{path.absolute().parent.name}_{path.stem}_{path.suffix[1:]}",
    ):
        counts = Counter(name.casefold() for name in names)
        if max(counts.values(), default=1) == 1:
            break
        names = [
            f"{front(source.path)}_{source.name}" if counts[name.casefold()] > 1 else name
            for source, name in zip(sources, names, strict=True)
        ]
    return names


def _check_names(targets: Sequence[Target], destination: str) -> None:
    for target in targets:
        if re.search(r"[{}]", target.name) or "{" in str(target.path):
            raise UsageError(
                f"{destination}: what can be filled in is {{name}}, {{file}} and {{n}}"
            )
        if not target.name.isprintable() and re.search("[\ud800-\udfff\0]", target.name):
            raise UsageError(
                f"{target.name!r} cannot be a layer's name: it holds a null or is not UTF-8"
            )
        if not target.name.strip() or target.name.lower().startswith(_RESERVED):
            raise UsageError(
                f"{target.name!r} cannot be a layer's name; names that begin with "
                f"{', '.join(_RESERVED)} belong to the format"
            )
    counts = Counter((str(t.path), t.name.casefold()) for t in targets)
    for target in targets:
        if counts[str(target.path), target.name.casefold()] > 1:
            raise UsageError(
                f"several results would be written to {target.words}; put {{name}} into the "
                "destination, as in 'out.gpkg#{name}_park', or give a folder"
            )


def _can_be_made(folder: Path) -> bool:
    """Whether a folder is not there yet but its own folder is."""
    return not folder.exists() and folder.parent.is_dir()


def _check_place(path: Path) -> None:
    """Refuse early what could not be written in the end."""
    if path.is_dir():
        raise FileError(f"{path} is a folder, not a file")
    folder = path.parent
    if not folder.is_dir():
        raise FileError(f"cannot write {path}: there is no folder {folder}")
    if not os.access(folder, os.W_OK):
        raise FileError(f"cannot write {path}: no permission to write in {folder}")
    if path.exists():
        readable_format(path)
        if not os.access(path, os.W_OK):
            raise FileError(f"cannot write {path}: it is read-only")


def _clear_of_existing(targets: Sequence[Target], on_existing: OnExisting) -> list[Target]:
    clear = []
    existing = _Existing()
    for target in targets:
        there = existing.names(target)
        if on_existing == "replace":
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


def write_all(results: Sequence[tuple[Target, Layer]]) -> list[str]:
    """Write results, all of them or none; return what there is to say about it.

    Runs that write into one folder at once wait for each other, so that none undoes another's work.

    Raises
    ------
    FileError
        If a file cannot be written.
    ExistsError
        If another run has written a result of that name since it was planned.
    """
    notes = [target.note for target, _ in results if target.note]
    by_file: dict[str, list[tuple[Target, Layer]]] = {}
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
            notes += _write_file(own[0][0].path, [layer for _, layer in own])
    return notes


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


def _write_file(path: Path, layers: Sequence[Layer]) -> list[str]:
    notes = format_of(path).write(path, layers)
    if str(path) != PIPE and not format_of(path).KEEPS_LINEAGE:
        beside.write(path, layers[0].lineage)
    return notes
