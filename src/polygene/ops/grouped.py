"""What rows are grouped by: fields, or expressions that become fields."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pyarrow as pa

from polygene import computing as pc
from polygene.errors import ExpressionError, UsageError
from polygene.layer import Layer
from polygene.table.expression import Assignment, Expression
from polygene.table.tokens import bare, field_name


def grouped_by(layer: Layer, by: Sequence[str]) -> tuple[Layer, list[str]]:
    """Return a layer with what it is grouped by as fields, and their names.

    Each is a field, an expression such as ``substring(code, 1, 2)``, or one with the name that it gets,
    ``zone = substring(code, 1, 2)``; without a name it is that of the function and its first field,
    ``substring_code``.

    Raises
    ------
    UnknownFieldError
        If a plain name is no field.
    ExpressionError
        If an expression does not parse or fit.
    UsageError
        If a name is that of a field already.
    """
    names = []
    for text in by:
        plain = text if text in layer.table.column_names else bare(text)
        if plain in layer.table.column_names or _is_name(plain):
            layer.check_field(plain)
            names.append(plain)
            continue
        name, expression = _parsed(text)
        if name.casefold() in {n.casefold() for n in layer.table.column_names}:
            raise UsageError(
                f"there is a field {name!r} already; name what it is grouped by otherwise"
            )
        found = expression.values(layer)
        data = pc.cast(found.data, pa.string()) if pa.types.is_null(found.data.type) else found.data
        table = layer.table
        table = (
            table.append_column(name, data) if table.num_columns else pa.table([data], names=[name])
        )
        layer = replace(layer, table=table)
        names.append(name)
    return layer, names


def fields_of(fields: Sequence[str], by: Sequence[str]) -> list[str]:
    """Return which of a layer's fields it is grouped by, or those that expressions name.

    Raises
    ------
    ExpressionError
        If an expression does not parse.
    UsageError
        If one looks at geometry, or its name is that of a field already.
    """
    found = []
    for text in by:
        plain = text if text in fields else bare(text)
        if plain in fields or _is_name(plain):
            found.append(plain)
            continue
        name, expression = _parsed(text)
        if expression.looks_at_geometry or name.casefold() in map(str.casefold, fields):
            raise UsageError(f"{text} is of more than fields")
        found += expression.fields
    return found


def _is_name(text: str) -> bool:
    return text.replace("_", "a").replace(".", "a").isalnum()


def _parsed(text: str) -> tuple[str, Expression]:
    try:
        own = Assignment.parse(text)
    except ExpressionError:
        expression = Expression(text)
        return _name_of(expression), expression
    return own.name, own.expression


def _name_of(expression: Expression) -> str:
    tree = expression.tree
    if tree.data == "field":
        return field_name(tree.children[0])
    head = str(tree.children[0]).lower() if tree.data == "call" else str(tree.data)
    return "_".join([head, *expression.fields[:1]])
