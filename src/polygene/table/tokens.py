"""What stands in texts: lists with commas between, and tokens without their quotes."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import lark

_QUOTED = re.compile(r'"(?:[^"]|"")+"')
_NAME = re.compile(rf"\s*(?P<sign>-?)(?P<quoted>{_QUOTED.pattern})\s*(?:,|$)|(?P<plain>[^,]*),?")


def field_name(token: lark.Token) -> str:
    """Return the name that a token of a field means."""
    return unquoted(token) if token.type == "QUOTED" else str(token)


def unquoted(token: lark.Token) -> str:
    """Return what stands between the quotes of a token."""
    quote = token[0]
    inner = str(token)[1:-1].replace(quote * 2, quote)
    return inner.replace("\\'", "'") if quote == "'" else inner


def names_of(text: str | None) -> list[str]:
    """Split names with commas between; blanks around them do not count.

    A name with a comma in it stands in double quotes, as in expressions.
    """
    found, at = [], 0
    while text and at < len(text):
        own = _NAME.match(text, at)
        assert own is not None  # of no letters at least
        name = own["plain"] if own["quoted"] is None else own["sign"] + bare(own["quoted"])
        found.append(name.strip())
        at = own.end()
    return [name for name in found if name]


def quoted(name: str) -> str:
    """Return a name in double quotes, as it may always stand in expressions."""
    return '"' + name.replace('"', '""') + '"'


def bare(name: str) -> str:
    """Return a name without the double quotes that it stands in, if it does."""
    return name[1:-1].replace('""', '"') if _QUOTED.fullmatch(name) else name


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
