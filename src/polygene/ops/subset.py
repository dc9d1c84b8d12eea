"""Subset: keep features by their attributes."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from polygene.layer import Layer

if TYPE_CHECKING:
    from polygene.table.expression import Expression


def where(layer: Layer, expression: Expression) -> Layer:
    """Keep the features for which an expression is true.

    Raises
    ------
    ExpressionError
        If it does not fit the layer's fields.
    """
    chosen = layer.take(expression.true_rows(layer.table, layer.name))
    return replace(chosen, total=layer.n_total)
