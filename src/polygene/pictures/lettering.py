"""Texts in pictures: as they are, as long as there is room for, in fonts that have their letters."""

from __future__ import annotations

import contextlib
import functools
import logging
import warnings
from collections.abc import Iterator, Set
from pathlib import Path
from typing import Any

import matplotlib
from matplotlib import font_manager
from matplotlib.figure import Figure
from matplotlib.text import Text

from polygene.notes import counted, visible

FONT = "DejaVu Sans"  # comes with Matplotlib, so pictures are the same everywhere
BOLD = 1.13  # about as many times as wide as plain letters
HINTED = 1.06  # as wide as pixels make small letters, most of them
POINTS = 72  # an inch has so many
_NO_TEXT = ("Last Resort", "cm")  # fonts of boxes for all there is, and of formulas
_LESS = 0.02  # of the width of a picture, what stays free at its right


@contextlib.contextmanager
def drawing() -> Iterator[None]:
    """Draw a picture with settings of ours: what stands between two $ is no formula.

    Letters that there are not are told by `save`, and not by Matplotlib.
    """
    own = {"svg.hashsalt": "polygene", "font.family": FONT, "text.parse_math": False}
    log = logging.getLogger("matplotlib.font_manager")
    level = log.level
    with matplotlib.rc_context(own), warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph .* missing from font")
        log.setLevel(logging.ERROR)
        try:
            yield
        finally:
            log.setLevel(level)


def save(figure: Figure, path: Path, ending: str) -> list[str]:
    """Write a picture, its kind as the ending tells; return what there is to say of its letters.

    A letter that the font has not is taken from another that is installed, if one has it.
    """
    missing = {
        letter for text in _texts(figure) for letter in text.get_text() if not _has(FONT, letter)
    }
    families, missing = _fonts_with(missing)
    if families:
        for text in _texts(figure):
            text.set_fontfamily([FONT, *families])
    metadata = {"Date": None} if ending == ".svg" else None
    figure.savefig(path, dpi=100, format=ending[1:], metadata=metadata)
    if not missing:
        return []
    shown = " ".join(sorted(missing)[:5]) + (" …" if len(missing) > 5 else "")
    return [
        f"no font that is installed has {counted(len(missing), 'letter')} of the texts ({shown}): "
        "drawn as boxes"
    ]


def width_of(text: str) -> float:
    """Return how wide a line of text is, in sizes of its type; without kerning."""
    return sum(map(_advance, text))


def lines_of(text: str, most: float) -> list[str]:
    """Return a text on lines of a width in sizes of its type; a word that is longer is cut."""
    lines: list[str] = []
    for word in visible(text, keeps=" \t\r\n").split():
        if lines and width_of(f"{lines[-1]} {word}") <= most:
            lines[-1] += f" {word}"
        else:
            lines.append(fitted(word, most))
    return lines


def fitted(text: str, most: float) -> str:
    """Return a text on one line, cut to a width in sizes of its type."""
    line = " ".join(visible(text, keeps=" \t\r\n").split())
    if width_of(line) <= most:
        return line
    room = most - _advance("…")
    for k, letter in enumerate(line):
        room -= _advance(letter)
        if room < 0:
            return f"{line[:k].rstrip()}…"
    return line


def fitted_in(figure: Figure, text: str, left: float, size: float, shade: float = 1.0) -> str:
    """Return a text cut to the room from a share of the figure's width to its right side.

    ``size`` is that of the type in points, ``shade`` by how much it is wider than plain.
    """
    return fitted(text, room_in(figure, left, size) / shade)


def room_in(figure: Figure, left: float, size: float) -> float:
    """Return the room right of a share of a figure's width, in sizes of a type given in points."""
    return float((1 - _LESS - left) * figure.get_size_inches()[0] * POINTS / size)


def _texts(figure: Figure) -> Iterator[Any]:
    return iter(figure.findobj(Text))


@functools.cache
def _face(family: str) -> Any:
    return font_manager.get_font(font_manager.findfont(family))


@functools.cache
def _has(family: str, letter: str) -> bool:
    return letter.isspace() or _face(family).get_char_index(ord(letter)) != 0


@functools.cache
def _advance(letter: str) -> float:
    """Return how far a letter leads, in sizes of its type; of one that the font has not a whole one."""
    if not _has(FONT, letter):
        return 1.0
    face = _face(FONT)
    face.set_size(POINTS, POINTS)
    return HINTED * float(face.load_char(ord(letter)).linearHoriAdvance) / 65536 / POINTS


def _fonts_with(letters: Set[str]) -> tuple[list[str], set[str]]:
    """Return installed fonts that have some letters, the fewest fonts first, and what none has."""
    missing, families = set(letters), list[str]()
    if not missing:
        return families, missing
    names = sorted({entry.name for entry in font_manager.fontManager.ttflist} - {FONT})
    names = [name for name in names if not name.startswith(_NO_TEXT)]
    while missing:
        having = {name: {own for own in missing if _has(name, own)} for name in names}
        best = max(names, key=lambda name: len(having[name]), default="")
        if not best or not having[best]:
            break
        families.append(best)
        missing -= having[best]
    return families, missing
