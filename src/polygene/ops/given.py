"""Arguments as people give them: one name or several, a text or what it means."""

from __future__ import annotations

import math
import reprlib
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from polygene import proj
from polygene.crs import parse
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
    ExpressionError, UsageError
        If it does not parse, or is no text.
    """
    from polygene.table.expression import Expression

    if given is None or isinstance(given, Expression):
        return given
    if not isinstance(given, str):
        raise UsageError(
            f"an expression is a text such as \"kind = 'a'\", not {reprlib.repr(given)}"
        )
    return Expression(given)


def crs_of(given: proj.CRS | str) -> proj.CRS:
    """Return a CRS, parsed if it is a text.

    Raises
    ------
    UsageError, DataError
        If it is neither, or none that is known.
    """
    if isinstance(given, str):
        return parse(given)
    if not isinstance(given, proj.CRS):
        raise UsageError(f"a CRS is a text such as 'EPSG:32633', not {reprlib.repr(given)}")
    return given


def box_of(given: Any, called: str = "`box`") -> Extent:
    """Return x and y at least, x and y at most, as numbers; x may be the other way round, for which
    see `polygene.longitudes.sides_of_spans`.

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
