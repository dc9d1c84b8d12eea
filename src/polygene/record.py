"""What a run of a command reads, so that what it writes can say how it came about."""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import os
from collections.abc import Iterator, Mapping, Sequence
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from polygene import __version__, lineage
from polygene.crs import label
from polygene.formats import packed
from polygene.formats.address import LayerRef
from polygene.formats.base import files_beside
from polygene.formats.registry import format_of
from polygene.layer import Layer
from polygene.lineage import Lineage, Made, Step

INPUT, OTHER = "INPUT", "OTHER"


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

    def note(self, ref: LayerRef, layers: Sequence[Layer], role: str) -> list[Layer]:
        """Note layers that were read; return them with their lineage."""
        found = []
        for layer in layers:
            if layer.lineage is None:
                own = lineage.source(self._made(ref, layer))
                layer = replace(layer, lineage=own)
            assert layer.lineage is not None
            if (role, layer.lineage) not in self.used:
                self.used.append((role, layer.lineage))
            found.append(layer)
        return found

    def _made(self, ref: LayerRef, layer: Layer) -> Made:
        if ref.path not in self._checksums:
            sums = [checksum(piece.path) for piece in ref.pieces or (ref,)]
            joined = hashlib.sha256("".join(sums).encode()).hexdigest()
            self._checksums[ref.path] = joined if ref.pieces else sums[0]
        place = ref.words if ref.pieces else _address(ref.path, layer.name)
        return Made(
            layer.name,
            place,
            layer.n_total,
            label(layer.crs),
            self._checksums[ref.path],
        )

    def of_result(self, layer: Layer, place: str, made_of: Lineage | None) -> Layer:
        """Return a result with its lineage.

        ``made_of`` is the INPUT it was made of; None if it was all that were read.
        """
        used = [
            (role, own)
            for role, own in sorted(self.used, key=lambda pair: pair[0] == OTHER)
            if made_of is None or role == OTHER or own.entity == made_of.entity
        ]
        step = Step(self.command, self.options, self.began, now(), __version__, self.person, used)
        made = Made(
            layer.name, place, layer.n_rows, label(layer.crs), "", self.credit, self.licence
        )
        return replace(layer, lineage=lineage.derived(made, step))


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


def now() -> str:
    """Return the time, to the second; the one that SOURCE_DATE_EPOCH says if it is set."""
    fixed = os.environ.get("SOURCE_DATE_EPOCH", "")
    utc = datetime.UTC
    moment = (
        datetime.datetime.fromtimestamp(int(fixed), utc)
        if fixed.isdigit()
        else (datetime.datetime.now(utc))
    )
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def checksum(path: Path) -> str:
    """Return the SHA-256 of a file, with those that belong to it."""
    found = hashlib.sha256()
    for part in files_beside(path):
        with part.open("rb") as file:
            while block := file.read(1 << 20):
                found.update(block)
    return found.hexdigest()
