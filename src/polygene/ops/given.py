"""Arguments as people give them: one name or several, a text or what it means."""

from __future__ import annotations

import math
import reprlib
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from polygene.errors import UsageError
from polygene.geometry import Extent

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


def box_of(given: Any, called: str = "`box`") -> Extent:
    """Return x and y at least, x and y at most, as numbers; x may be the other way round, for which
    see `polygene.table.spatial.sides_of_spans`.

    Raises
    ------
    UsageError
        If it is none.
    """
    try:
        x0, y0, x1, y1 = map(float, given)
    except (TypeError, ValueError):
        x0 = y0 = x1 = y1 = math.nan
    if not (x0 <= x1 or x0 > x1) or not y0 <= y1:
        raise UsageError(
            f"{called} is x and y at least, then x and y at most, not {reprlib.repr(given)}"
        )
    return x0, y0, x1, y1


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
