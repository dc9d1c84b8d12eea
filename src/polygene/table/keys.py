"""Keys that rows of two tables have in common: fields or expressions, compared exactly or folded."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, I64Array, number_pairs
from polygene.classes import NamedTuple, dataclass
from polygene.errors import ExpressionError
from polygene.notes import NULL_NAME
from polygene.table.casting import as_text
from polygene.table.expression import Expression, computed
from polygene.table.functions import by_value
from polygene.table.groups import codes_of
from polygene.table.tokens import field_name

if TYPE_CHECKING:
    import lark

    from polygene.layer import Layer

_BLANKS = r"[\s\p{Z}]+"
_PADDING = r"(^|[^0-9.,])0+([0-9])"  # zeros in front of digits, but for those behind a decimal sign


@dataclass(frozen=True)
class Key:
    """``code = district_code``: what rows of INPUT and rows of OTHER are told by; one name is both."""

    text: str
    mine: lark.Tree
    theirs: lark.Tree

    @staticmethod
    def parse(text: str) -> Key:
        """Read a key.

        Raises
        ------
        ExpressionError
            If it does not parse, with the place.
        """
        tree = Expression(text).tree
        if tree.data != "compare":
            return Key(text, tree, tree)
        mine, sign, theirs = tree.children
        if str(sign) != "=":
            raise ExpressionError("a key is one side = the other", text, sign.start_pos)
        return Key(text, mine, theirs)

    @property
    def fields(self) -> tuple[str, str]:
        """The fields that it is of on both sides; empty where it is more than a field."""
        sides = (self.mine, self.theirs)
        mine, theirs = (field_name(t.children[0]) if t.data == "field" else "" for t in sides)
        return mine, theirs

    def values(self, layer: Layer, is_mine: bool) -> Side:
        """Return its values in the rows of INPUT or OTHER.

        Raises
        ------
        ExpressionError
            If a field is unknown or types do not fit, with the place.
        """
        found = computed(self.mine if is_mine else self.theirs, self.text, layer)
        return Side(found.data, found.kind)


class Side(NamedTuple):
    """The values of a key in one layer, and what they are: ``number``, ``text`` ..."""

    data: pa.ChunkedArray
    kind: str


class Coded(NamedTuple):
    """A number below ``n`` for each row, the same for the same key; NONE for a row without one."""

    mine: I64Array
    theirs: I64Array
    n: int


def coded(layer: Layer, other: Layer, keys: Sequence[Key], folds: bool = False) -> Coded:
    """Number the keys of two layers. Null is no key, nor is a text of nothing but blanks.

    With ``folds`` case, accents, blanks and zeros in front of digits make no difference.

    Raises
    ------
    ExpressionError
        If a field is unknown, or two sides cannot be compared.
    """
    found: Coded | None = None
    for key in keys:
        one = _coded(key, key.values(layer, True), key.values(other, False), folds)
        found = one if found is None else _both(found, one)
    assert found is not None, "there is no key"
    return found


def labels(layer: Layer, keys: Sequence[Key], rows: I64Array, is_mine: bool) -> list[str]:
    """Return the keys of some rows as messages show them, each once, in their order."""
    chosen = layer.take(np.asarray(rows, np.int64))
    columns = [as_text(key.values(chosen, is_mine).data).to_pylist() for key in keys]
    parts = ([_shown(v) for v in row] for row in zip(*columns, strict=True))
    return list(dict.fromkeys(" / ".join(row) for row in parts))


def _shown(value: str | None) -> str:
    """Return a part of a key; in quotes where it has blanks at its ends, which nobody would see."""
    if value is None:
        return NULL_NAME
    return value if value == value.strip() else repr(value)


def _coded(key: Key, mine: Side, theirs: Side, folds: bool) -> Coded:
    kinds = {side.kind for side in (mine, theirs)} - {"null"}
    if len(kinds) > 1 and not (folds and kinds <= {"text", "number"}):
        one, other = mine.kind, theirs.kind
        cure = "; `fold` compares a number with a text that is one" if "text" in kinds else ""
        raise ExpressionError(f"a {one} is never equal to a {other}{cure}", key.text, 0)
    if "text" in kinds or (folds and kinds != {"number"}):
        pair = [_as_texts(side, folds) for side in (mine, theirs)]
    elif kinds == {"number"}:
        pair = _as_numbers(mine.data, theirs.data)
    elif kinds == {"boolean"}:
        pair = [pc.cast(side.data, pa.int8()) for side in (mine, theirs)]
    else:
        pair = [side.data for side in (mine, theirs)]
    if pair[0].type != pair[1].type:
        kind = pair[0].type if pa.types.is_null(pair[1].type) else pair[1].type
        pair = [pc.cast(column, kind) for column in pair]
    whole = pa.chunked_array([*pair[1].chunks, *pair[0].chunks], pair[0].type)
    codes = codes_of(whole) - 1
    n = int(codes.max(initial=NONE)) + 1
    return Coded(codes[len(pair[1]) :], codes[: len(pair[1])], n)


def _both(one: Coded, other: Coded) -> Coded:
    """Number pairs of numbers; a row that lacks one of them has no key."""
    a = np.concatenate([one.theirs, one.mine])
    b = np.concatenate([other.theirs, other.mine])
    has = np.flatnonzero((a != NONE) & (b != NONE))
    codes = np.full(len(a), NONE)
    numbering = number_pairs(a[has], b[has])
    codes[has] = numbering.numbers
    n_theirs = len(one.theirs)
    return Coded(codes[n_theirs:], codes[:n_theirs], len(numbering.firsts))


def _as_texts(side: Side, folds: bool) -> pa.ChunkedArray:
    texts = side.data
    if side.kind == "number" and pa.types.is_floating(texts.type):
        whole = pc.if_else(pc.equal(texts, pc.floor(texts)), texts, None)
        texts = pc.coalesce(as_text(_as_whole(whole)), as_text(texts))
    else:
        texts = as_text(texts)
    if folds:
        texts = folded(texts)
    is_none = pc.or_(pc.equal(texts, ""), pc.utf8_is_space(texts))
    return pc.if_else(is_none, None, texts) if pc.any(is_none).as_py() else texts


def folded(texts: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return texts without case, accents, blanks, and zeros in front of digits."""
    if pc.all(pc.string_is_ascii(texts)).as_py() is not False:
        plain = pc.ascii_lower(texts)
    else:
        apart = pc.utf8_normalize(by_value(str.casefold, texts), form="NFKD")
        plain = pc.replace_substring_regex(apart, pattern=r"\p{Mn}", replacement="")
    plain = pc.replace_substring_regex(plain, pattern=_BLANKS, replacement="")
    return pc.replace_substring_regex(plain, pattern=_PADDING, replacement=r"\1\2")


def _as_numbers(mine: pa.ChunkedArray, theirs: pa.ChunkedArray) -> list[pa.ChunkedArray]:
    """Return numbers in one type in which they are equal where they are equal exactly."""
    columns = [mine, theirs]
    are_real = [pa.types.is_floating(c.type) or pa.types.is_null(c.type) for c in columns]
    if not any(are_real):
        return [pc.cast(c, pa.int64()) for c in columns]
    if all(are_real):
        return [pc.add(_numbers_only(c), 0.0) for c in columns]  # -0 is 0
    # What is not whole equals no whole number, but others of its side: so those get numbers of theirs
    # beyond all whole ones that there are, as texts.
    found = []
    for column, is_real in zip(columns, are_real, strict=True):
        if is_real:
            reals = _numbers_only(column)
            is_whole = pc.and_(pc.equal(reals, pc.floor(reals)), pc.less(pc.abs(reals), 2.0**63))
            whole = as_text(_as_whole(pc.if_else(is_whole, reals, None)))
            found.append(pc.if_else(is_whole, whole, as_text(reals)))
        else:
            found.append(as_text(pc.cast(column, pa.int64())))
    return found


def _numbers_only(column: pa.ChunkedArray) -> pa.ChunkedArray:
    reals = pc.cast(column, pa.float64())
    return pc.if_else(pc.is_nan(reals), None, reals)


def _as_whole(reals: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return whole reals as integers; nulls where they are too large for one."""
    fits = pc.less(pc.abs(reals), 2.0**63)
    return pc.cast(pc.if_else(fits, reals, None), pa.int64(), safe=False)
