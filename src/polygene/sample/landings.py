"""What was landed from the sectors of the sound, as two harbours report it: codes as they type them."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from polygene.errors import FileError

HEAD = ("code", "harbour", "boats", "tonnes")
_HABITS = ("{:S>1}{:02d}", "{:s>1}{:02d}", "{:S>1}{:d}", " {:S>1}{:02d}")  # S03, s03, S3, " S03"


def rows() -> list[tuple[str, str, int, str]]:
    """Return the reports: sectors by one harbour or both, one that is none, one without a code."""
    found = []
    for sector in range(1, 25):
        if sector in (8, 20):  # closed to boats
            continue
        for k, harbour in enumerate(("Marram", "Kelda")):
            if k and sector % 5:
                continue
            code = _HABITS[(sector * 7 + k) % 4].format("", sector)
            boats = 1 + (sector * 5 + 3 * k) % 13
            tonnes = "" if sector == 13 else f"{boats * (1.3 + sector % 4 * 0.45):.2f}"
            found.append((code, harbour, boats, tonnes))
    return [*found, ("S31", "Kelda", 2, "4.40"), ("", "Marram", 1, "0.85")]


def write(folder: Path) -> Path:
    """Write ``landings.csv`` into a folder that is there.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows([HEAD, *rows()])
    path = folder / "landings.csv"
    try:
        path.write_text(text.getvalue(), encoding="utf-8")
    except OSError as err:
        raise FileError(f"cannot write {path}: {str(err.strerror).lower()}") from err
    return path
