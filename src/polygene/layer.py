"""A layer: features as columns, with a name and a coordinate reference system."""

from __future__ import annotations

import os
import reprlib
from collections.abc import Container, Iterable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from polygene import arrow, glimpse
from polygene import computing as pc
from polygene.arrays import BoolArray, I64Array, present
from polygene.classes import NamedTuple, dataclass
from polygene.errors import DataError, TableError, UnknownFieldError, UsageError
from polygene.geometry import Family, GeometryColumn
from polygene.info import NO_GEOMETRY

if TYPE_CHECKING:
    from pyproj import CRS

    from polygene.provenance import Lineage


def row_numbers(rows: I64Array) -> pa.Array:
    """Return rows (n,) as Arrow takes them, null where there is none (NONE)."""
    assert rows.dtype == np.int64, "numbers of rows are whole"
    return pc.with_nulls(rows, rows < 0)


def check_layer(value: object, called: str) -> None:
    """Raise UsageError unless something given from Python is a layer."""
    if isinstance(value, Layer):
        return
    means = isinstance(value, (str, os.PathLike))
    hint = f"; polygene.read({reprlib.repr(value)}) gives it" if means else ""
    raise UsageError(f"{called} is a Layer, and {reprlib.repr(value)} is none{hint}")


def layers_of(given: Layer | Sequence[Layer], called: str) -> list[Layer]:
    """Return one layer or several as a list; raises UsageError if they are none."""
    if isinstance(given, (str, os.PathLike)) or not isinstance(given, Iterable):
        given = [given]  # type: ignore[list-item]
    several = list(given)
    for one in several:
        check_layer(one, called)
    return several


class Metadata(NamedTuple):
    """A text about a layer by some standard, carried along as it is."""

    standard: str
    mime_type: str
    text: str


@dataclass(frozen=True, repr=False)
class Layer:
    """Features of one family (points, lines or polygons) with their attributes.

    Attributes
    ----------
    name : str
    geometry : GeometryColumn
        n_rows geometries.
    table : pyarrow.Table
        n_rows of attributes; the width of a text field is kept as ``width`` in its metadata.
    crs : pyproj.CRS or None
        None if the source states none.
    ids : (n_rows,) int64 or None
        The features' own identifiers, distinct, where the source has such.
    title, description : str
        What the source calls the layer for people, if anything.
    rows : (n_rows,) int64 or None
        Which row of the source each is, counted from 0, where only some were chosen from it.
    total : int or None
        Features in the source if only some were chosen from it.
    lineage : Lineage or None
        How it came about, if its file tells.
    metadata : tuple of Metadata
        What else its file has to say of it.
    doubt : float
        If its coordinates cannot all be the longitudes and latitudes that its file states: the
        longitude that they may go to, in degrees. 0 if they can.
    no_geometry : str
        Why it is a table without geometry, if it is one: its geometry is nulls, and is not written.
    """

    name: str
    geometry: GeometryColumn
    table: pa.Table
    crs: CRS | None = None
    ids: I64Array | None = None
    title: str = ""
    description: str = ""
    total: int | None = None
    lineage: Lineage | None = None
    metadata: tuple[Metadata, ...] = ()
    doubt: float = 0.0
    no_geometry: str = ""
    rows: I64Array | None = None

    def __post_init__(self) -> None:
        self._take_what_is_meant()
        if self.rows is not None and len(self.rows) != self.n_rows:  # made of what had them
            object.__setattr__(self, "rows", None)
        if self.table.num_columns and self.table.num_rows != self.n_rows:
            raise DataError(
                f"layer {self.name!r} has {self.n_rows:,} geometries and {self.table.num_rows:,} rows "
                "of attributes"
            )

    def _take_what_is_meant(self) -> None:
        """Bring what people give to what is held: columns by name, a code, identifiers in a list."""
        if not isinstance(self.table, pa.Table):
            object.__setattr__(self, "table", pa.table(self.table))
        if issubclass(type(self.crs), (str, int)):  # to ask a CRS what it is takes PROJ
            from polygene.crs import parse

            code = self.crs if isinstance(self.crs, str) else f"EPSG:{self.crs}"
            object.__setattr__(self, "crs", parse(code))
        if self.ids is not None:
            if not isinstance(self.ids, np.ndarray) or self.ids.dtype != np.int64:
                own = np.array(self.ids) if len(self.ids) else np.zeros(0, np.int64)
                if own.dtype.kind not in "iu":
                    raise DataError(f"the ids of layer {self.name!r} are no whole numbers")
                object.__setattr__(self, "ids", own.astype(np.int64))
            if len(self.ids) != self.n_rows:
                raise DataError(
                    f"layer {self.name!r} has {self.n_rows:,} geometries and {len(self.ids):,} ids"
                )

    @property
    def n_rows(self) -> int:
        return self.geometry.n_rows

    @property
    def is_table(self) -> bool:
        """Whether it has no geometry at all, rather than some that is null."""
        return bool(self.no_geometry)

    @property
    def kind(self) -> str:
        """What it holds, in words: ``points``, or `NO_GEOMETRY` of a table."""
        return NO_GEOMETRY if self.is_table else self.geometry.family.words

    @property
    def n_total(self) -> int:
        """Features in the source, chosen or not."""
        return self.n_rows if self.total is None else self.total

    def check_structure(self) -> None:
        """Raise DataError if its geometry is made of arrays that do not go together."""
        fault = self.geometry.fault()
        if fault:
            raise DataError(f"the geometry of layer {self.name!r} is made wrong: {fault}")

    def check_geometry(self, what: str = "this") -> None:
        """Raise TableError if it is a table without geometry, which ``what`` works on."""
        if self.is_table:
            raise TableError(
                f"{self.name} is a table without geometry ({self.no_geometry}), and {what} works on "
                "geometry; join carries fields of a table to a layer by `key`"
            )

    def __repr__(self) -> str:
        if self.is_table:
            return glimpse.of_table(self.name, self.n_rows, self.table.column_names)
        return glimpse.in_words(self.name, self.geometry, self.table.column_names, self.crs)

    def _repr_html_(self) -> str:
        return glimpse.in_html(self.name, self.geometry, self.table.column_names, self.crs)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """Return an Arrow stream (PyCapsule protocol), the geometry of a GeoArrow type."""
        table = self.table
        if not self.is_table:
            table = arrow.table_of(self.geometry, self.table, self.crs)
        found: object = table.__arrow_c_stream__(requested_schema)
        return found

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """The layer in the shape of a GeoJSON FeatureCollection, coordinates as they are."""
        return {
            "type": "FeatureCollection",
            "features": arrow.features_of(self.geometry, self.table),
        }

    def take(self, rows: I64Array | BoolArray) -> Layer:
        """Return the chosen rows (by index, in the order given, or by mask)."""
        chosen = np.flatnonzero(rows) if rows.dtype == bool else rows.astype(np.int64)
        return self.with_geometry(self.geometry.take(chosen), chosen)

    def with_geometry(self, geometry: GeometryColumn, source_rows: I64Array) -> Layer:
        """Return a layer with new geometry whose row k has the attributes of ``source_rows[k]``.

        Identifiers and row numbers stay only if no source row comes twice.
        """
        is_all = len(source_rows) == self.n_rows and (source_rows == np.arange(self.n_rows)).all()
        if is_all:
            return replace(self, geometry=geometry)
        table = (
            pc.take(self.table, row_numbers(source_rows)) if self.table.num_columns else self.table
        )
        ids = None if self.ids is None else self.ids[source_rows]
        rows: I64Array | None = source_rows if self.rows is None else self.rows[source_rows]
        if len(present(source_rows, self.n_rows)) < len(source_rows):
            ids = rows = None
        return replace(self, geometry=geometry, table=table, ids=ids, rows=rows)

    def as_result(self) -> Layer:
        """Return the layer as one of its own, whose rows are no longer those of a source."""
        return self if self.rows is None else replace(self, rows=None)

    @property
    def numbers(self) -> I64Array:
        """(n_rows,) the number of each row in its source, counted from 1."""
        return (np.arange(self.n_rows) if self.rows is None else self.rows) + 1

    @property
    def origins(self) -> I64Array:
        """(n_rows,) what a row is told by: its own identifier, or its number where there are none."""
        return self.numbers if self.ids is None else self.ids

    def without_geometry_as(self, family: Family) -> Layer:
        """Return a layer in which no feature has a geometry as one of another family.

        Many files do not say of which they are then. One that has any is returned as it is.
        """
        is_none = bool(self.geometry.is_null.all())
        if not is_none or self.is_table or self.geometry.family == family:
            return self
        return replace(self, geometry=replace(self.geometry, family=family))

    def check_field(self, name: str) -> None:
        """Raise UnknownFieldError unless there is such a field."""
        if name not in self.table.column_names:
            raise UnknownFieldError(name, self.name, self.table.column_names)

    def row_label(self, row: int) -> str:
        """Return how messages name a row: as its source counts it, with its identifier if any."""
        number = row + 1 if self.rows is None else int(self.rows[row]) + 1
        return f"row {number}" if self.ids is None else f"row {number} (id {self.ids[row]})"


def named_apart(layers: Sequence[Layer]) -> list[Layer]:
    """Return layers with distinct names: a second zones is zones_2."""
    found: list[Layer] = []
    for layer in layers:
        name = distinct_name(layer.name, {y.name for y in found})
        found.append(layer if name == layer.name else replace(layer, name=name))
    return found


def distinct_name(name: str, taken: Container[str], folds: bool = False) -> str:
    """Return a name that is not taken: the name itself, or with the first free number, ``roads_2``.

    With ``folds`` capitals make no difference, and ``taken`` has names without any.
    """
    k, free = 1, name
    while (free.casefold() if folds else free) in taken:
        k += 1
        free = f"{name}_{k}"
    return free


def names_alike(names: Sequence[str], others: Iterable[str]) -> dict[str, str]:
    """Return for each name the one of the others that goes with it, where there is one.

    It is the same name, or the same but for capitals if that goes with no other; so each goes with one.
    """
    others = list(others)
    there = set(others)
    found = {name: name for name in names if name in there}
    free = {name.casefold(): name for name in reversed(others) if name not in found}
    for name in names:
        if name not in found and name.casefold() in free:
            found[name] = free.pop(name.casefold())
    return found


SLACK = 1e-6  # degrees that coordinates may be beyond the end by rounding
