"""Partners by key: rows of two layers that agree in fields or expressions, and the account of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, BoolArray, I64Array, bucket, count_by, spans
from polygene.classes import dataclass
from polygene.errors import DataError
from polygene.layer import Layer
from polygene.notes import counted
from polygene.ops.places.partners import Partners
from polygene.table.keys import Coded, Key, coded, labels
from polygene.table.sums import exact_sum
from polygene.table.types import kind_of

MOST_PAIRS = 2**28  # a feature for each is more than anybody means
_NAMED = 5  # keys that an account names


@dataclass(frozen=True)
class NamedKeys:
    """How many rows something is true of, how many keys those have, and the first of these."""

    rows: int = 0
    keys: int = 0
    first: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Carried:
    """What became of the sum of a number of OTHER.

    total : over all its rows; placed : over those that have a partner; share : of the total, if that is
        not 0
    after : over what came out, where a row of OTHER that has several partners counts for each
    """

    total: float
    placed: float
    share: float | None
    after: float


@dataclass(frozen=True)
class KeyJoinSummary:
    """Who has whose key.

    key : as it was asked for; folded : whether case, accents, blanks and padding made no difference
    geometry, other_geometry : what INPUT and OTHER hold, ``none`` if it is a table
    pairs : of rows; matched : rows of INPUT with a partner; used : rows of OTHER with one
    without_key : rows of INPUT whose key is null; other_without_key : the same of OTHER
    alone, other_alone : rows with a key that the other side has not
    twice, other_twice : rows whose key comes several times on their side, and on the other at all
    would_fold : rows of INPUT that have a partner only if folded, where that was not asked for
    carried : sums of the numbers that were carried across, by field
    """

    input: str
    geometry: str
    input_total: int
    input_taken: int
    other: str
    other_geometry: str
    other_total: int
    other_taken: int
    key: list[str]
    folded: bool
    pairs: int
    matched: int
    used: int
    without_key: int
    other_without_key: int
    alone: NamedKeys
    other_alone: NamedKeys
    twice: NamedKeys
    other_twice: NamedKeys
    would_fold: int
    out: int
    taken: list[str]
    carried: dict[str, Carried]
    disagreements: dict[str, int]
    crs: str
    notes: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Matched:
    """Two layers with their keys numbered.

    counts, other_counts : (codes.n,) rows of each side that have the key
    """

    layer: Layer
    other: Layer
    keys: Sequence[Key]
    codes: Coded
    folds: bool
    counts: I64Array
    other_counts: I64Array

    @property
    def partners_of(self) -> I64Array:
        """(rows of INPUT,) how many partners each has."""
        return _at(self.other_counts, self.codes.mine)

    @property
    def times(self) -> I64Array:
        """(rows of OTHER,) how many partners each has."""
        return _at(self.counts, self.codes.theirs)

    def refuse_several(self) -> None:
        """Refuse that a row of INPUT has several partners, for then which is meant is not known.

        Raises
        ------
        DataError
        """
        is_many = (self.other_counts > 1) & (self.counts > 0)
        if not is_many.any():
            return
        rows = np.flatnonzero(_at(is_many, self.codes.theirs))
        first = labels(self.other, self.keys, rows[:_NAMED], is_mine=False)[0]
        n = int(self.other_counts[self.codes.theirs[rows[0]]])
        thing = "row" if self.layer.is_table else "feature"
        raise DataError(
            f"{counted(int(is_many.sum()), 'key')} with several rows in {self.other.name}, first "
            f"{first} ({n:,} rows), so {thing}s of {self.layer.name} would be multiplied; `aggregate` "
            f"sums the rows up, `best` takes one of them, `pairs` gives a {thing} for each"
        )

    def pairs(self) -> Partners:
        """Return all pairs, in the order of INPUT and then of OTHER.

        Raises
        ------
        DataError
            If there are more than 2^28.
        """
        n = int((self.counts * self.other_counts).sum())
        if n > MOST_PAIRS:
            raise DataError(
                f"{self.layer.name} and {self.other.name} have {n:,} pairs of one key, more than a "
                "result can be; `aggregate` sums the partners of each feature up"
            )
        counts = self.partners_of
        first = np.repeat(np.arange(len(counts)), counts)
        has = np.flatnonzero(self.codes.theirs != NONE)
        if self.other_counts.max(initial=0) <= 1:
            row_of = np.full(self.codes.n, NONE)
            row_of[self.codes.theirs[has]] = has
            return Partners(first, row_of[self.codes.mine[first]])
        groups = bucket(self.codes.theirs[has], self.codes.n)
        with_some = np.flatnonzero(counts)
        starts = groups.offsets[self.codes.mine[with_some]]
        return Partners(first, has[groups.order[spans(starts, counts[with_some])]])


def matched(layer: Layer, other: Layer, keys: Sequence[Key], folds: bool) -> Matched:
    """Number the keys of two layers and count who has them.

    Raises
    ------
    ExpressionError
        If a field is unknown, or two sides cannot be compared.
    """
    codes = coded(layer, other, keys, folds)
    sides = [count_by(c[c != NONE], codes.n) for c in (codes.mine, codes.theirs)]
    return Matched(layer, other, keys, codes, folds, *sides)


def account(
    found: Matched, times: I64Array, fields: Sequence[str], result: Layer, **more: object
) -> KeyJoinSummary:
    """Return the account of a join that is done.

    Parameters
    ----------
    times : (rows of OTHER,) how often each went into the result
    fields : those of OTHER that the result has to do with
    """
    layer, other, codes = found.layer, found.other, found.codes
    n_partners, is_used = found.partners_of, found.times > 0
    has, other_has = codes.mine != NONE, codes.theirs != NONE
    both = (found.counts > 0) & (found.other_counts > 0)
    told: dict[str, object] = {
        "input": layer.name, "geometry": layer.kind,
        "input_total": layer.n_total, "input_taken": layer.n_rows,
        "other": other.name, "other_geometry": other.kind,
        "other_total": other.n_total, "other_taken": other.n_rows,
        "key": [key.text for key in found.keys], "folded": found.folds,
        "pairs": int(n_partners.sum()),
        "matched": int((n_partners > 0).sum()), "used": int((times > 0).sum()),
        "without_key": int((~has).sum()), "other_without_key": int((~other_has).sum()),
        "alone": _named(found, has & (n_partners == 0), True),
        "other_alone": _named(found, other_has & ~is_used, False),
        "twice": _named(found, _at(both & (found.counts > 1), codes.mine), True),
        "other_twice": _named(found, _at(both & (found.other_counts > 1), codes.theirs), False),
        "would_fold": _would_fold(found, has & (n_partners == 0)),
        "out": result.n_rows,
        "carried": {
            name: _carried(other.table.column(name), times)
            for name in fields
            if _is_number(other, name)
        },
    }  # fmt: skip
    return KeyJoinSummary(**told, **more)  # type: ignore[arg-type]


def _at(values: np.ndarray, codes: I64Array) -> np.ndarray:
    """Return the value of each code; 0 where there is none."""
    if not len(values):
        return np.zeros(len(codes), values.dtype)
    return np.where(codes == NONE, values.dtype.type(0), values[codes])


def _named(found: Matched, rows: BoolArray, is_mine: bool) -> NamedKeys:
    chosen = np.flatnonzero(rows)
    if not len(chosen):
        return NamedKeys()
    codes = (found.codes.mine if is_mine else found.codes.theirs)[chosen]
    _, firsts = np.unique(codes, return_index=True)
    first = chosen[np.sort(firsts)[:_NAMED]]
    layer = found.layer if is_mine else found.other
    return NamedKeys(len(chosen), len(firsts), labels(layer, found.keys, first, is_mine))


def _would_fold(found: Matched, alone: BoolArray) -> int:
    """Return how many rows that are alone would have a partner if their keys were folded."""
    rows = np.flatnonzero(alone)
    if found.folds or not len(rows):
        return 0
    folded = coded(found.layer.take(rows), found.other, found.keys, folds=True)
    there = count_by(folded.theirs[folded.theirs != NONE], folded.n)
    return int((_at(there, folded.mine) > 0).sum())


def _is_number(layer: Layer, name: str) -> bool:
    return kind_of(layer.table.schema.field(name).type) == "number"


def _carried(column: pa.ChunkedArray, times: I64Array) -> Carried:
    """Return what became of the sum of a field of which each value was taken so often."""
    total = exact_sum(column)
    is_placed = times > 0
    placed = total if is_placed.all() else exact_sum(pc.filter(column, pc.column(is_placed)))
    is_once = int(times.max(initial=0)) <= 1
    after = (
        placed
        if is_once
        else exact_sum(pc.multiply(pc.cast(column, pa.float64(), safe=False), times))
    )
    return Carried(total, placed, placed / total if total else None, after)
