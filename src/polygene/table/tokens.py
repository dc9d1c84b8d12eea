"""What tokens of expressions mean: names of fields, and texts, without their quotes."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import lark


def field_name(token: lark.Token) -> str:
    """Return the name that a token of a field means."""
    return unquoted(token) if token.type == "QUOTED" else str(token)


def unquoted(token: lark.Token) -> str:
    """Return what stands between the quotes of a token."""
    quote = token[0]
    inner = str(token)[1:-1].replace(quote * 2, quote)
    return inner.replace("\\'", "'") if quote == "'" else inner
