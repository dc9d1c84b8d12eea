"""Which features of a layer a reader is asked for, so that it can leave the others in the file."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from polygene.arrays import BoolArray
from polygene.classes import dataclass
from polygene.errors import ExpressionError
from polygene.geometry import Extent, Family, GeometryColumn
from polygene.layer import Layer
from polygene.longitudes import everywhere

if TYPE_CHECKING:
    from pyproj import CRS

    from polygene.table.expression import Expression


@dataclass(frozen=True)
class Wanted:
    """Features by place and by attributes; whoever asked looks again at what comes back.

    So a reader may give back more: it takes what its format can leave out cheaply, and says in
    ``Layer.total`` how many features there are.

    Attributes
    ----------
    box : (x, y minimum, x, y maximum), optional
        Features whose own box may meet it, in units of the layer's CRS, in whichever turn round the
        earth; see `boxes`.
    where : Expression, optional
        Features for which it may be true.
    only : callable, optional
        Of all fields that there are it returns those that are looked at, geometry not being; or None if
        more is. Then a reader may leave the other fields in the file, and the geometry where the file
        states of what family it is: it is null then. Not with ``box``.
    span : (first, stop), optional
        Just these rows, as the file counts them. Only what `PORTIONED` names takes it; the others
        give back all.
    types : mapping of field to Arrow type
        Types that fields have in all of the file, where they may look like others in these rows.
        Only a format that does not hold fields to their types heeds it, and for unsigned numbers those
        of which portions are read: they are text in all of it, if one is beyond 64 bits.
    family : Family, optional
        What all of the file has, where these rows may have no geometry. Likewise.
    """

    box: Extent | None = None
    where: Expression | None = None
    span: tuple[int, int] | None = None
    only: Callable[[Sequence[str]], Iterable[str] | None] | None = None
    types: Mapping[str, pa.DataType] = field(default_factory=dict)
    family: Family | None = None

    def boxes(self, crs: CRS | None) -> list[Extent]:
        """Return the boxes of which one is to be met in a layer's CRS; none if all of it is wanted."""
        return [] if self.box is None else everywhere(self.box, crs)

    def looked_at(self, names: Sequence[str]) -> list[str] | None:
        """Return of all fields those that are looked at, in their order; None for all, and geometry."""
        found = None if self.only is None or self.box is not None else self.only(names)
        if found is None or (self.where is not None and not self.fields(names)):
            return None
        chosen = {*found, *self.fields(names)}
        return [name for name in names if name in chosen] if chosen <= set(names) else None

    def fields(self, names: Sequence[str]) -> list[str]:
        """Return the fields to read first to know which rows are wanted; none if that won't do.

        It won't where the expression looks at geometry, or names fields that are not there.
        """
        if self.where is None or self.where.looks_at_geometry:
            return []
        fields = self.where.fields
        return fields if set(fields) <= set(names) else []

    def rows(self, table: pa.Table) -> BoolArray:
        """Return which rows (n,) of a table with those fields are wanted.

        All of them if the expression does not fit: then it will say so where all is known.
        """
        assert self.where is not None
        n_rows = table.num_rows
        nowhere = GeometryColumn.from_points(np.zeros((n_rows, 2)))
        try:
            found = self.where.truth(Layer("", nowhere, table))
        except ExpressionError:
            return np.ones(n_rows, bool)
        # What has no result is counted by whoever asked.
        return np.ones(n_rows, bool) if found.lost else found.rows


ALL = Wanted()
LOOSE = frozenset({"GeoPackage"})  # formats that do not hold the values of a field to its type
PORTIONED = frozenset(
    {"GeoPackage", "GeoParquet", "FlatGeobuf"}
)  # formats of which some rows can be read
