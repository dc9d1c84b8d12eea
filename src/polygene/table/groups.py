"""Groups of rows: who belongs together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import (
    NONE,
    I64Array,
    Numbering,
    U8Array,
    number_codes,
    number_pairs,
    number_texts,
    offsets_from,
)
from polygene.classes import NamedTuple
from polygene.layer import row_numbers
from polygene.table.rising import rising
from polygene.table.types import is_whole

FEW = 16  # rows for each that is wanted, from which chunks are looked at one by one
WIDE = 4  # times as many as there are rows: whole numbers that far apart are no codes themselves


class Groups(NamedTuple):
    """``group`` (n_rows,) of each row, numbered by first appearance; ``firsts`` a row of each."""

    group: I64Array
    firsts: I64Array

    @property
    def n_groups(self) -> int:
        return len(self.firsts)


def codes_of(column: pa.ChunkedArray) -> I64Array:
    """Return a number for each value, equal for equal ones, 0 for null."""
    if not len(column):
        return np.zeros(0, np.int64)
    if pa.types.is_dictionary(column.type):
        column = pc.cast(column, column.type.value_type)
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        return _codes_of_texts(column)
    numbers = rising(column)
    if numbers is not None:
        return _codes_of_numbers(numbers, column)
    coded = pc.dictionary_encode(column).combine_chunks()
    if isinstance(coded, pa.ChunkedArray):
        coded = (
            coded.chunk(0) if coded.num_chunks else pc.dictionary_encode(pa.array([], pa.int32()))
        )
    indices = pc.cast(coded.indices, pa.int64())
    return np.array(pc.add(pc.fill_null(indices, -1), 1), dtype=np.int64)


def _codes_of_numbers(numbers: I64Array, column: pa.ChunkedArray) -> I64Array:
    """Return the same of values that have numbers: how far above the least, if these are near it."""
    least, most = int(numbers.min()), int(numbers.max())
    if most - least <= WIDE * len(numbers):
        codes = numbers - least
    else:
        codes = number_pairs((numbers >> 32) + 2**31, numbers & (2**32 - 1)).numbers
    codes += 1
    if column.null_count:
        codes[np.asarray(pc.is_null(column))] = 0
    return codes


def _codes_of_texts(column: pa.ChunkedArray) -> I64Array:
    """Return the same of texts, by a hash table of our own: in half the time."""
    numbers = _number_texts(pc.drop_null(column) if column.null_count else column).numbers
    if not column.null_count:
        numbers += 1
        return numbers
    codes = np.zeros(len(column), np.int64)
    codes[np.asarray(pc.is_valid(column))] = numbers + 1
    return codes


def bytes_of(texts: pa.Array) -> tuple[U8Array, I64Array]:
    """Return the bytes that hold some texts, and where in them each begins and the last ends."""
    texts = pc.cast(texts, pa.large_string())
    _, ends, data = texts.buffers()
    if not len(texts):
        return np.zeros(0, np.uint8), np.zeros(1, np.int64)
    offsets = np.frombuffer(ends, np.int64)[texts.offset : texts.offset + len(texts) + 1]
    return np.frombuffer(data, np.uint8) if data is not None else np.zeros(0, np.uint8), offsets


def _number_texts(column: pa.ChunkedArray) -> Numbering:
    """Number the distinct texts of a column without nulls, in order of first appearance."""
    pieces = [bytes_of(chunk) for chunk in column.chunks if len(chunk)]
    return number_texts(pieces or [(np.zeros(0, np.uint8), np.zeros(1, np.int64))])


def numbering_of(column: pa.ChunkedArray) -> Numbering:
    """Number the distinct values of a column, null too, in order of first appearance."""
    kind = column.type
    if not column.null_count and (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
        return _number_texts(column)
    codes = codes_of(column)
    return number_codes(codes, int(codes.max(initial=0)) + 1)


def group_rows(
    table: pa.Table, by: Sequence[str], n_rows: int, nulls_apart: bool = False
) -> Groups:
    """Group rows that agree in some fields. No field, one group.

    Nulls agree with each other, or with ``nulls_apart`` with nothing: such a row is its own group.
    """
    found: Numbering | None = None
    has_null = np.zeros(n_rows, bool)
    for name in by:
        column = table.column(name)
        if nulls_apart and column.null_count:
            has_null |= np.asarray(pc.is_null(column))
        found = (
            numbering_of(column) if found is None else number_pairs(found.numbers, codes_of(column))
        )
    if found is None:
        return Groups(np.zeros(n_rows, np.int64), np.zeros(min(n_rows, 1), np.int64))
    if has_null.any():
        found = number_pairs(found.numbers, np.where(has_null, 1 + np.arange(n_rows), 0))
    return Groups(*found)


def some_rows(column: pa.ChunkedArray, rows: I64Array) -> pa.ChunkedArray:
    """Return some rows of a column, null for NONE: chunk by chunk, where few are wanted of many."""
    is_coded = pa.types.is_dictionary(column.type)  # each chunk has texts of its own
    if column.num_chunks < 2 or is_coded or len(rows) * FEW > len(column):
        return pc.take(column, row_numbers(rows))
    ends = np.cumsum([len(chunk) for chunk in column.chunks])
    there = np.flatnonzero(rows != NONE)
    of_chunk = np.searchsorted(ends, rows[there], side="right")
    order = np.argsort(of_chunk, kind="stable")
    counts = offsets_from(np.bincount(of_chunk, minlength=len(ends)))
    found = [pa.nulls(1, column.type)]
    for k in np.flatnonzero(np.diff(counts)).tolist():
        own = rows[there[order[counts[k] : counts[k + 1]]]] - (ends[k] - len(column.chunk(k)))
        found.append(pc.take(column.chunk(k), pc.column(own)))
    place = np.zeros(len(rows), np.int64)  # the first is null
    place[there[order]] = 1 + np.arange(len(there))
    return pa.chunked_array([pc.take(pa.concat_arrays(found), pc.column(place))], column.type)


def texts_of(column: pa.ChunkedArray) -> list[str | None]:
    """Return values as they are in names of files and layers; null as None."""
    if pa.types.is_dictionary(column.type):
        column = pc.cast(column, column.type.value_type)
    if is_whole(column.type) or pa.types.is_string(column.type):
        return pc.cast(column, pa.string()).to_pylist()
    return [None if value is None else str(value) for value in column.to_pylist()]
