"""Texts of coordinates to arrays: parted and made numbers of by Arrow, all of a document at once."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import F64Array, I64Array, offsets_from, owners
from polygene.classes import NamedTuple

NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"


class Positions(NamedTuple):
    """The positions in some texts.

    counts : (n_texts,) how many each holds
    xy : (n, 2)
    z : (n,) or None; NaN where a position has none
    """

    counts: I64Array
    xy: F64Array
    z: F64Array | None


class PositionError(ValueError):
    """The text of that number holds something that is no position."""

    def __init__(self, text: int, reason: str) -> None:
        super().__init__(reason)
        self.text = text
        self.reason = reason


def words_of(texts: Sequence[str | None]) -> tuple[pa.Array, I64Array]:
    """Return what stands between white space in some texts, and how much in each."""
    given = pc.ascii_trim_whitespace(pc.fill_null(pa.array(texts, pa.large_string()), ""))
    lists = pc.ascii_split_whitespace(given)
    counts = np.where(np.asarray(pc.equal(given, "")), 0, np.asarray(pc.list_value_length(lists)))
    words = lists.flatten()
    return pc.filter(words, pc.not_equal(words, "")), counts.astype(np.int64)


def of_tuples(texts: Sequence[str | None]) -> Positions:
    """Return positions that are parted by white space, and their numbers by commas.

    Raises
    ------
    PositionError
        If one has not two or three numbers.
    """
    words, counts = words_of(texts)
    lists = pc.split_pattern(words, ",")
    sizes = np.asarray(pc.list_value_length(lists)).astype(np.int64)
    text_of = owners(offsets_from(counts))
    odd = np.flatnonzero((sizes < 2) | (sizes > 3))
    if len(odd):
        raise PositionError(
            int(text_of[odd[0]]), f"{words[int(odd[0])].as_py()[:40]!r} is no x,y or x,y,z"
        )
    flat = numbers(lists.flatten(), text_of[owners(offsets_from(sizes))])
    return _laid(flat, sizes, counts)


def of_lists(texts: Sequence[str | None], dimensions: I64Array) -> Positions:
    """Return positions of which every two or three numbers make one, as said for each text.

    Raises
    ------
    PositionError
        If a text has not a whole number of positions.
    """
    words, n_numbers = words_of(texts)
    odd = np.flatnonzero((n_numbers % dimensions != 0) | (dimensions < 2) | (dimensions > 3))
    if len(odd):
        own = int(odd[0])
        raise PositionError(own, f"{n_numbers[own]} numbers make no positions of {dimensions[own]}")
    flat = numbers(words, owners(offsets_from(n_numbers)))
    counts = n_numbers // dimensions
    return _laid(flat, np.repeat(dimensions, counts), counts)


def _laid(flat: F64Array, sizes: I64Array, counts: I64Array) -> Positions:
    """Return numbers as positions of two or three each."""
    starts = offsets_from(sizes)[:-1]
    xy = np.stack([flat[starts], flat[starts + 1]], axis=1)
    if not (sizes == 3).any():
        return Positions(counts, xy, None)
    z = np.full(len(sizes), np.nan)
    z[sizes == 3] = flat[starts[sizes == 3] + 2]
    return Positions(counts, xy, z)


def numbers(words: pa.Array, text_of: I64Array) -> F64Array:
    """Return words as finite numbers.

    Raises
    ------
    PositionError
        If one is none, with the number of its text.
    """
    try:
        found = np.asarray(pc.cast(words, pa.float64()))
    except pa.ArrowInvalid:  # a plus in front is allowed in XML, not in Arrow; or it is no number
        _check(words, text_of)
        found = np.asarray(pc.cast(pc.utf8_ltrim(words, "+"), pa.float64()))
    if not np.isfinite(found).all():
        own = int(np.flatnonzero(~np.isfinite(found))[0])
        raise PositionError(int(text_of[own]), f"{words[own].as_py()!r} is no finite number")
    return found


def _check(words: pa.Array, text_of: I64Array) -> None:
    is_number = np.asarray(pc.match_substring_regex(words, NUMBER))
    for own in np.flatnonzero(~is_number)[:1]:
        raise PositionError(int(text_of[own]), f"{words[int(own)].as_py()[:40]!r} is no number")
