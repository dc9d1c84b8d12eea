"""What the rows of a group agree on."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, I64Array, looked_up
from polygene.classes import NamedTuple
from polygene.table.groups import Groups, codes_of, some_rows
from polygene.table.rising import rising


class Agreed(NamedTuple):
    """A table of one row a group, and in how many groups each field disagreed."""

    table: pa.Table
    disagreements: dict[str, int]


def agreed(table: pa.Table, groups: Groups, by: Sequence[str]) -> Agreed:
    """Keep a value where all rows of a group have it, else null; null is a value like others."""
    arrays, disagreements = [], {}
    for name in table.column_names:
        column = some_rows(table.column(name), groups.firsts)
        if name not in by and groups.n_groups:
            differs = disagreeing(table.column(name), groups.group, groups.firsts)
            if differs.any():
                disagreements[name] = int(differs.sum())
                none = pa.scalar(None, column.type)
                column = pc.if_else(pc.column(differs), none, column)
        arrays.append(column)
    return Agreed(pa.table(arrays, table.schema) if arrays else table, disagreements)


def disagreeing(
    column: pa.ChunkedArray, group: I64Array, firsts: I64Array, row: I64Array | None = None
) -> BoolArray:
    """Return in which groups (n_groups,) some row has another value than its first; null is a value.

    Parameters
    ----------
    group : (n,) of each entry
    firsts : (n_groups,) a row of each group, any where it has no entry
    row : (n,) of each entry; all rows as they stand if not given
    """
    found = np.zeros(len(firsts), bool)
    if not len(group):
        return found
    numbers = rising(column)
    if numbers is None:
        numbers = codes_of(column)
    elif column.null_count:  # null has the number of another value
        found |= _disagreeing(np.asarray(pc.is_null(column)).astype(np.int64), group, firsts, row)
    return found | _disagreeing(numbers, group, firsts, row)


def _disagreeing(
    numbers: I64Array, group: I64Array, firsts: I64Array, row: I64Array | None
) -> BoolArray:
    found = np.zeros(len(firsts), bool)
    wanted = looked_up(numbers[firsts], group)
    found[group[(numbers if row is None else numbers[row]) != wanted]] = True
    return found
