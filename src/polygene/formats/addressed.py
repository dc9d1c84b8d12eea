"""Reading the layers that addresses stand for."""

from __future__ import annotations

import functools
from dataclasses import replace
from typing import cast

from polygene.crs_coded import definition_with
from polygene.errors import UnknownLayerError, listed
from polygene.formats import beside, origins, packed
from polygene.formats.address import LayerRef
from polygene.formats.base import Format, PartReader, Reading
from polygene.formats.joining import joined
from polygene.formats.registry import readable_format
from polygene.formats.resting import at_rest, state_of
from polygene.formats.wanted import ALL, Wanted
from polygene.info import composed
from polygene.layer import Layer
from polygene.longitudes import NOT_BEYOND, ROUND_AGAIN, doubted

OF_PIECES = frozenset({"Shapefile", "FlatGeobuf", "a folder of GeoParquet"})


def read(ref: LayerRef, wanted: Wanted = ALL) -> Reading:
    """Read a layer; several come back if its geometry has mixed dimensions.

    Features that are not wanted are left out where the format makes that cheap.
    """
    if ref.family is not None:  # of which family a row is its geometry tells
        wanted = replace(wanted, only=None)
    if ref.pieces:
        return joined(ref.words, ref.name, [read(piece, wanted) for piece in ref.pieces])
    with packed.own_names():
        source = readable_format(ref.path)
        taken = functools.partial(_taken, source, ref, wanted)
        if origins.origin_of(ref.path) is not None:  # what was fetched stays as it is
            reading, state = taken(), None
        elif source.NAME == "GeoPackage":  # a database reads one state of its own accord
            state = state_of(ref.path)
            reading = taken()
        else:
            reading, state = at_rest(ref.path, taken, source.NAME in OF_PIECES)
    furthest = NOT_BEYOND if source.NAME.startswith("GeoJSON") else ROUND_AGAIN
    notes = list(reading.notes)
    layers = [_composed(doubted(layer, furthest), notes) for layer in reading.layers]
    for layer in layers:
        if definition_with(layer.crs):
            from polygene.formats.stated_twice import contradicted

            notes += contradicted(layer)
    reading = Reading(layers, notes, state)
    if ref.family is None:
        return reading
    chosen = [layer for layer in reading.layers if layer.geometry.family == ref.family]
    if not chosen:
        raise UnknownLayerError(
            f"{ref.name}_{ref.family.words}",
            packed.outermost(ref.path),
            [y.name for y in reading.layers],
        )
    return Reading(chosen, [], state)


def _taken(source: Format, ref: LayerRef, wanted: Wanted) -> Reading:
    """Read a layer with the reader of its format, and its lineage, which may lie beside it."""
    if source.READS_PART and wanted != ALL:
        reading = cast(PartReader, source).read(ref.path, ref.name, wanted)
    else:
        reading = source.read(ref.path, ref.name)
    own = None if source.KEEPS_LINEAGE else beside.read(ref.path)
    if own is None:
        return reading
    return Reading([replace(y, lineage=own) for y in reading.layers], reading.notes)


def _composed(layer: Layer, notes: list[str]) -> Layer:
    names = layer.table.column_names
    new = composed(names)
    if new == names:
        return layer
    which = [own for own, old in zip(new, names, strict=True) if own != old]
    notes.append(f"{layer.name}: field {listed(which, 5)}: signs put together with their letters")
    return replace(layer, table=layer.table.rename_columns(new))
