"""What there is to know of a layer before it is read."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from polygene.crs_names import KnownCRS

if TYPE_CHECKING:
    from pyproj import CRS

NO_GEOMETRY = "none"  # what a `LayerInfo` says of a table that is no layer


@dataclass(frozen=True)
class LayerInfo:
    """What `layers` tells of a layer without reading its geometry where the format allows.

    ``geometry`` is in words (``polygon``, ``multiline ZM`` ...), ``problem`` why it can't be read;
    ``system`` is the CRS, or what is known of it before PROJ is loaded.
    """

    name: str
    geometry: str
    n_rows: int
    system: CRS | KnownCRS | None
    extent: tuple[float, float, float, float] | None
    fields: list[tuple[str, str]] = field(default_factory=list)
    title: str = ""
    problem: str = ""

    @property
    def crs(self) -> CRS | None:
        """The CRS; None if there is none."""
        return self.system.load() if isinstance(self.system, KnownCRS) else self.system
