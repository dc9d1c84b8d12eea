"""Polygene derives new vector layers from old ones: exactly, and saying plainly what it did.

From Python::

    import polygene
    roads = polygene.read("region.gpkg#roads")
    park = polygene.read("region.gpkg#park")
    result = polygene.clip(roads, park)
    polygene.write(result.layer, "out.gpkg#park_roads")
"""

from __future__ import annotations

import importlib
from typing import Any

from polygene.commands import COMMANDS

__version__ = "0.1.0"

# Loaded when first asked for, so that importing the package costs next to nothing.
_PUBLIC = {
    "Layer": "polygene.layer",
    "GeometryColumn": "polygene.geometry",
    "Family": "polygene.geometry",
    "Expression": "polygene.table.expression",
    "PolygeneError": "polygene.errors",
    "audit": "polygene.ops.audit",
    "buffer": "polygene.ops.buffer",
    "compare": "polygene.ops.compare",
    "crossings": "polygene.ops.crossings",
    "dissolve": "polygene.ops.dissolve",
    "fields": "polygene.ops.fields",
    "hull": "polygene.ops.hull",
    "measure": "polygene.ops.measure",
    "join": "polygene.ops.join",
    "mend": "polygene.ops.mend",
    "merge": "polygene.ops.merge",
    "subset": "polygene.ops.subset",
    "tally": "polygene.ops.tally",
    "where": "polygene.ops.subset",
    "single_parts": "polygene.ops.parts",
    **{name: f"polygene.ops.{name}" for name, c in COMMANDS.items() if c.overlay is not None},
    "read": "polygene.files",
    "write": "polygene.files",
}

__all__ = ["__version__", *_PUBLIC]


def __getattr__(name: str) -> Any:
    if name not in _PUBLIC:
        raise AttributeError(f"module 'polygene' has no attribute {name!r}")
    return getattr(importlib.import_module(_PUBLIC[name]), name)


def __dir__() -> list[str]:
    return sorted(__all__)
