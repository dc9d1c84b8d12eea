"""Numbers as they are written in texts: whole ones are read as they are, of up to 64 bits."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.classes import NamedTuple

_PLAIN = r"^-?[0-9]{1,15}$"
_WHOLE = r"^[-+]?[0-9]+(\.0*)?$"
_NUMBER = r"^[-+]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][-+]?[0-9]+)?$"
_LONGEST = 15  # digits of whole numbers that are real ones, whatever they are
_ROOM = 38  # digits that Arrow's decimals have


class Written(NamedTuple):
    """What texts say.

    whole : int64, null where a text is no whole number of 64 bits
    real : float64, the nearest one, null where a text is no number or larger than any
    is_between : (n,) whole numbers that no real number of 64 bits is
    """

    whole: Any
    real: Any
    is_between: BoolArray


def numbers_in(texts: Any) -> Written:
    """Read numbers in texts, with blanks at their ends or without."""
    text, nothing = pc.utf8_trim_whitespace(texts), pa.scalar(None, pa.string())
    none = np.zeros(len(texts), bool)
    is_plain = pc.match_substring_regex(text, _PLAIN)
    if pc.all(is_plain).as_py():  # as most are; of nulls alone this is null
        whole = pc.cast(text, pa.int64())
        return Written(whole, pc.cast(whole, pa.float64()), none)
    is_number = pc.or_(is_plain, pc.match_substring_regex(text, _NUMBER))
    # Without a plus, which Arrow does not read.
    text = pc.utf8_ltrim(pc.if_else(is_number, text, nothing), "+")
    real = pc.cast(text, pa.float64())
    real = pc.if_else(pc.is_finite(real), real, pa.scalar(None, pa.float64()))  # 1e400
    digits = pc.if_else(pc.match_substring_regex(text, _WHOLE), text, nothing)
    if pc.any(pc.match_substring(digits, ".")).as_py():
        digits = pc.replace_substring_regex(digits, r"\.0*$", "")
    if int(pc.max(pc.utf8_length(digits)).as_py() or 0) <= _LONGEST:
        return Written(pc.cast(digits, pa.int64()), real, none)
    digits = pc.replace_substring_regex(digits, "^(-?)0+([0-9])", r"\1\2")
    length = pc.utf8_length(pc.utf8_ltrim(digits, "-"))
    most = pc.if_else(pc.starts_with(digits, "-"), f"-{2**63}", str(2**63 - 1))
    # Of as many digits texts are in the order of their numbers.
    fits = pc.or_(pc.less(length, 19), pc.and_(pc.equal(length, 19), pc.less_equal(digits, most)))
    whole = pc.cast(pc.if_else(fits, digits, nothing), pa.int64())
    return Written(whole, real, _between(digits, length, real))


def _between(digits: Any, length: Any, real: Any) -> BoolArray:
    """Return (n,) which whole numbers, without a plus or zeros in front, no real number is."""
    found = np.asarray(pc.fill_null(pc.greater(length, _ROOM), False), bool)
    is_long = pc.and_(pc.greater(length, _LONGEST), pc.less_equal(length, _ROOM))
    rows = np.flatnonzero(np.asarray(pc.fill_null(is_long, False), bool))
    if len(rows):
        kind = pa.decimal128(_ROOM, 0)
        exact = pc.cast(pc.take(digits, pc.column(rows)), kind)
        # The real number nearest to one of 38 nines has 39 digits.
        near = pc.take(real, pc.column(rows))
        is_in = pc.less(pc.abs(near), 1e38)
        back = pc.cast(pc.if_else(is_in, near, 0.0), kind)
        found[rows] = np.asarray(pc.or_(pc.invert(is_in), pc.not_equal(back, exact)), bool)
    return found
