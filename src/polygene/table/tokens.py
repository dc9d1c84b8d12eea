"""What stands in texts: lists with commas between, and tokens without their quotes."""

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


def names_of(text: str | None) -> list[str]:
    """Split names with commas between; blanks around them do not count."""
    return [name.strip() for name in (text or "").split(",") if name.strip()]


def terms_of(text: str | None) -> list[str]:
    """Split fields and expressions at the commas that are in no brackets and no quotes."""
    found, depth, quote = [""], 0, ""
    for sign in text or "":
        quote = "" if sign == quote else quote or (sign if sign in "'\"" else "")
        depth += 0 if quote else (sign == "(") - (sign == ")")
        if sign == "," and not quote and not depth:
            found.append("")
        else:
            found[-1] += sign
    return [term.strip() for term in found if term.strip()]
