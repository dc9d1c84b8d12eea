"""Arguments as people give them: one name or several, a text or what it means."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from polygene.table.expression import Assignment, Expression

Names = str | Sequence[str]  # one name, or several


def names(given: Names | None) -> list[str]:
    """Return names as a list; one alone is one, whatever is in it."""
    if given is None:
        return []
    return [given] if isinstance(given, str) else list(given)


def expression(given: Expression | str | None) -> Expression | None:
    """Return an expression, read if it is a text.

    Raises
    ------
    ExpressionError
        If it does not parse.
    """
    from polygene.table.expression import Expression

    return Expression(given) if isinstance(given, str) else given


def assignments(given: Sequence[Assignment | str] | str) -> list[Assignment]:
    """Return assignments, ``name = expression``, read where they are texts.

    Raises
    ------
    ExpressionError
        If one does not parse.
    """
    from polygene.table.expression import Assignment

    several = [given] if isinstance(given, str) else given
    return [Assignment.parse(one) if isinstance(one, str) else one for one in several]
