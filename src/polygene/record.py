"""What a run of a command reads, so that what it writes can say how it came about."""

from __future__ import annotations

import contextlib
import functools
import hashlib
import inspect
import os
from collections.abc import Callable, Iterator, Mapping
from contextvars import ContextVar
from dataclasses import field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from polygene import __version__, provenance
from polygene.classes import dataclass
from polygene.clock import now
from polygene.commands import COMMANDS
from polygene.crs import degrees_of, is_geographic, label
from polygene.errors import UsageError
from polygene.formats import origins, packed
from polygene.formats.address import LayerRef
from polygene.formats.base import Reading, files_beside
from polygene.formats.registry import format_of
from polygene.formats.resting import state_of
from polygene.layer import Layer, check_layer
from polygene.provenance import Lineage, Made, Step
from polygene.written import remark

if TYPE_CHECKING:
    from pyproj import CRS

INPUT, OTHER = "INPUT", "OTHER"
F = TypeVar("F", bound=Callable[..., Any])


@dataclass
class Record:
    """One command at work: its options, and the layers it has read so far, by role."""

    command: str
    options: Mapping[str, Any]
    credit: str = ""
    licence: str = ""
    person: str = ""
    began: str = field(default_factory=lambda: now())
    used: list[tuple[str, Lineage]] = field(default_factory=list)
    _checksums: dict[Path, str] = field(default_factory=dict)
    _others: list[tuple[str, Lineage]] = field(default_factory=list)
    _by_entity: dict[tuple[str, str], list[Lineage]] = field(default_factory=dict)

    def note(self, ref: LayerRef, reading: Reading, role: str) -> list[Layer]:
        """Note layers that were read; return them with their lineage."""
        found = []
        for layer in reading.layers:
            if layer.lineage is None:
                own = provenance.source(self._made(ref, layer, reading.state))
                layer = replace(layer, lineage=own)
            assert layer.lineage is not None
            same = self._by_entity.setdefault((role, layer.lineage.entity), [])
            if layer.lineage not in same:
                same.append(layer.lineage)
                self.used.append((role, layer.lineage))
                if role == OTHER:
                    self._others.append((role, layer.lineage))
            found.append(layer)
        return found

    def _made(self, ref: LayerRef, layer: Layer, state: object) -> Made:
        if ref.path not in self._checksums:
            self._checksums[ref.path] = _checksum_as_read(ref, state)
        place = ref.words if ref.pieces else _address(ref.path, layer.name)
        origin = origins.origin_of(ref.path)
        return Made(
            layer.name,
            place,
            layer.n_total,
            label(layer.crs),
            self._checksums[ref.path],
            retrieved="" if origin is None else origin.retrieved,
            validator="" if origin is None else origin.validator,
        )

    def of_result(
        self,
        layer: Layer,
        place: str,
        made_of: Lineage | None,
        part: str = "",
        n_rows: int | None = None,
    ) -> Layer:
        """Return a result with its lineage.

        ``made_of`` is the INPUT it was made of, None if it was all that were read; ``part`` tells
        which part of a result it is, if it was parted by values of fields; ``n_rows`` how many rows
        there are, if they are not here.
        """
        others = self._others
        if made_of is None:
            inputs = [(role, own) for role, own in self.used if role != OTHER]
        else:
            inputs = [(INPUT, own) for own in self._by_entity.get((INPUT, made_of.entity), ())]
        used = [*inputs, *others]
        options = {**self.options, provenance.PART: part} if part else self.options
        step = Step(self.command, options, self.began, now(), __version__, self.person, used)
        made = Made(
            layer.name,
            place,
            layer.n_rows if n_rows is None else n_rows,
            label(layer.crs),
            "",
            self.credit,
            self.licence,
        )
        return replace(layer, lineage=provenance.derived(made, step))


def written_to(layer: Layer, place: str) -> Lineage:
    """Return the lineage of a layer made in Python where it is written; one just read is converted."""
    own = layer.lineage
    assert own is not None
    if provenance.history(own).command:
        return provenance.moved(own, layer.name, place)
    made = Made(layer.name, place, layer.n_rows, label(layer.crs), "")
    return provenance.derived(
        made, Step("convert", {}, now(), now(), __version__, "", [(INPUT, own)])
    )


def traced(command: str, function: F) -> F:
    """Return an operation that gives what it makes its lineage, as the program does.

    Layers among its arguments, alone or several in one, are what it is made of, the first INPUT and the
    others OTHER; arguments of plain values are the options.
    """
    signature = inspect.signature(function)

    @functools.wraps(function)
    def call(*args: Any, **kwargs: Any) -> Any:
        began = now()
        try:
            bound = signature.bind(*args, **kwargs)
        except TypeError:
            return function(*args, **kwargs)  # which says the same with its name
        for name, value in bound.arguments.items():
            _check_layers(command, signature.parameters[name], value)
        args = tuple(_given(command, value) for value in args)
        kwargs = {name: _given(command, value) for name, value in kwargs.items()}
        result = function(*args, **kwargs)
        layer = getattr(result, "layer", None)
        if current() is not None or not isinstance(layer, Layer):
            return result
        given = signature.bind(*args, **kwargs).arguments
        for name, value in list(given.items()):
            if isinstance(value, dict) and name not in kwargs:
                given |= given.pop(name)  # what is gathered by ** is arguments too
        used: list[tuple[str, Lineage]] = []
        for value in given.values():
            for one in value if isinstance(value, (list, tuple)) else [value]:
                if isinstance(one, Layer):
                    role = OTHER if used and command != "merge" else INPUT
                    used.append((role, one.lineage or _of_python(one)))
        first = next(v for v in given.values() if isinstance(v, (Layer, list, tuple)))
        crs = first.crs if isinstance(first, Layer) else layer.crs
        options = {
            name: _plain(_with_unit(command, name, value, crs)) for name, value in given.items()
        }
        options = {name.rstrip("_").replace("_", "-"): v for name, v in options.items() if v}
        step = Step(command, options, began, now(), __version__, "", used)
        made = Made(layer.name, "", layer.n_rows, label(layer.crs), "")
        traced_layer = replace(layer.as_result(), lineage=provenance.derived(made, step))
        return replace(result, layer=traced_layer)

    return call  # type: ignore[return-value]


def _check_layers(command: str, parameter: inspect.Parameter, value: object) -> None:
    """Refuse what is given for a layer, or for several, and is none."""
    kind, called = str(parameter.annotation), f"`{parameter.name}` of {command}"
    if parameter.kind is parameter.VAR_POSITIONAL or kind == "Sequence[Layer]":
        if isinstance(value, Layer):
            raise UsageError(f"{called} are several, as [layer, other]; one alone was given")
        for one in value if isinstance(value, (list, tuple)) else [value]:
            check_layer(one, f"each of {called}")
    elif kind == "Layer" or ("Layer" in kind and isinstance(value, (str, os.PathLike))):
        check_layer(value, called)


def _given(command: str, value: Any) -> Any:
    """Return an argument, layers in it as operations take them.

    Raises
    ------
    DataError, TableError
        If a layer cannot be, or is a table and the command works on geometry.
    """
    if isinstance(value, (list, tuple)):
        is_plain = type(value) in (list, tuple)  # of other kinds nothing is known here
        return type(value)([_given(command, one) for one in value]) if is_plain else value
    if not isinstance(value, Layer):
        return value.item() if isinstance(value, np.generic) else value
    value.check_structure()
    if command not in COMMANDS or not COMMANDS[command].takes_tables:
        value.check_geometry(command)
    from polygene.formats.arrow_types import (
        storable,  # only from Python layers are made of anything
    )

    layer, notes = storable(value)
    for note in notes:
        remark(note)
    return layer


def _of_python(layer: Layer) -> Lineage:
    """Return the lineage of a layer that was made of arrays."""
    return provenance.source(Made(layer.name, "made in Python", layer.n_rows, label(layer.crs)))


def _with_unit(command: str, name: str, value: object, crs: CRS | None) -> object:
    """Return a length that was given as a number with the unit that it was meant in.

    Typed without one it would be in units of the CRS, which it need not be, and is refused in degrees.
    """
    if isinstance(value, (list, tuple)):
        return [_with_unit(command, name, one, crs) for one in value]
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        return value
    is_in_metres = name in ("follow", "up_to") or (
        command == "buffer" and name in ("distance", "rings", "precision")
    )
    if is_in_metres:
        return f"{value!r}m" if name == "follow" or crs is not None else value
    is_in_map_units = name in ("precision", "snap", "give_slivers", "coverage")
    if is_in_map_units and crs is not None and is_geographic(crs):
        return f"{value * degrees_of(crs)!r}deg"
    return value


def _plain(value: object) -> Any:
    """Return an argument as an option that was given; None for what is none, such as a layer."""
    if isinstance(value, (bool, int, float, str)):
        return value
    if isinstance(value, (list, tuple)) and value:
        plain = [_plain(one) for one in value]
        return None if None in plain else plain
    text = getattr(value, "text", None)
    return text if isinstance(text, str) else None


def _address(path: Path, name: str) -> str:
    """Return the address of a layer, without its name where a file holds but one."""
    is_only = packed.outermost(path) == str(path) and not format_of(path).HOLDS_MANY
    return str(path) if is_only else LayerRef(path, name).words


_current: ContextVar[Record | None] = ContextVar("polygene_record", default=None)


@contextlib.contextmanager
def recording(record: Record) -> Iterator[Record]:
    """Let what is read and written be noted in a record."""
    token = _current.set(record)
    try:
        yield record
    finally:
        _current.reset(token)


def current() -> Record | None:
    """Return the record of the command at work; None when called from Python."""
    return _current.get()


def _checksum_as_read(ref: LayerRef, state: object) -> str:
    """Return the SHA-256 of what was read; empty, and said so, if it is there no more."""
    if ref.pieces:
        sums = "".join(checksum(piece.path) for piece in ref.pieces)
        return hashlib.sha256(sums.encode()).hexdigest()
    with contextlib.suppress(OSError):
        found = checksum(ref.path)
        if state is None or state_of(ref.path) == state:
            return found
    remark(f"{ref.path} was changed when it had been read: its lineage tells no checksum of it")
    return ""


def checksum(path: Path) -> str:
    """Return the SHA-256 of a file, with those that belong to it."""
    origin = origins.origin_of(path)
    if origin is not None:
        return origin.checksum
    if path.is_dir():
        return _checksum_of_parts(path)
    found = hashlib.sha256()
    for part in files_beside(path):
        with part.open("rb") as file:
            while block := file.read(1 << 20):
                found.update(block)
    return found.hexdigest()


def _checksum_of_parts(folder: Path) -> str:
    """Return the checksum of a folder that is one layer: its index's, or that of its files."""
    from polygene.formats.parquet_parts import parts_of

    files, index = parts_of(folder)
    if index is not None:
        return index.checksum()
    told = "".join(f"{file.name} {checksum(file)}\n" for file in files)
    return hashlib.sha256(told.encode()).hexdigest()
