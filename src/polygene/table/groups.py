"""Groups of rows: who belongs together, and what their values agree on."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.arrays import I64Array, bucket, number_pairs, number_texts
from polygene.layer import row_numbers
from polygene.table.types import is_whole


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
        column = column.cast(column.type.value_type)
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        return _codes_of_texts(column)
    coded = pc.dictionary_encode(column).combine_chunks()
    if isinstance(coded, pa.ChunkedArray):
        coded = coded.chunk(0) if coded.num_chunks else pa.array([], pa.int32()).dictionary_encode()
    indices = coded.indices.cast(pa.int64())
    return np.array(pc.add(pc.fill_null(indices, -1), 1), dtype=np.int64)


def _codes_of_texts(column: pa.ChunkedArray) -> I64Array:
    """Return the same of texts, by a hash table of our own: in half the time."""
    has = np.asarray(column.is_valid())
    texts = (column.drop_null() if column.null_count else column).cast(pa.large_string())
    array = pa.concat_arrays(texts.chunks) if texts.num_chunks else pa.array([], texts.type)
    _, ends, data = array.buffers()
    offsets = np.frombuffer(ends, np.int64)[array.offset : array.offset + len(array) + 1]
    if not len(array):
        return np.zeros(len(has), np.int64)
    held = np.frombuffer(data, np.uint8) if data is not None else np.zeros(0, np.uint8)
    numbers = number_texts(held, offsets).numbers + 1
    if len(numbers) == len(has):
        return numbers
    codes = np.zeros(len(has), np.int64)
    codes[has] = numbers
    return codes


def group_rows(
    table: pa.Table, by: Sequence[str], n_rows: int, nulls_apart: bool = False
) -> Groups:
    """Group rows that agree in some fields. No field, one group.

    Nulls agree with each other, or with ``nulls_apart`` with nothing: such a row is its own group.
    """
    key = np.zeros(n_rows, np.int64)
    firsts = np.zeros(min(n_rows, 1), np.int64)
    has_null = np.zeros(n_rows, bool)
    for name in by:
        codes = codes_of(table.column(name))
        has_null |= codes == 0
        numbering = number_pairs(key, codes)
        key, firsts = numbering.numbers, numbering.firsts
    if nulls_apart and has_null.any():
        numbering = number_pairs(key, np.where(has_null, 1 + np.arange(n_rows), 0))
        key, firsts = numbering.numbers, numbering.firsts
    return Groups(key, firsts)


def texts_of(column: pa.ChunkedArray) -> list[str | None]:
    """Return values as they are in names of files and layers; null as None."""
    if pa.types.is_dictionary(column.type):
        column = column.cast(column.type.value_type)
    if is_whole(column.type) or pa.types.is_string(column.type):
        return pc.cast(column, pa.string()).to_pylist()
    return [None if value is None else str(value) for value in column.to_pylist()]


class Agreed(NamedTuple):
    """A table of one row a group, and in how many groups each field disagreed."""

    table: pa.Table
    disagreements: dict[str, int]


def agreed(table: pa.Table, groups: Groups, by: Sequence[str]) -> Agreed:
    """Keep a value where all rows of a group have it, else null; null is a value like others."""
    order = bucket(groups.group, groups.n_groups)
    starts = order.offsets[:-1]
    arrays, disagreements = [], {}
    for name in table.column_names:
        column = table.column(name).take(row_numbers(groups.firsts))
        if name not in by and groups.n_groups:
            codes = codes_of(table.column(name))[order.order]
            differs = np.minimum.reduceat(codes, starts) != np.maximum.reduceat(codes, starts)
            if differs.any():
                disagreements[name] = int(differs.sum())
                none = pa.scalar(None, column.type)
                column = pc.if_else(pa.array(differs), none, column)
        arrays.append(column)
    return Agreed(pa.table(arrays, table.schema) if arrays else table, disagreements)
