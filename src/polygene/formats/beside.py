"""The lineage of a layer beside its file, where the format has no place for it inside."""

from __future__ import annotations

from pathlib import Path

from polygene import provenance
from polygene.commit.together import removing, replacing
from polygene.formats.endings import LINEAGE
from polygene.provenance import Lineage


def place_of(path: Path) -> Path:
    """Return where the lineage of a file lies: ``beds.geojson.lineage.json``."""
    return path.with_name(path.name + LINEAGE)


def write(path: Path, own: Lineage | None) -> None:
    """Write it; without one, take away what an earlier version of the file left."""
    if own is None:
        removing(place_of(path))
        return
    with replacing(place_of(path)) as temporary:
        temporary.write_text(own.to_json() + "\n", encoding="utf-8")


def read(path: Path) -> Lineage | None:
    """Return the lineage beside a file, None if there is none that can be read."""
    try:
        return provenance.parse(place_of(path).read_bytes())
    except OSError:
        return None
