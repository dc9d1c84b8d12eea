"""The attributes of an overlay's pieces: those of every layer that has a part in them."""

from __future__ import annotations

from collections.abc import Sequence, Set

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, I64Array
from polygene.layer import Layer, distinct_name, row_numbers


def joined(layers: Sequence[Layer], rows: I64Array, origins: bool = False) -> pa.Table:
    """Return the fields of all layers side by side, null where a layer has no part.

    A field whose name is taken (case does not count) gets its layer's name in front.

    Parameters
    ----------
    rows : (n_pieces, n_layers) the row of each layer, NONE for none
    origins : bool
        Add for each layer, as ``beds_origin``, the identifier of the row, or its number in its source,
        counted from 1, where it has none.
    """
    fields: list[pa.Field] = []
    columns: list[pa.ChunkedArray] = []
    all_names = joined_names(layers)
    taken = {name.casefold() for names in all_names for name in names}
    for k, (layer, names) in enumerate(zip(layers, all_names, strict=True)):
        own = rows[:, k]
        if layer.table.num_columns:
            is_all = len(own) == layer.n_rows and bool((own == np.arange(len(own))).all())
            index = row_numbers(own)
            table = layer.table if is_all else pc.take(layer.table, index)
            fields += [f.with_name(n) for f, n in zip(table.schema, names, strict=True)]
            columns += table.columns
    if origins:
        for k, layer in enumerate(layers):
            ids = layer.origins
            is_none = rows[:, k] == NONE
            own = np.zeros(len(rows), np.int64)
            own[~is_none] = ids[rows[~is_none, k]]
            name = free_name(f"{layer.name}_origin", layer.name, taken)
            fields.append(pa.field(name, pa.int64()))
            columns.append(pa.chunked_array([pc.with_nulls(own, is_none)]))
    return pa.table(columns, pa.schema(fields))


def joined_names(layers: Sequence[Layer]) -> list[list[str]]:
    """Return the names that the fields of each layer get in a joined table."""
    taken: set[str] = set()
    others = {name.casefold() for layer in layers for name in layer.table.column_names}
    return [
        [free_name(name, layer.name, taken, others) for name in layer.table.column_names]
        for layer in layers
    ]


def free_name(name: str, layer: str, taken: set[str], others: Set[str] = frozenset()) -> str:
    """Return the name, or with the layer's name in front if it is taken; then it is taken too.

    What gets the layer's name in front gets none of ``others``: names of fields that keep theirs.
    """
    chosen = name
    if name.casefold() in taken:
        chosen = distinct_name(f"{layer}_{name}", taken | others, folds=True)
    taken.add(chosen.casefold())
    return chosen
