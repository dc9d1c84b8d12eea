"""Overlays in which only rows of one key have to do with each other."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from polygene.arrays import NONE, I64Array
from polygene.classes import NamedTuple
from polygene.layer import Layer
from polygene.notes import Warned, counted
from polygene.ops.overlays.scene import Scene
from polygene.plane.members import Alike

if TYPE_CHECKING:
    from polygene.table.keys import Key


class LayerKeys(NamedTuple):
    """Numbers for keys: ``own`` (rows of INPUT, OTHERs), ``others`` (rows,) of each OTHER."""

    own: I64Array
    others: list[I64Array]

    def of_all(self, scene: Scene) -> Alike:
        """Return the keys of all rows of INPUT, and of what has entered of the OTHERs."""
        starts = scene.other_starts
        rows = [scene.other_rows[a:b] for a, b in zip(starts[:-1], starts[1:], strict=True)]
        entered = [codes[r] for codes, r in zip(self.others, rows, strict=True)]
        return Alike(self.own, np.concatenate(entered), starts)

    def in_plan(self, scene: Scene) -> Alike:
        """Return the keys of what has entered the plane."""
        return self.of_all(scene)._replace(own=self.own[scene.own_rows])

    def agree(self, k: int, own_row: int, other_row: int) -> bool:
        """Whether a row of INPUT and one of the k-th OTHER have one key."""
        code = self.own[own_row, k]
        return bool(code != NONE and code == self.others[k][other_row])

    def said(self, layer: Layer, others: Sequence[Layer]) -> list[str]:
        """Say how many features of INPUT find their key in each OTHER."""
        notes = []
        for k, other in enumerate(others):
            is_there = np.isin(self.own[:, k], self.others[k][self.others[k] != NONE])
            n = int((is_there & (self.own[:, k] != NONE)).sum())
            words = f"{counted(n, 'feature')} of {layer.n_rows:,} find their key in {other.name}"
            notes.append(f"{layer.name}: {words}" if n else Warned(f"{layer.name}: {words}"))
        return notes


def keys_of(layer: Layer, others: Sequence[Layer], match: Sequence[Key]) -> LayerKeys | None:
    """Number the keys of an overlay's layers; None if it matches none.

    Raises
    ------
    ExpressionError
        If a field is unknown, or two sides cannot be compared.
    """
    if not match:
        return None
    from polygene.table.keys import coded  # with all that expressions need

    found = [coded(layer, other, match) for other in others]
    return LayerKeys(np.stack([c.mine for c in found], axis=1), [c.theirs for c in found])
