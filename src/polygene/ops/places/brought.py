"""What comes over the bridge."""

from __future__ import annotations

import numpy as np

from polygene import proj
from polygene.arrays import F64Array
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.ops.summary import Admitted, Bridge


class Brought(NamedTuple):
    """A layer in INPUT's CRS; rows keep their places, those far from INPUT are without geometry.

    facts : None if it is in that CRS anyway
    admitted : what became of invalid polygons, in the layer's own CRS
    before, after, source : its geometry in its own CRS, all of it and what was brought, and that CRS
    """

    layer: Layer
    facts: Bridge | None = None
    admitted: Admitted | None = None
    before: GeometryColumn | None = None
    after: GeometryColumn | None = None
    source: proj.CRS | None = None

    def inside(self) -> F64Array:
        """Return (n_rows,) the share of the area or length of each row that was brought."""
        share = np.ones(self.layer.n_rows)
        if self.facts is None or self.before is None or self.after is None or not self.facts.cut:
            return share
        ruler = ruler_for(self.source)
        has = np.flatnonzero(~self.after.is_empty)
        before, after = (row_measures(c.take(has), ruler) for c in (self.before, self.after))
        share[has] = np.divide(after, before, out=np.ones(len(has)), where=before > 0)
        return share
