"""What each overlay and relation of two layers would yield, so that one chooses by the result."""

from __future__ import annotations

import importlib
import time
from dataclasses import field

from polygene.classes import dataclass
from polygene.commands import COMMANDS
from polygene.errors import PolygeneError, UsageError
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.ops.ground import SIZES, stretched
from polygene.ops.places.by_place import relation_counts
from polygene.ops.summary import Admitted, Bridge, OverlaySummary, unit_of
from polygene.progress import SILENT, Progress


@dataclass(frozen=True)
class Yielded:
    """What one overlay would yield.

    size : its area, length or number of points, in `unit`
    refused : why it has no meaning for these layers; empty if it has
    """

    command: str
    does: str
    features: int = 0
    size: float = 0.0
    unit: str = ""
    fields: int = 0
    seconds: float = 0.0
    refused: str = ""


@dataclass(frozen=True)
class Asking:
    """Two layers, what each overlay of them yields, and how many features each relation selects.

    What became of them before, as all or most of them took part: ``admitted``, the invalid ones by
    layer; ``brought``, those from another CRS; ``without_geometry``, of INPUT.
    """

    input: str
    features: int
    other: str
    other_features: int
    overlays: list[Yielded]
    relations: dict[str, int]
    notes: list[str] = field(default_factory=list)
    admitted: dict[str, Admitted] = field(default_factory=dict)
    brought: list[Bridge] = field(default_factory=list)
    without_geometry: int = 0


def ask(layer: Layer, other: Layer, *, progress: Progress = SILENT) -> Asking:
    """Do every overlay of two layers, and count what each relation selects; nothing is kept.

    Raises
    ------
    UsageError, DataError
        If not even the relations have a meaning, as without features.
    """
    overlays: list[Yielded] = []
    summaries: dict[str, OverlaySummary | None] = {}
    for name, command in COMMANDS.items():
        if command.overlay is not None:
            progress.stage(f"trying {name}")
            tried, summaries[name] = _tried(name, layer, other)
            overlays.append(tried)
    # All of both take part in a union.
    most = summaries["union"] or next(filter(None, summaries.values()), None)
    progress.stage("counting relations")
    counted = relation_counts(layer, other)
    return Asking(
        input=layer.name,
        features=layer.n_rows,
        other=other.name,
        other_features=other.n_rows,
        overlays=overlays,
        relations={name: int(mask.sum()) for name, mask in counted.selected.items()},
        notes=stretched(layer, SIZES[layer.geometry.family]),
        admitted={side.name: side.admitted for side in (most.input, *most.others)} if most else {},
        brought=most.brought if most else [],
        without_geometry=most.without_geometry if most else 0,
    )


def _tried(name: str, layer: Layer, other: Layer) -> tuple[Yielded, OverlaySummary | None]:
    """Return what an overlay yields, and what it says of itself."""
    operation = getattr(importlib.import_module(f"polygene.ops.{name}"), name)
    began = time.monotonic()
    does = COMMANDS[name].what
    try:
        result = operation(layer, other)
    except PolygeneError as err:
        reason = str(err) if isinstance(err, UsageError) else str(err).splitlines()[0]
        return Yielded(name, does, refused=reason), None
    seconds = time.monotonic() - began
    found: Layer = result.layer
    ruler = ruler_for(found.crs)
    sizes = row_measures(found.geometry, ruler)
    yielded = Yielded(
        command=name,
        does=does,
        features=found.n_rows,
        size=float(sizes.sum()),
        unit=unit_of(found.geometry.family, ruler),
        fields=found.table.num_columns,
        seconds=seconds,
    )
    return yielded, result.summary
