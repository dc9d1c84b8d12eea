"""What can go wrong, in words a user can act on.

PolygeneError            could not be done (exit code 1)
├── DataError            what a file or layer holds does not allow it
│   ├── UnknownFieldError
│   ├── UnknownLayerError
│   └── GeometryError    one row's geometry, with its place
├── FileError            a file cannot be read or written
├── ExistsError          the destination is there already
├── UsageError           asked for in a way that makes no sense (exit code 2)
└── ExpressionError      an expression that does not parse or fit (exit code 2)

Anything else that escapes is our own bug and shows its traceback (exit code 3).
"""

from __future__ import annotations

import difflib
from collections.abc import Sequence


class PolygeneError(Exception):
    """Base of all errors with words for the user."""


class DataError(PolygeneError):
    """The data do not allow what was asked."""


class FileError(PolygeneError):
    """A file cannot be read or written."""


class ExistsError(PolygeneError):
    """The destination exists."""


class UsageError(PolygeneError):
    """What was asked for makes no sense, whatever the data."""


class BalanceError(Exception):
    """Areas or lengths do not add up after a computation: our bug, never the user's."""


def nearest_first(name: str, names: Sequence[str]) -> list[str]:
    """Return names with those most like ``name`` first, the others in their order."""
    folded = {candidate: candidate.casefold() for candidate in names}
    likeness = {
        candidate: difflib.SequenceMatcher(None, name.casefold(), text).ratio()
        for candidate, text in folded.items()
    }
    alike = sorted((n for n in names if likeness[n] >= 0.6), key=lambda n: -likeness[n])
    return alike + [n for n in names if n not in alike]


def listed(names: Sequence[str], most: int = 20) -> str:
    """Return names as one phrase, cut after ``most``."""
    if not names:
        return "(none)"
    more = f", and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def did_you_mean(name: str, names: Sequence[str]) -> str:
    """Return ``; did you mean 'x'?`` if one of the names is much like it, else nothing."""
    first = nearest_first(name, names)[:1]
    is_close = (
        first and difflib.SequenceMatcher(None, name.casefold(), first[0].casefold()).ratio() >= 0.6
    )
    return f"; did you mean {first[0]!r}?" if is_close else ""


class UnknownFieldError(DataError):
    """A field was named that the layer does not have."""

    def __init__(self, name: str, layer: str, fields: Sequence[str]) -> None:
        super().__init__(name, layer, fields)
        self.name, self.layer, self.fields = name, layer, tuple(fields)

    def __str__(self) -> str:
        return (
            f"layer {self.layer!r} has no field {self.name!r}{did_you_mean(self.name, self.fields)}\n"
            f"  its fields: {listed(nearest_first(self.name, self.fields))}"
        )


class UnknownLayerError(DataError):
    """A layer was named that the file does not have."""

    def __init__(self, name: str, path: str, layers: Sequence[str]) -> None:
        super().__init__(name, path, layers)
        self.name, self.path, self.layers = name, path, tuple(layers)

    def __str__(self) -> str:
        return (
            f"{self.path} has no layer {self.name!r}{did_you_mean(self.name, self.layers)}\n"
            f"  its layers: {listed(nearest_first(self.name, self.layers))}"
        )


class GeometryError(DataError):
    """The geometry of one row cannot be used."""

    def __init__(self, where: str, row: str, reason: str, advice: str) -> None:
        super().__init__(where, row, reason, advice)
        self.where, self.row, self.reason, self.advice = where, row, reason, advice

    def __str__(self) -> str:
        return f"{self.where}, {self.row}: {self.reason}; {self.advice}"


class ExpressionError(PolygeneError):
    """An expression does not parse, or does not fit the layer.

    ``column`` counts from 0.
    """

    def __init__(self, reason: str, text: str, column: int | None = None) -> None:
        super().__init__(reason, text, column)
        self.reason, self.text, self.column = reason, text, column

    def __str__(self) -> str:
        if self.column is None:
            return f"{self.reason}\n  in: {self.text}"
        return f"{self.reason}\n  {self.text}\n  {' ' * self.column}^"
