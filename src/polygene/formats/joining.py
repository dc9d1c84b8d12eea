"""Several readings put into one layer, in their order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pyarrow as pa

from polygene import crs as crs_module
from polygene.errors import DataError
from polygene.formats.base import Reading
from polygene.geometry import concatenate
from polygene.layer import Layer


def joined(
    words: str, name: str, readings: Sequence[Reading], files: Sequence[str] = ()
) -> Reading:
    """Put what several files hold into one layer.

    Parameters
    ----------
    words : what messages call the whole; files : what they call each, the layers' names if not given

    Raises
    ------
    DataError
        If they differ in kind, CRS, or in fields that have no type in common.
    """
    layers = [layer for reading in readings for layer in reading.layers]
    names = list(files) if len(files) == len(layers) else [layer.name for layer in layers]
    first = next((layer for layer in layers if layer.n_rows), layers[0])
    called = names[layers.index(first)]
    layers = [layer.without_geometry_as(first.geometry.family) for layer in layers]
    for layer, own in zip(layers, names, strict=True):
        if layer.is_table != first.is_table:
            alone = own if layer.is_table else called
            raise DataError(f"{words}: {alone!r} has no geometry, and others have")
        if layer.geometry.family != first.geometry.family:
            kinds = f"{first.geometry.family.words} and {layer.geometry.family.words}"
            raise DataError(f"{words} holds {kinds}, which are no one layer")
        if not crs_module.is_same(layer.crs, first.crs):
            raise DataError(
                f"{words}: {called!r} is in {crs_module.label(first.crs)} and "
                f"{own!r} in {crs_module.label(layer.crs)}; merge brings them together"
            )
    column = concatenate([layer.geometry for layer in layers])
    table = _one_table(words, layers, names)
    whole = Layer(
        name,
        replace(column, is_multi=any(layer.geometry.is_multi for layer in layers)),
        table,
        first.crs,
        total=sum(layer.n_total for layer in layers),
        no_geometry=first.no_geometry,
    )
    return Reading([whole], list(dict.fromkeys(n for reading in readings for n in reading.notes)))


def _one_table(words: str, layers: Sequence[Layer], names: Sequence[str]) -> pa.Table:
    try:
        return pa.concat_tables([layer.table for layer in layers], promote_options="default")
    except pa.ArrowException as err:
        first = layers[0].table.schema
        other = next(
            (own for layer, own in zip(layers, names, strict=True) if layer.table.schema != first),
            names[-1],
        )
        raise DataError(
            f"{words}: the fields of {names[0]!r} and {other!r} differ "
            f"({str(err).splitlines()[0]}); merge reconciles them"
        ) from err
