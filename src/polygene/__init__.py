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
    "crossings": "polygene.ops.crossings",
    "single_parts": "polygene.ops.parts",
    "read": "polygene.files",
    "write": "polygene.files",
    "as_layer": "polygene.files",
    # The commands: most are the operation of their name, some work on files.
    **{name: f"polygene.ops.{name}" for name in COMMANDS},
    **dict.fromkeys(("layers", "check", "convert", "lineage"), "polygene.files"),
    "find": "polygene.finding",
    "draw": "polygene.pictures.drawing",
    "page": "polygene.pages.making",
    "run": "polygene.cli.recipes",
}
del _PUBLIC["demo"], _PUBLIC["serve"]
# Operations whose results say how they came about.
_TRACED = {place for place in _PUBLIC.values() if place.startswith("polygene.ops.")}

__all__ = ["__version__", *_PUBLIC]


def __getattr__(name: str) -> Any:
    if name not in _PUBLIC:
        raise AttributeError(f"module 'polygene' has no attribute {name!r}")
    found = getattr(importlib.import_module(_PUBLIC[name]), name)
    if _PUBLIC[name] in _TRACED:
        from polygene.record import traced

        found = traced(name, found)
    globals()[name] = found  # asked for again, it is at hand
    return found


def __dir__() -> list[str]:
    return sorted(__all__)
