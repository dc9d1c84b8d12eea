"""Supersede: OTHER replaces INPUT wherever it lies; the rest of INPUT stays."""

from __future__ import annotations

from dataclasses import replace
from typing import Unpack

import numpy as np
import pyarrow as pa

from polygene.errors import DataError
from polygene.geometry import Family, concatenate, heights_of
from polygene.layer import Layer
from polygene.ops.attributes import free_name
from polygene.ops.overlay import How, finished, lay
from polygene.ops.summary import OverlayResult
from polygene.plane.keys import Rule
from polygene.progress import SILENT


def supersede(
    layer: Layer,
    *others: Layer,
    **how: Unpack[How],
) -> OverlayResult:
    """Return INPUT without what lies inside the OTHERs, and the OTHERs.

    Of several OTHERs the first has precedence over the second, and so on. The fields are INPUT's,
    then those that only OTHERs have; a field of one name and another type gets its layer's name in
    front. For the rest see `polygene.ops.overlay.lay`.

    Raises
    ------
    DataError
        If a layer holds no polygons.
    """
    if layer.geometry.family != Family.POLYGONS:
        raise DataError(
            f"INPUT, layer {layer.name!r}, holds {layer.geometry.family.words}; only polygons can "
            "be superseded"
        )
    told: How = {
        "precision": how.get("precision"),
        "progress": how.get("progress", SILENT),
    }
    snapped: How = {**told, "snap": how.get("snap")}
    rest = lay(layer, others, Rule.ERASE, **snapped)
    result, n_others = rest.layer, 0
    for k in reversed(range(len(others))):
        # Each but the first gives way to those before it.
        other = others[k] if k == 0 else lay(others[k], others[:k], Rule.ERASE, **told).layer
        result, n_others = _stacked(result, other), n_others + other.n_rows
    notes = list(rest.summary.notes)
    lost = set(heights_of([y.geometry for y in (layer, *others)])) - set(
        heights_of([result.geometry])
    )
    if lost:
        notes.append(f"{' and '.join(sorted(lost))} values dropped: not all layers have them")
    summary = replace(
        rest.summary,
        operation="supersede",
        out=result.n_rows,
        input_only=rest.layer.n_rows,
        other_only=n_others,
        notes=notes,
    )
    return finished(OverlayResult(result, summary), how)


def _stacked(below: Layer, above: Layer) -> Layer:
    """Return the rows of two layers, the fields brought together by name."""
    mine = {field.name.casefold(): field for field in below.table.schema}
    taken = set(mine)
    names = []
    for field in above.table.schema:
        same = mine.get(field.name.casefold())
        if same is not None and same.type == field.type:
            names.append(same.name)
        else:
            names.append(free_name(field.name, above.name, taken))
    upper = above.table.rename_columns(names) if names else above.table
    fields = {field.name: field for field in below.table.schema}
    for name, field in zip(names, above.table.schema, strict=True):
        fields.setdefault(name, field.with_name(name))
    columns = [
        pa.chunked_array(
            [
                chunk
                for source, n_rows in ((below.table, below.n_rows), (upper, above.n_rows))
                for chunk in (
                    source.column(name).chunks
                    if name in source.column_names
                    else [pa.nulls(n_rows, field.type)]
                )
            ],
            field.type,
        )
        for name, field in fields.items()
    ]
    flat = [replace(y.geometry, z=None, m=None) for y in (below, above)]
    has_heights = all((y.geometry.z is None) == (below.geometry.z is None) for y in (below, above))
    columns_of = [y.geometry for y in (below, above)] if has_heights else flat
    is_multi = any(c.is_multi or bool((np.diff(c.row_offsets) > 1).any()) for c in columns_of)
    geometry = replace(concatenate(columns_of), is_multi=is_multi)
    table = pa.table(columns, pa.schema(list(fields.values())))
    return replace(below, geometry=geometry, table=table, ids=None)
