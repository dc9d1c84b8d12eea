"""What a step made and told, kept for the next run; used again only if nobody changed it since."""

from __future__ import annotations

import hashlib
import json
from dataclasses import field
from pathlib import Path
from typing import Any

from polygene.classes import dataclass
from polygene.notes import Warned
from polygene.record import checksum

ENDING = ".told.json"


@dataclass(frozen=True)
class Told:
    """What a command told of its work: in words, and the facts that these were made of.

    facts : what ``--json`` would print, an object; empty for commands that have none
    """

    words: str
    facts: dict[str, Any] = field(default_factory=dict)

    @property
    def notes(self) -> list[str]:
        """What there is to know of it, warnings as such."""
        warnings = self.facts.get("warnings", ())
        return [Warned(n) if n in warnings else n for n in self.facts.get("notes", ())]


def keep(place: Path, told: Told) -> None:
    """Keep what was told of a result beside it.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    text = json.dumps({"words": told.words, "facts": told.facts})
    place.with_suffix(ENDING).write_text(
        json.dumps({"told": text, "mark": _mark(text, place)}), encoding="utf-8"
    )


def kept(place: Path) -> Told | None:
    """Return what was told of a result that is kept; None if there is none or it was changed."""
    beside = place.with_suffix(ENDING)
    if not (place.exists() and beside.exists()):
        return None
    try:
        found = json.loads(beside.read_text(encoding="utf-8"))
        text, mark = found["told"], found["mark"]
        if mark != _mark(text, place):
            return None
        told = json.loads(text)
        return Told(told["words"], told["facts"])
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _mark(text: str, place: Path) -> str:
    return hashlib.sha256(f"{text}\n{checksum(place)}".encode()).hexdigest()
