"""What can go wrong, in words a user can act on.

PolygeneError            could not be done (exit code 1)
├── DataError            what a file or layer holds does not allow it
│   ├── UnknownFieldError
│   ├── UnknownLayerError
│   ├── LossError        values that a type or width cannot hold
│   ├── TableError       a table without geometry where some is needed
│   └── GeometryError    one row's geometry, with its place
├── FileError            a file cannot be read or written
├── ExistsError          the destination is there already
├── SheetError           a match sheet or recipe, with its line
├── UsageError           asked for in a way that makes no sense (exit code 2)
└── ExpressionError      an expression that does not parse or fit (exit code 2)

Anything else that escapes is our own bug and shows its traceback (exit code 3).
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Sequence


class PolygeneError(Exception):
    """Base of all errors with words for the user.

    Where they speak of what could be said otherwise they name the argument, as in ```crs```; the
    program calls it by its option, see `with_options`.
    """


def with_options(text: str) -> str:
    """Return a text with arguments in backquotes as the options that they are of the program."""
    return re.sub(r"`([a-z_]+)`", lambda m: f"--{m[1].rstrip('_').replace('_', '-')}", text)


class DataError(PolygeneError):
    """The data do not allow what was asked."""


class TableError(DataError):
    """A table without geometry stands where some is needed."""


class FileError(PolygeneError):
    """A file cannot be read or written."""


class ExistsError(PolygeneError):
    """The destination exists."""


class UsageError(PolygeneError):
    """What was asked for makes no sense, whatever the data."""


class ProofError(Exception):
    """What a computation made is not what it must be: our bug, never the user's; nothing is written."""


class BalanceError(ProofError):
    """Areas or lengths do not add up."""


class ValidityError(ProofError):
    """A polygon came out invalid."""


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
    return ", ".join(f'"{name}"' if "," in name else name for name in names[:most]) + more


def check_choice(what: str, given: str | None, choices: Sequence[str]) -> None:
    """Refuse a word that is none of those there are; None is nothing asked for.

    Raises
    ------
    UsageError
        Otherwise, with the words there are.
    """
    if given is not None and given not in choices:
        hint = did_you_mean(str(given), choices)
        raise UsageError(f"{what} is one of {', '.join(choices)}, not {given!r}{hint}")


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


class LossError(DataError):
    """Values that a field's type or width cannot hold, and nobody said what to do with them."""

    def __init__(
        self, layer: str, field: str, kind: str, count: int, samples: Sequence[str]
    ) -> None:
        super().__init__(layer, field, kind, count, samples)
        self.layer, self.field, self.kind = layer, field, kind
        self.count, self.samples = count, tuple(samples)

    def __str__(self) -> str:
        values = "1 value does" if self.count == 1 else f"{self.count:,} values do"
        more = "\n  …" if self.count > len(self.samples) else ""
        rows = "".join(f"\n  {sample}" for sample in self.samples)
        return (
            f"layer {self.layer!r}, field {self.field!r}: {values} not fit {self.kind}; say with "
            f"on-loss what to do: null or cut{rows}{more}"
        )


class GeometryError(DataError):
    """The geometry of one row cannot be used."""

    def __init__(self, where: str, row: str, reason: str, advice: str) -> None:
        super().__init__(where, row, reason, advice)
        self.where, self.row, self.reason, self.advice = where, row, reason, advice

    def __str__(self) -> str:
        return f"{self.where}, {self.row}: {self.reason}; {self.advice}"


class SheetError(PolygeneError):
    """A match sheet or recipe that does not parse or fit; ``line`` counts from 1."""

    def __init__(self, path: object, line: int | None, reason: str) -> None:
        super().__init__(path, line, reason)
        self.path, self.line, self.reason = path, line, reason

    def __str__(self) -> str:
        place = f"{self.path}, line {self.line}" if self.line else f"{self.path}"
        return f"{place}: {self.reason}"


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


def reason_of(err: OSError) -> str:
    """Return the system's own words without number and path."""
    return (err.strerror or str(err)).lower()
