"""An operation with what it is told, as a value: called here, or sent to where the work is done."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from dataclasses import field
from typing import Any

from polygene.classes import dataclass
from polygene.layer import Layer
from polygene.progress import Progress


@dataclass(frozen=True)
class Call:
    """``operation`` of a module of `polygene.ops`, called with layers and these arguments.

    other_as : the argument that OTHER is given as, where it is not one by its place
    """

    command: str
    module: str
    operation: str
    arguments: Mapping[str, Any] = field(default_factory=dict)
    tells_progress: bool = True
    other_as: str = ""

    def on(self, layer: Layer, *others: Layer, progress: Progress) -> Any:
        """Return what the operation makes of layers.

        Raises
        ------
        PolygeneError
            As the operation.
        """
        function = getattr(importlib.import_module(self.module), self.operation)
        more: dict[str, Any] = {"progress": progress} if self.tells_progress else {}
        if self.other_as and others:
            more[self.other_as] = others[0]
            others = ()
        return function(layer, *others, **self.arguments, **more)

    def __call__(self, layer: Layer, progress: Progress) -> Any:
        """Return what the operation makes of a layer alone."""
        return self.on(layer, progress=progress)
