"""Proof of what is written: each new file is read again before it takes its place, and compared."""

from __future__ import annotations

import contextlib
import functools
import re
import shutil
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import cast

from polygene.commit.leftovers import passing_folder
from polygene.commit.together import new_files
from polygene.errors import DataError, FileError, PolygeneError
from polygene.formats.base import (
    Known,
    PartReader,
    PieceReader,
    ProofReader,
    Reading,
    Written,
)
from polygene.formats.codepages import texts_written_in
from polygene.formats.differences import FaultError, changes_read, check_count
from polygene.formats.packed import PIPE
from polygene.formats.pieces import Pieces
from polygene.formats.registry import format_of, readable_format
from polygene.formats.sheets import tables_laid_out
from polygene.formats.wanted import Wanted
from polygene.formats.wishes import wish
from polygene.layer import Layer
from polygene.notes import Changed, counted, worded_anew


class ChangedError(DataError):
    """A format cannot hold a layer as it is, and that was not wanted."""


def notes_of(path: Path, written: Written) -> list[str]:
    """Return what there is to say about a file that is written but not yet in its place.

    Raises
    ------
    FileError
        If what is read from it is not what was meant.
    ChangedError
        If the format changed something and that is to be refused.
    """
    return _checked(path, written, lambda: _read_again(path, written))


def notes_of_pieces(path: Path, layers: Sequence[Pieces], written: Written) -> list[str]:
    """Do what `notes_of` does for layers that were written piece by piece.

    Raises
    ------
    FileError, ChangedError
        As of `notes_of`.
    """
    return _checked(path, written, lambda: _read_pieces_again(path, layers, written))


def _checked(path: Path, written: Written, read_again: Callable[[], list[str]]) -> list[str]:
    wanted, notes = wish(), list(written.notes)
    if wanted.is_proved and str(path) != PIPE:
        try:
            notes += read_again()
        except (FaultError, PolygeneError) as err:
            raise FileError(
                f"{path} is not written: read again, it does not hold what was meant ({err}). If there "
                "is room on the disk, this is a fault of polygene; please report it. `no_proof` writes "
                "without looking"
            ) from err
    changed = [note for note in notes if isinstance(note, Changed)]
    if changed and wanted.if_changed == "refuse":
        raise ChangedError(
            f"{path} is not written, since {format_of(path).NAME} cannot hold all as it is: "
            + "; ".join(changed)
        )
    return notes


def _read_again(path: Path, written: Written) -> list[str]:
    notes: list[str] = []
    # What was said of the files that are read is not true of this one.
    with texts_written_in(""), _under_own_names(path) as place:
        for layer in written.meant:
            name = layer.name if format_of(path).HOLDS_MANY else place.stem
            with tables_laid_out(is_plain=layer.is_table):
                found = _read(place, name, layer, written).layers
            notes += changes_read(layer, found, written.way)
    return notes


def _read_pieces_again(path: Path, layers: Sequence[Pieces], written: Written) -> list[str]:
    notes: list[str] = []
    with texts_written_in(""), tables_laid_out(), _under_own_names(path) as place:
        for layer in layers:
            notes += _said_once(_of_pieces(path, place, layer, written), layer.like.name)
    return notes


def _of_pieces(path: Path, place: Path, layer: Pieces, written: Written) -> list[str]:
    name = layer.like.name if format_of(path).HOLDS_MANY else place.stem
    sums = written.sums_of_pieces.get(layer.like.name)
    reader = readable_format(place)
    notes: list[str] = []
    n_rows = 0
    for k, piece in enumerate(layer.each()):
        wanted = Wanted(span=(n_rows, n_rows + piece.n_rows))
        if sums is None:
            found = cast(PartReader, reader).read(place, name, wanted).layers
        else:
            known = Known(piece.geometry, sums[k])
            found = cast(PieceReader, reader).read(place, name, wanted, known=known).layers
        notes += changes_read(piece, found, written.way)
        n_rows += piece.n_rows
    listed = next(info for info in reader.list_layers(place) if info.name == name)
    check_count(listed.n_rows, n_rows)
    return notes


def _said_once(notes: Sequence[str], name: str) -> list[str]:
    """Return what was said of pieces as said of the layer: notes that differ in numbers only, once."""
    by_words: dict[str, list[str]] = {}
    for note in notes:
        by_words.setdefault(re.sub(r"[\d,]+", "#", note.removeprefix(name)), []).append(note)
    said = []
    for first, *more in by_words.values():
        so = f"; likewise in {counted(len(more), 'further piece')} of it" if more else ""
        said.append(worded_anew(first, functools.partial(_ended, so)))
    return said


def _ended(end: str, text: str) -> str:
    return text + end


def _read(place: Path, name: str, layer: Layer, written: Written) -> Reading:
    """Read a layer; geometry whose bytes are those that were written need not be decoded for it."""
    if layer.name not in written.sums:
        return readable_format(place).read(place, name)
    reader = cast(ProofReader, readable_format(place))
    return reader.read(place, name, known=Known(layer.geometry, written.sums[layer.name]))


@contextlib.contextmanager
def _under_own_names(path: Path) -> Iterator[Path]:
    """Give a place where a new file is found under the name that it will have, with all its parts."""
    with contextlib.ExitStack() as held:
        try:
            folder = held.enter_context(passing_folder())
        except OSError:  # no temporary folder can be written: beside the file one can
            beside = tempfile.TemporaryDirectory(prefix=".polygene.", dir=path.parent)
            folder = Path(held.enter_context(beside)).resolve()
        for shown, new in new_files(path):
            place = folder / shown.name
            try:
                place.symlink_to(new)
            except OSError:  # a system that has no links for all
                shutil.copyfile(new, place)
        yield folder / path.name
