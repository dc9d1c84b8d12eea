"""The rows that a statement of SQLite gives, as arrays."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Generator, Iterator, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels, parallel
from polygene.arrays import I64Array, offsets_from
from polygene.classes import NamedTuple
from polygene.formats.geopackage.library import (
    BLOB,
    DONE,
    READING,
    TEXT,
    WHOLE,
    NotSoError,
    connected,
    library,
    prepared,
    run,
)
from polygene.formats.geopackage.package import Package
from polygene.formats.geopackage.putting import put_rows

_FULL, _NO_ROOM = 0, -1
WORTH_IT = 1 << 20  # bytes of a file
MOST_COLUMNS = 100  # of which there is room for a whole piece
_ROOM = 1 << 16  # bytes for a column of texts or blobs to begin with
_ENOUGH = 1 << 26  # bytes of one, after which a piece ends early where it may
_MOST = 1 << 31  # bytes; what is longer has no place in one array of texts


def is_worth_it(connection: Package, n_columns: int) -> bool:
    """Whether rows can be had in this way, and it is worth that the file is opened once more."""
    is_large = connection.size() >= WORTH_IT and n_columns <= MOST_COLUMNS
    return is_large and library() is not None


class First(NamedTuple):
    """A table of a connection's own: the statement that makes it, its quoted name, and its columns."""

    made_by: str
    target: str
    columns: Sequence[pa.Array]


def pieces(
    connection: Package,
    path: Path,
    statement: str,
    kinds: Sequence[int],
    n_rows: int,
    first: First | None = None,
    may_end_early: bool = True,
) -> Generator[list[pa.Array], None, None]:
    """Yield the columns of a statement, some rows at a time; while some are used the next ones come.

    Parameters
    ----------
    connection, path : within a transaction, of a file; a second one sees the file as it does
    kinds : storage class of each column: int64, float64, string or large_binary come of it. Bytes of
        the first column are lent, until the next piece.
    n_rows : of a piece; fewer where they take many bytes and it ``may_end_early``
    first : a table that the statement looks into

    Raises
    ------
    NotSoError
        If a value is of another class, or SQLite complains.
    """
    connection.execute("SELECT count(*) FROM sqlite_master").fetchone()  # nobody writes from now on
    with contextlib.ExitStack() as stack:
        before = ["PRAGMA temp_store = MEMORY"]
        other = stack.enter_context(connected(connection.uri, READING, before))
        if first is not None:
            run(other, f"BEGIN; {first.made_by}")
            put_rows(other, first.target, first.columns)
        own = stack.enter_context(prepared(other, statement, len(kinds)))
        if not connection.is_of(path):  # another file has taken its place: the other one has that
            raise NotSoError
        rooms = [_Room(kinds, n_rows, _ENOUGH if may_end_early else _MOST) for _ in range(2)]
        yield from parallel.one_ahead(_taken(own, rooms))


def _taken(own: int, rooms: Sequence[_Room]) -> Iterator[list[pa.Array]]:
    state = np.zeros(4, np.int64)
    for room in itertools.cycle(rooms):
        has_more = room.take(own, state)
        if room.n_rows:
            yield room.columns()
        if not has_more:
            return


class _Room:
    """The arrays that rows are put into, until those of a column have ``enough`` bytes."""

    def __init__(self, kinds: Sequence[int], n_rows: int, enough: int) -> None:
        n, self._enough = len(kinds), enough
        self.n_rows, self._kinds = 0, np.array(kinds, np.int32)
        self._wholes, self._reals = np.empty((n, n_rows), np.int64), np.empty((n, n_rows))
        self._is_null = np.empty((n, n_rows), np.uint8)
        self._bytes = [np.empty(_ROOM if kind >= TEXT else 0, np.uint8) for kind in kinds]

    def take(self, own: int, state: I64Array) -> bool:
        """Take the next rows of a statement; return whether there may be more.

        ``state`` is the kernel's: a statement may stand on a row that has found no room.
        """
        found = library()
        assert found is not None
        filled, state[0] = np.zeros(len(self._kinds), np.int64), 0
        while True:
            self.n_rows = kernels.run(
                kernels.steps.take_rows,
                found.taking,
                own,
                self._kinds,
                self._wholes,
                self._reals,
                self._is_null,
                np.array([room.ctypes.data for room in self._bytes], np.int64),
                np.array([len(room) for room in self._bytes], np.int64),
                filled,
                state,
            )
            ended, column = state[2:].tolist()
            if ended != _NO_ROOM:
                break
            old = self._bytes[column]
            if self.n_rows and len(old) >= self._enough:
                return True
            if 2 * len(old) > _MOST:
                raise NotSoError
            self._bytes[column] = np.empty(2 * len(old), np.uint8)
            self._bytes[column][: filled[column]] = old[: filled[column]]
        if ended not in (_FULL, DONE):
            raise NotSoError
        return ended == _FULL

    def columns(self) -> list[pa.Array]:
        return [self._column(k) for k in range(len(self._kinds))]

    def _column(self, k: int) -> pa.Array:
        n, kind = self.n_rows, self._kinds[k]
        is_null = self._is_null[k, :n].astype(bool)
        if kind < TEXT:
            values = (self._wholes if kind == WHOLE else self._reals)[k, :n].copy()
            return pc.with_nulls(values, is_null)
        offsets = offsets_from(self._wholes[k, :n])
        data = self._bytes[k][: offsets[-1]]
        if k > 0:
            data = data.copy()
        if kind == BLOB:
            return pc.of_bytes(pa.large_binary(), offsets, data, is_null)
        texts = pc.of_bytes(pa.string(), offsets, data, is_null)
        try:
            texts.validate(full=True)
        except pa.ArrowInvalid as err:  # letters that are no UTF-8
            raise NotSoError from err
        return texts
