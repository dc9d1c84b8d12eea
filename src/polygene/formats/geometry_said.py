"""What a file states of its columns of geometry and what is not kept of it, in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from polygene.notes import Warned


def said_of(about: Mapping[str, Any], others: Sequence[str], path: Path) -> list[str]:
    """Return notes on edges along the globe, an epoch and ``others``, columns that are geometry too."""
    notes: list[str] = []
    edges = about.get("edges") or "planar"
    if edges != "planar":
        words = f"its edges follow the globe ({edges}); they are taken as straight in longitude and"
        notes.append(Warned(f"{path.name}: {words} latitude, which differs where they are long"))
    epoch = about.get("epoch")
    if epoch is not None:
        notes.append(
            Warned(f"{path.name}: its coordinates are of the epoch {epoch}, which is not kept")
        )
    if others:
        are = "is" if len(others) == 1 else "are"
        words = f"{' and '.join(others)} {are} geometry too, and taken as "
        words += "an attribute" if len(others) == 1 else "attributes"
        notes.append(Warned(f"{path.name}: {words}; a layer has one geometry"))
    return notes
