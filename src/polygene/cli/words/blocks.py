"""Words before they are laid out: headings, labelled lines, tables, and notes to know."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field

from polygene.classes import NamedTuple, dataclass


class Title(NamedTuple):
    """A heading: the thing, and what is said of it behind."""

    text: str
    rest: str = ""


class Line(NamedTuple):
    """A labelled line; the label has so many columns."""

    label: str
    text: str
    wide: int = 10


class Table(NamedTuple):
    """Columns under their heads.

    right : columns of numbers; flexible : those that may be cut to fit the width, the first first
    has_total : whether the last row stands out
    """

    head: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: Sequence[int] = ()
    flexible: Sequence[int] = ()
    has_total: bool = False


class Gap(NamedTuple):
    """An empty line."""


class Fields(NamedTuple):
    """Rows with more fields than there may be room for, so that those which do not fit are named.

    last : a field that is shown in any case; numeric : those of numbers
    """

    names: Sequence[str]
    cells: Mapping[str, Sequence[str]]
    numeric: frozenset[str]
    last: str | None = None


class Story(NamedTuple):
    """A table whose second column is as wide as the rest leaves it and goes on below."""

    head: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: Sequence[int] = ()


class Typed(NamedTuple):
    """A command as one types it, never wrapped."""

    text: str


Block = Title | Line | Table | Gap | Fields | Story | Typed


@dataclass
class Words:
    """What is told of one work: blocks in their order, then notes, each but once.

    layers : the INPUTs, where there are several: what is said alike of them is gathered
    """

    blocks: list[Block] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    layers: list[str] = field(default_factory=list)

    def title(self, text: str, rest: str = "") -> None:
        self.blocks.append(Title(text, rest))

    def line(self, label: str, text: str, wide: int = 10) -> None:
        self.blocks.append(Line(label, text, wide))

    def table(
        self,
        head: Sequence[str],
        rows: Sequence[Sequence[str]],
        *,
        right: Sequence[int] = (),
        flexible: Sequence[int] = (),
        has_total: bool = False,
    ) -> None:
        self.blocks.append(Table(head, rows, right, flexible, has_total))

    def typed(self, text: str) -> None:
        self.blocks.append(Typed(text))

    def gap(self) -> None:
        self.blocks.append(Gap())

    def note(self, *texts: str) -> None:
        self.note_all(texts)

    def note_all(self, texts: Iterable[str]) -> None:
        self.notes = list(dict.fromkeys([*self.notes, *texts]))
