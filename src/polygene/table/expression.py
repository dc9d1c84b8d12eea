"""Expressions over the fields of a table: CQL2-Text (OGC 21-065r2).

Parsed with a lark grammar, computed on whole Arrow columns. Truth has three values, as in SQL: a
comparison with null is neither true nor false, and a filter keeps only what is true.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.classes import NamedTuple, dataclass
from polygene.errors import ExpressionError
from polygene.table import spatial
from polygene.table.evaluate import Evaluator
from polygene.table.sizes import GEOMETRY_FUNCTIONS
from polygene.table.tokens import field_name

if TYPE_CHECKING:
    import lark

    from polygene.layer import Layer


class Expression:
    """A parsed expression.

    Raises
    ------
    ExpressionError
        If it does not parse, with the place.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        # Only where there is an expression: the parser's library is another 12 ms of a start.
        from polygene.table import parsing

        self._tree = parsing.parsed(text)

    def true_rows(self, layer: Layer, written: spatial.Written | None = None) -> BoolArray:
        """Return (n_rows,) where the expression is true; see `truth`."""
        return self.truth(layer, written).rows

    def truth(self, layer: Layer, written: spatial.Written | None = None) -> Truth:
        """Return (n_rows,) where the expression is true, and how often it became null on the way.

        ``written`` is how geometry in it is to be read, if not as in the layer's CRS.

        Raises
        ------
        ExpressionError
            If a field is unknown or types do not fit, with the place.
        """
        evaluator = Evaluator(self.text, layer, written)
        value = evaluator.value_of(self._tree.children[0])
        lost = dict(+evaluator.lost)
        if value.kind not in ("boolean", "null"):
            raise ExpressionError(
                f"the expression gives a {value.kind}, not true or false", self.text, 0
            )
        if isinstance(value.data, pa.Scalar):
            return Truth(np.full(layer.n_rows, value.data.as_py() is True), lost)
        return Truth(np.asarray(pc.fill_null(value.data, False), dtype=bool), lost)

    def values(self, layer: Layer) -> Computed:
        """Return the value for each row of a layer.

        Raises
        ------
        ExpressionError
            As `true_rows`.
        """
        return computed(self._tree.children[0], self.text, layer)

    @property
    def fields(self) -> list[str]:
        """The fields it names, and whatever else is written like one."""
        return _fields_in(self._tree)

    @property
    def looks_at_geometry(self) -> bool:
        """Whether it needs more of a feature than its attributes."""
        return looks_at_geometry(self._tree)

    @property
    def tree(self) -> lark.Tree:
        """The parsed expression itself."""
        return self._tree.children[0]


def _fields_in(tree: lark.Tree) -> list[str]:
    """Return the fields that a parsed expression names, and whatever else is written like one."""
    tokens = [found.children[0] for found in tree.find_data("field")]
    return list(dict.fromkeys(field_name(token) for token in tokens))


def fields_alone(trees: Iterable[lark.Tree], fields: Sequence[str]) -> set[str] | None:
    """Return which fields of those there are some trees look at; None if at more, or at others."""
    found: set[str] = set()
    for tree in trees:
        if looks_at_geometry(tree):
            return None
        found |= set(_fields_in(tree))
    return found if found <= set(fields) else None


def looks_at_geometry(tree: lark.Tree) -> bool:
    """Whether a parsed expression needs more of a feature than its attributes."""
    return not calls_in(tree).isdisjoint({*GEOMETRY_FUNCTIONS, *spatial.FUNCTIONS})


def calls_in(tree: lark.Tree) -> set[str]:
    """Return the functions that a parsed expression calls, in small letters."""
    return {str(call.children[0]).lower() for call in tree.find_data("call")}


class Truth(NamedTuple):
    """Where an expression is true, and how many values became null on the way, by the reason."""

    rows: BoolArray
    lost: Mapping[str, int]


class Computed(NamedTuple):
    """A value for each row, and how many became null on the way, by the reason."""

    data: pa.ChunkedArray
    kind: str
    lost: Mapping[str, int]


def computed(tree: lark.Tree, text: str, layer: Layer) -> Computed:
    """Compute a tree of a text for each row of a layer."""
    evaluator = Evaluator(text, layer)
    data, kind = evaluator.value_of(tree)
    if isinstance(data, pa.Scalar):
        data = pa.repeat(data, layer.n_rows)
    if isinstance(data, pa.Array):
        data = pa.chunked_array([data])
    return Computed(data, kind, dict(+evaluator.lost))


@dataclass(frozen=True)
class Assignment:
    """``name = expression``: a field and what it is to hold."""

    name: str
    expression: Expression

    @staticmethod
    def parse(text: str) -> Assignment:
        """Read ``density = count / area(ha)``; a name with blanks stands in double quotes.

        Raises
        ------
        ExpressionError
            If it does not parse, with the place.
        """
        match = re.match(r"\s*(?:\"((?:[^\"]|\"\")+)\"|([^\W\d][\w.:]*))\s*=(?!=)\s*", text)
        if match is None:
            raise ExpressionError("write it as NAME = EXPRESSION", text, 0)
        name = match[2] or match[1].replace('""', '"')
        try:
            expression = Expression(text[match.end() :])
        except ExpressionError as err:
            column = None if err.column is None else err.column + match.end()
            raise ExpressionError(err.reason, text, column) from err
        return Assignment(name, expression)
