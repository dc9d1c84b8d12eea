"""Expressions over the fields of a table: CQL2-Text (OGC 21-065r2).

Parsed with a lark grammar, computed on whole Arrow columns. Truth has three values, as in SQL: a
comparison with null is neither true nor false, and a filter keeps only what is true.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import lark
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.arrays import BoolArray
from polygene.errors import ExpressionError, did_you_mean, listed, nearest_first

_EXPECTED = {
    "COMPARE": "a comparison (= <> < <= > >=)",
    "NAME": "a field",
    "QUOTED": "a field",
    "NUMBER": "a number",
    "TEXT": "a text in single quotes",
    "RPAR": ")",
    "LPAR": "(",
    "COMMA": ",",
    "$END": "the end",
}


@functools.cache
def _parser() -> lark.Lark:
    grammar = Path(__file__).with_name("cql2.lark").read_text(encoding="utf-8")
    return lark.Lark(grammar, parser="lalr", propagate_positions=True, maybe_placeholders=False)


class _Value(NamedTuple):
    """A column or single value, and the kind of things in it: number, text, boolean, date, time."""

    data: Any
    kind: str


class Expression:
    """A parsed expression.

    Raises
    ------
    ExpressionError
        If it does not parse, with the place.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        try:
            self._tree = _parser().parse(text)
        except lark.exceptions.UnexpectedInput as err:
            raise ExpressionError(_complaint(err, text), text, _column_of(err, text)) from err

    def true_rows(self, table: pa.Table, layer: str) -> BoolArray:
        """Return (n_rows,) where the expression is true.

        Raises
        ------
        ExpressionError
            If a field is unknown or types do not fit, with the place.
        """
        evaluator = _Evaluator(self.text, table, layer)
        value = evaluator.value_of(self._tree.children[0])
        if value.kind not in ("boolean", "null"):
            raise ExpressionError(
                f"the expression gives a {value.kind}, not true or false", self.text, 0
            )
        if isinstance(value.data, pa.Scalar):
            return np.full(table.num_rows, value.data.as_py() is True)
        return np.asarray(pc.fill_null(value.data, False), dtype=bool)


def _column_of(err: lark.exceptions.UnexpectedInput, text: str) -> int:
    if _is_at_end(err):
        return len(text)
    at = getattr(err, "pos_in_stream", None)
    return len(text) if at is None or at < 0 else int(at)


def _is_at_end(err: lark.exceptions.UnexpectedInput) -> bool:
    return isinstance(err, lark.exceptions.UnexpectedToken) and err.token.type == "$END"


def _complaint(err: lark.exceptions.UnexpectedInput, text: str) -> str:
    if not text.strip():
        return "the expression is empty"
    at = _column_of(err, text)
    if text[at : at + 1] in ("'", '"'):
        quote = "single" if text[at] == "'" else "double"
        if text.count(text[at]) % 2:
            return f"the expression has a {quote} quote that is never closed"
    for wrong, meant in (("==", "="), ("!=", "<>")):
        if wrong in (text[at : at + 2], text[max(0, at - 1) : at + 1]):
            return f"{wrong!r} is no comparison here; write {meant}"
    if at >= len(text):
        found = "the expression ends too early"
    elif isinstance(err, lark.exceptions.UnexpectedToken):
        found = f"{str(err.token)!r} does not fit here"
    else:
        found = f"{text[at]!r} does not fit here"
    accepted = set(getattr(err, "accepts", None) or getattr(err, "expected", None) or ())
    words = list(dict.fromkeys(_EXPECTED[name] for name in _EXPECTED if name in accepted))
    return f"{found}; expected {' or '.join(words)}" if 0 < len(words) <= 4 else found


def _kind_of(kind: pa.DataType) -> str:
    for test, name in (
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_date, "date"),
        (pa.types.is_timestamp, "time"),
        (pa.types.is_integer, "number"),
        (pa.types.is_floating, "number"),
        (pa.types.is_decimal, "number"),
        (pa.types.is_string, "text"),
        (pa.types.is_large_string, "text"),
        (pa.types.is_null, "null"),
    ):
        if test(kind):
            return name
    return str(kind)


_COMPARISONS: dict[str, Callable[..., Any]] = {
    "=": pc.equal,
    "<>": pc.not_equal,
    "<": pc.less,
    "<=": pc.less_equal,
    ">": pc.greater,
    ">=": pc.greater_equal,
}


class _Evaluator:
    def __init__(self, text: str, table: pa.Table, layer: str) -> None:
        self.text, self.table, self.layer = text, table, layer

    def value_of(self, tree: lark.Tree) -> _Value:
        return getattr(self, f"_{tree.data}")(tree)

    def _values(self, tree: lark.Tree) -> list[_Value]:
        return [self.value_of(child) for child in tree.children if isinstance(child, lark.Tree)]

    def _refuse(self, tree: lark.Tree, reason: str) -> ExpressionError:
        return ExpressionError(reason, self.text, tree.meta.start_pos)

    def _expect(self, value: _Value, kind: str, tree: lark.Tree, use: str) -> Any:
        if value.kind not in (kind, "null"):
            raise self._refuse(tree, f"{use} needs a {kind}, and this is a {value.kind}")
        return value.data

    # Logic

    def _booleans(self, tree: lark.Tree, use: str) -> list[Any]:
        return [
            self._expect(self.value_of(child), "boolean", child, use) for child in tree.children
        ]

    def _or_(self, tree: lark.Tree) -> _Value:
        return _Value(functools.reduce(pc.or_kleene, self._booleans(tree, "OR")), "boolean")

    def _and_(self, tree: lark.Tree) -> _Value:
        return _Value(functools.reduce(pc.and_kleene, self._booleans(tree, "AND")), "boolean")

    def _not_(self, tree: lark.Tree) -> _Value:
        return _Value(pc.invert(self._booleans(tree, "NOT")[0]), "boolean")

    # Predicates

    def _alike(self, tree: lark.Tree, left: _Value, right: _Value) -> tuple[Any, Any]:
        """Bring two values to types that can be compared."""
        kinds = {left.kind, right.kind}
        if kinds == {"date", "time"}:
            stamp = pa.timestamp("ms", tz="UTC")
            return left.data.cast(stamp), right.data.cast(stamp)
        if len(kinds) > 1:
            hint = ""
            if kinds & {"date", "time"} and "text" in kinds:
                hint = "; write a date as DATE('2026-05-31'), a time as TIMESTAMP('...Z')"
            elif kinds == {"number", "text"}:
                hint = "; texts stand in single quotes, numbers in none"
            raise self._refuse(tree, f"a {left.kind} is compared with a {right.kind}{hint}")
        return left.data, right.data

    def _compare(self, tree: lark.Tree) -> _Value:
        left, right = self._values(tree)
        operator = next(c for c in tree.children if isinstance(c, lark.Token))
        return _Value(_COMPARISONS[str(operator)](*self._alike(tree, left, right)), "boolean")

    def _between(self, tree: lark.Tree) -> _Value:
        value, low, high = self._values(tree)
        return _Value(
            pc.and_kleene(
                pc.greater_equal(*self._alike(tree, value, low)),
                pc.less_equal(*self._alike(tree, value, high)),
            ),
            "boolean",
        )

    def _like(self, tree: lark.Tree) -> _Value:
        value, pattern = self._values(tree)
        data = self._expect(value, "text", tree.children[0], "LIKE")
        wanted = self._expect(pattern, "text", tree.children[1], "LIKE")
        if not isinstance(wanted, pa.Scalar):
            raise self._refuse(tree.children[1], "LIKE needs a pattern that is the same for all")
        return _Value(pc.match_like(data, wanted.as_py()), "boolean")

    def _in_(self, tree: lark.Tree) -> _Value:
        value, *options = self._values(tree)
        found = [pc.equal(*self._alike(tree, value, option)) for option in options]
        return _Value(functools.reduce(pc.or_kleene, found), "boolean")

    def _is_null(self, tree: lark.Tree) -> _Value:
        return _Value(pc.is_null(self._values(tree)[0].data), "boolean")

    def _inverted(self, value: _Value) -> _Value:
        return _Value(pc.invert(value.data), "boolean")

    def _not_like(self, tree: lark.Tree) -> _Value:
        return self._inverted(self._like(tree))

    def _not_between(self, tree: lark.Tree) -> _Value:
        return self._inverted(self._between(tree))

    def _not_in(self, tree: lark.Tree) -> _Value:
        return self._inverted(self._in_(tree))

    def _not_null(self, tree: lark.Tree) -> _Value:
        return self._inverted(self._is_null(tree))

    # Arithmetic

    def _sum_(self, tree: lark.Tree) -> _Value:
        return self._arithmetic(tree)

    def _product(self, tree: lark.Tree) -> _Value:
        return self._arithmetic(tree)

    def _power(self, tree: lark.Tree) -> _Value:
        left, right = (
            self._expect(self.value_of(c), "number", c, "arithmetic").cast(pa.float64())
            for c in tree.children
        )
        return _Value(pc.power(left, right), "number")

    def _arithmetic(self, tree: lark.Tree) -> _Value:
        first, operator, second = tree.children
        left, right = (
            self._expect(self.value_of(c), "number", c, "arithmetic") for c in (first, second)
        )
        try:
            return _Value(_ARITHMETIC[str(operator).lower()](left, right), "number")
        except pa.ArrowInvalid as err:
            raise self._refuse(tree, f"the numbers grow too large ({err})") from err

    def _minus(self, tree: lark.Tree) -> _Value:
        child = tree.children[0]
        data = self._expect(self.value_of(child), "number", child, "arithmetic")
        return _Value(pc.negate_checked(data), "number")

    def _plus(self, tree: lark.Tree) -> _Value:
        child = tree.children[0]
        return _Value(self._expect(self.value_of(child), "number", child, "arithmetic"), "number")

    # Literals, fields, functions

    def _number(self, tree: lark.Tree) -> _Value:
        text = str(tree.children[0])
        is_whole = text.isdigit() and int(text) < 2**63
        return _Value(pa.scalar(int(text) if is_whole else float(text)), "number")

    def _text(self, tree: lark.Tree) -> _Value:
        return _Value(pa.scalar(_unquoted(tree.children[0]), pa.string()), "text")

    def _true(self, tree: lark.Tree) -> _Value:
        del tree
        return _Value(pa.scalar(True), "boolean")

    def _false(self, tree: lark.Tree) -> _Value:
        del tree
        return _Value(pa.scalar(False), "boolean")

    def _date(self, tree: lark.Tree) -> _Value:
        return self._moment(tree, pa.date32(), "date", "a date like 2026-05-31")

    def _timestamp(self, tree: lark.Tree) -> _Value:
        form = "a time like 2026-05-31T12:00:00Z"
        return self._moment(tree, pa.timestamp("ms", tz="UTC"), "time", form)

    def _moment(self, tree: lark.Tree, kind: pa.DataType, word: str, form: str) -> _Value:
        text = _unquoted(tree.children[0])
        try:
            return _Value(pa.scalar(text).cast(kind), word)
        except pa.ArrowInvalid as err:
            raise self._refuse(tree, f"{text!r} is not {form}") from err

    def _casei(self, tree: lark.Tree) -> _Value:
        child = tree.children[0]
        return _Value(
            pc.utf8_lower(self._expect(self.value_of(child), "text", child, "CASEI")), "text"
        )

    def _accenti(self, tree: lark.Tree) -> _Value:
        child = tree.children[0]
        data = self._expect(self.value_of(child), "text", child, "ACCENTI")
        apart = pc.utf8_normalize(data, form="NFKD")
        return _Value(pc.replace_substring_regex(apart, pattern=r"\p{Mn}", replacement=""), "text")

    def _call(self, tree: lark.Tree) -> _Value:
        name = str(tree.children[0])
        raise self._refuse(
            tree, f"there is no function {name!r}; those there are: CASEI, ACCENTI, DATE, TIMESTAMP"
        )

    def _field(self, tree: lark.Tree) -> _Value:
        token = tree.children[0]
        name = _unquoted(token) if token.type == "QUOTED" else str(token)
        names = self.table.column_names
        if name not in names:
            raise self._refuse(
                tree,
                f"layer {self.layer!r} has no field {name!r}{did_you_mean(name, names)} "
                f"(its fields: {listed(nearest_first(name, names), 8)})",
            )
        data = self.table.column(name)
        kind = _kind_of(data.type)
        if kind == "number" and pa.types.is_decimal(data.type):
            data = data.cast(pa.float64())
        return _Value(data, kind)


def _unquoted(token: lark.Token) -> str:
    quote = token[0]
    return str(token)[1:-1].replace(quote * 2, quote)


def _null_where_zero(divisor: Any) -> Any:
    return pc.if_else(pc.equal(divisor, 0), pa.scalar(None, divisor.type), divisor)


def _divide(left: Any, right: Any) -> Any:
    """Divide as real numbers; by zero gives null."""
    return pc.divide(left.cast(pa.float64()), _null_where_zero(right.cast(pa.float64())))


def _whole_divide(left: Any, right: Any) -> Any:
    """Divide and cut off what is behind the point, whole numbers staying whole."""
    if pa.types.is_integer(left.type) and pa.types.is_integer(right.type):
        return pc.divide(left, _null_where_zero(right))
    return pc.trunc(_divide(left, right))


def _remainder(left: Any, right: Any) -> Any:
    return pc.subtract(left, pc.multiply(_whole_divide(left, right), right))


_ARITHMETIC: dict[str, Callable[..., Any]] = {
    "+": pc.add_checked,
    "-": pc.subtract_checked,
    "*": pc.multiply_checked,
    "/": _divide,
    "div": _whole_divide,
    "%": _remainder,
}
