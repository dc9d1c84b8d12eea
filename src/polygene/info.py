"""What there is to know of a layer before it is read."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence
from dataclasses import field
from typing import TYPE_CHECKING

from polygene.classes import dataclass

if TYPE_CHECKING:
    from pyproj import CRS

NO_GEOMETRY = "none"  # what a `LayerInfo` says of a table that is no layer


def composed(names: Sequence[str]) -> list[str]:
    """Return names of fields in the form that they are typed in (Unicode's NFC), if all stay apart.

    Letters with their signs beside them, as some file systems and programs have them, look the same
    and would be other names to whoever asks for them, and in a merge.
    """
    found = [unicodedata.normalize("NFC", name) for name in names]
    return found if len(set(found)) == len(set(names)) else list(names)


@dataclass(frozen=True)
class LayerInfo:
    """What `layers` tells of a layer without reading its geometry where the format allows.

    ``geometry`` is in words (``polygon``, ``multiline ZM`` ...), ``problem`` why it can't be read.
    """

    name: str
    geometry: str
    n_rows: int
    crs: CRS | None
    extent: tuple[float, float, float, float] | None
    fields: list[tuple[str, str]] = field(default_factory=list)
    title: str = ""
    problem: str = ""

    def __post_init__(self) -> None:
        """Call fields as they are called when they are read."""
        names = composed([name for name, _ in self.fields])
        fields = [(name, kind) for name, (_, kind) in zip(names, self.fields, strict=True)]
        object.__setattr__(self, "fields", fields)
