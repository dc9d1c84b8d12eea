"""A table of dBASE III without shapes beside it; such tables are read, not written."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from polygene import computing as pc
from polygene.errors import FileError, reason_of
from polygene.formats import codepages
from polygene.formats.base import Reading, Written
from polygene.formats.columns import ADVICE, info_of, named, table_of
from polygene.formats.shapefile import dbase
from polygene.info import LayerInfo
from polygene.layer import Layer
from polygene.notes import Warned, counted

NAME = "dBASE table"
ENDINGS = (".dbf",)
KEEPS_LINEAGE = False
HOLDS_MANY = False
HOLDS_TABLES = True
READS_PART = False
IS_ONLY_READ = True
_MARKS = (0x02, 0x03, 0x04, 0x05, 0x30, 0x31, 0x43, 0x83, 0x8B, 0xCB, 0xF5)  # versions, first byte


def is_like(head: bytes) -> bool:
    """Whether a file begins with the mark of a version, and a month and a day."""
    return len(head) >= 4 and head[0] in _MARKS and head[2] <= 12 and head[3] <= 31


def layer_names(path: Path) -> list[str]:
    return [path.stem]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the table; the file is read for it."""
    return [info_of(layer) for layer in read(path, path.stem).layers]


def read(path: Path, name: str) -> Reading:
    """Read the table without the records that are marked as deleted; that is said."""
    notes: list[str] = []
    try:
        data = path.read_bytes()
        beside = path.with_suffix(".cpg")
        said = codepages.of_file(beside if beside.exists() else None)
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    try:
        found = dbase.read(data, path.name, said, notes)
    except FileError as err:
        raise FileError(f"{path}: {err}; {ADVICE}") from err
    table = found.columns
    if found.is_deleted.any():
        n = counted(int(found.is_deleted.sum()), "record")
        notes.append(Warned(f"{path.name}: {n} marked as deleted left out"))
        table = pc.take(table, pc.column(np.flatnonzero(~found.is_deleted)))
    return named(table_of(path, table, "it is a table of dBASE alone", notes), path, name)


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Refuse.

    Raises
    ------
    FileError
        Always.
    """
    raise FileError(f"{path}: tables of dBASE are only read; write .csv or .xlsx instead")
