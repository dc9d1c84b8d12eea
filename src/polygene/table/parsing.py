"""Texts of expressions to trees of them; what is wrong in one is said in words, with the place."""

from __future__ import annotations

import functools

import lark

from polygene.errors import ExpressionError
from polygene.table import grammar

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


_parser = functools.cache(grammar.parser)


def parsed(text: str) -> lark.Tree:
    """Return the tree of an expression.

    Raises
    ------
    ExpressionError
        If it does not parse, with the place.
    """
    try:
        return _parser().parse(text)
    except lark.exceptions.UnexpectedInput as err:
        raise ExpressionError(_complaint(err, text), text, _column_of(err, text)) from err


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
