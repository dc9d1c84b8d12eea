"""A layer that tasks read from: a folder of parts with its index, and what is true of all of it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, F64Array, I64Array, distinct, spans
from polygene.classes import dataclass
from polygene.errors import DataError, FileError
from polygene.formats import geoparquet
from polygene.formats.base import Reading
from polygene.formats.joining import joined
from polygene.formats.parquet_parts.index import Groups, Index
from polygene.geometry import Extent, GeometryColumn, concatenate
from polygene.layer import Layer
from polygene.ops.summary import Side

# Columns of a copy that say which row of its source each is, and the identifier it had there.
NUMBER, IDENTIFIER = "polygene:number", "polygene:identifier"


@dataclass(frozen=True)
class Source:
    """A folder of parts.

    words : the address it was given by; like : the layer without rows, with name, CRS and fields
    total : features there were before a filter
    stamps : size and time of change of each part when the work was planned
    is_copy : whether it is a copy made for this run, with the columns `NUMBER` and `IDENTIFIER`
    """

    folder: Path
    index: Index
    words: str
    like: Layer
    total: int
    is_copy: bool = False
    stamps: tuple[tuple[int, int], ...] = ()

    @property
    def n_rows(self) -> int:
        return self.index.n_rows

    @property
    def extent(self) -> Extent | None:
        return self.index.extent

    def groups(self) -> Groups:
        return Groups.of(self.index)

    def boxes(self, groups: I64Array) -> F64Array:
        """Return the boxes (n, 4) of the rows of some groups, numbered through all parts."""
        every = self.groups()
        found = [np.zeros((0, 4))]
        for part, own in _by_part(every, groups):
            found.append(geoparquet.boxes_of(self._file(part), own))
        return np.concatenate(found)

    def numbers(self, groups: I64Array) -> I64Array:
        """Return the numbers of the rows of some groups (rising), as the source counts them."""
        every = self.groups()
        if not self.is_copy:
            return spans(every.first[:-1][groups], np.diff(every.first)[groups])
        found = [np.zeros(0, np.int64)]
        for part, own in _by_part(every, groups):
            found.append(geoparquet.column_of(self._file(part), own, NUMBER))
        return np.concatenate(found)

    def merged(self, layer: Layer, more: Layer) -> Layer:
        """Return rows of two layers of this source as one, in its order."""
        column = concatenate([layer.geometry, more.geometry])
        column = replace(column, is_multi=layer.geometry.is_multi or more.geometry.is_multi)
        table = pa.concat_tables([layer.table, more.table])
        rows = np.concatenate([layer.numbers, more.numbers]) - 1
        ids = None if layer.ids is None or more.ids is None else np.append(layer.ids, more.ids)
        whole = replace(layer, geometry=column, table=table, ids=ids, rows=rows)
        return whole.take(np.argsort(rows, kind="stable"))

    def rows(self, groups: I64Array, keeps: BoolArray | None = None) -> Layer:
        """Return the rows of some groups (rising), those that ``keeps`` marks, as the source has them.

        They are in its order, and `Layer.rows` are their numbers there.

        Raises
        ------
        FileError
            If a part cannot be read, or is not the one that it was.
        """
        every = self.groups()
        readings, numbers, done = [], [np.zeros(0, np.int64)], 0
        for part, own in _by_part(every, groups):
            self._check(part)
            which = groups[every.part[groups] == part]
            first, counts = every.first[:-1][which], np.diff(every.first)[which]
            own_numbers = spans(first, counts)
            mask = None if keeps is None else keeps[done : done + len(own_numbers)]
            done += len(own_numbers)
            if mask is not None and not mask.any():
                continue
            layer, _ = geoparquet.rows_of(self._file(part), own, mask)
            readings.append(Reading([layer], []))
            numbers.append(own_numbers if mask is None else own_numbers[mask])
        if not readings:
            return self.like
        layer = joined(self.words, self.like.name, readings).layers[0]
        return self._as_source(layer, np.concatenate(numbers))

    def _as_source(self, layer: Layer, numbers: I64Array) -> Layer:
        """Return rows as the source has them: its numbers, identifiers, order and kind."""
        table, ids = layer.table, None
        if self.is_copy:
            numbers = np.asarray(table.column(NUMBER))
            if IDENTIFIER in table.column_names:
                ids = np.asarray(table.column(IDENTIFIER))
            table = table.drop_columns([n for n in (NUMBER, IDENTIFIER) if n in table.column_names])
        table = table.cast(self.like.table.schema) if table.num_columns else table
        column = self._as_whole(layer.geometry)
        found = replace(self.like, geometry=column, table=table, ids=ids, rows=numbers, total=None)
        if (np.diff(numbers) > 0).all():
            return found
        return found.take(np.argsort(numbers, kind="stable"))

    def _as_whole(self, column: GeometryColumn) -> GeometryColumn:
        """Return geometry as a part of the layer: with several parts and heights where any has them."""
        if not column.n_rows:
            column = replace(column, family=self.like.geometry.family)
        return column.of_kind(self.index.is_multi, self.index.heights)

    def _file(self, part: int) -> Path:
        return self.folder / self.index.parts[part].file

    def _check(self, part: int) -> None:
        """Refuse a part that was changed since the work was planned."""
        place = self._file(part)
        try:
            found = place.stat()
        except OSError as err:
            raise FileError(f"{place} is gone, and the work was planned with it") from err
        if self.stamps and (found.st_size, found.st_mtime_ns) != self.stamps[part]:
            raise FileError(
                f"{place} was changed while it was worked on; start again when it rests"
            )


def _by_part(every: Groups, groups: I64Array) -> list[tuple[int, list[int]]]:
    """Return the groups of each part, by their numbers within it."""
    found = []
    for part in distinct(every.part[groups]).tolist():
        own = groups[every.part[groups] == part]
        found.append((part, every.number[own].tolist()))
    return found


def numbered(layer: Layer, first: int) -> Layer:
    """Return a layer with columns that say which rows of its source its rows are.

    ``first`` is the number of its first row there, if it does not know them itself.
    """
    rows = layer.rows if layer.rows is not None else np.arange(first, first + layer.n_rows)
    columns, fields = list(layer.table.columns), list(layer.table.schema)
    for name in (NUMBER, IDENTIFIER):
        if name in layer.table.column_names:
            raise DataError(f"layer {layer.name!r} has a field {name!r}; rename it first")
    columns.append(pa.chunked_array([pc.column(rows)]))
    fields.append(pa.field(NUMBER, pa.int64()))
    if layer.ids is not None:
        columns.append(pa.chunked_array([pc.column(layer.ids)]))
        fields.append(pa.field(IDENTIFIER, pa.int64()))
    table = pa.table(columns, pa.schema(fields))
    return replace(layer, table=table, ids=None, rows=None)


def side_of_all(side: Side, source: Source) -> Side:
    """Return what tasks tell of a layer together, with its rows counted once."""
    taken = source.n_rows - side.admitted.left_out.count
    return replace(side, total=source.total, taken=taken)
