"""What there is to say besides a result: remarks, and warnings of what is lost or wants seeing to."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

NULL_NAME = "(null)"  # what a value that is not there looks like in tables, charts and legends
FEW = 2  # notes alike that are still told one by one
# What a terminal would obey instead of showing: control characters, and marks that turn the direction.
_CONTROLS = re.compile(r"[\x00-\x1f\x7f-\x9f\u202a-\u202e\u2028\u2029\u2066-\u2069\ud800-\udfff]")


class Warned(str):
    """A note about something that is lost, guessed or no longer true, so that somebody must look."""

    __slots__ = ()


class Changed(str):
    """A note about what a format holds otherwise than it was."""

    __slots__ = ()


class Lost(Changed, Warned):
    """A note about what a format could not hold."""

    __slots__ = ()


def counted(n: int, noun: str, several: str = "") -> str:
    """Return a number and what it counts: "1 feature", "2 features"; ``several`` if not with an s."""
    return f"{n:,} {noun if n == 1 else several or f'{noun}s'}"


def rounded(value: float, digits: int) -> str:
    """Return a number with so many decimals; with a power of ten where it has no digits for them."""
    return f"{value:,.{digits}f}" if abs(value) < 1e16 else f"{value:.16g}"


def visible(text: str, keeps: str = "") -> str:
    """Return a text from a stranger's file with control characters as escapes, but those kept."""
    return _CONTROLS.sub(
        lambda found: found[0] if found[0] in keeps else repr(found[0])[1:-1], text
    )


def worded_anew(note: str, change: Callable[[str], str]) -> str:
    """Return a note with its text changed; a warning stays one."""
    return type(note)(change(note))


# What readers count of the rows that they are asked for, as `counted` words it.
_NOUNS = {"value": "values", "moment": "moments", "geometry": "geometries"}
_COUNT = re.compile(rf"\b(\d[\d,]*) ({'|'.join([*_NOUNS, *_NOUNS.values()])})\b")
_ALONE = {several: noun for noun, several in _NOUNS.items()}


def summed(notes: Sequence[str]) -> list[str]:
    """Return notes on pieces of one thing as notes on all of it: what they count is added up."""
    found: dict[tuple[type, str, str, str], tuple[str, int]] = {}
    for note in notes:
        count = _COUNT.search(note)
        if count is None:
            found.setdefault((type(note), note, "", ""), (note, 0))
            continue
        noun = _ALONE.get(count[2], count[2])
        key = (type(note), note[: count.start()], noun, note[count.end() :])
        first, n = found.get(key, (note, 0))
        found[key] = first, n + int(count[1].replace(",", ""))
    return [
        first
        if not noun
        else worded_anew(
            first,
            lambda text, n=n, noun=noun: _COUNT.sub(  # type: ignore[misc]
                counted(n, noun, _NOUNS[noun]), text, count=1
            ),
        )
        for (_, _, noun, _), (first, n) in found.items()
    ]


def in_order(notes: Sequence[str]) -> list[str]:
    """Return warnings before remarks, each in their order."""
    return sorted(notes, key=lambda note: not isinstance(note, Warned))


def gathered(notes: Sequence[str], layers: Sequence[str]) -> list[str]:
    """Return notes of which those that say the same of many layers have become one, with a count.

    Two say the same if they differ in the layer, in numbers and in lists of rows only.
    """
    by_shape: dict[tuple[bool, str], list[tuple[str, str]]] = {}
    pattern = _any_of(layers)
    for note in notes:
        found = pattern.search(note) if pattern else None
        layer = found[0] if found else ""
        text = pattern.sub("{}", note) if pattern and found else note
        text = re.sub(
            r"\brow #(?: \(id #\))?(?:, row #(?: \(id #\))?)*(?: …)?", "rows", _plain(text)
        )
        key = (isinstance(note, Warned), text if found else note)
        by_shape.setdefault(key, []).append((note, layer))
    told = []
    for alike in by_shape.values():
        first, *rest = alike
        if len(alike) <= FEW:
            told += [note for note, _ in alike]
            continue
        names = list(dict.fromkeys(layer for _, layer in rest))
        which = ", ".join(names[:2]) + (f" … {names[-1]}" if len(names) > 2 else "")
        more = f"; likewise {len(rest):,} more: {which}"
        told.append(worded_anew(first[0], lambda text, more=more: text + more))  # type: ignore[misc]
    return told


def _plain(text: str) -> str:
    """Return a text whose numbers are all alike."""
    return re.sub(r"\d[\d,.]*(?<![,.])(?:e[-+]?\d+)?", "#", text)


def _any_of(layers: Sequence[str]) -> re.Pattern[str] | None:
    if not layers:
        return None
    names = sorted(set(layers), key=len, reverse=True)
    return re.compile(r"(?<!\w)(?:" + "|".join(map(re.escape, names)) + r")(?!\w)")
