"""Reading the layers that addresses stand for."""

from __future__ import annotations

from dataclasses import replace
from typing import cast

from polygene import crs as crs_module
from polygene.errors import UnknownLayerError
from polygene.formats import beside, packed
from polygene.formats.address import LayerRef
from polygene.formats.base import PartReader, Reading
from polygene.formats.joining import joined
from polygene.formats.registry import readable_format
from polygene.formats.wanted import ALL, Wanted
from polygene.layer import SLACK, Layer


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
        if source.READS_PART and wanted != ALL:
            reading = cast(PartReader, source).read(ref.path, ref.name, wanted)
        else:
            reading = source.read(ref.path, ref.name)
    if not source.KEEPS_LINEAGE:
        own = beside.read(ref.path)
        if own is not None:
            reading = Reading([replace(y, lineage=own) for y in reading.layers], reading.notes)
    reading = Reading([_doubted(y, source.NAME) for y in reading.layers], reading.notes)
    if ref.family is None:
        return reading
    chosen = [layer for layer in reading.layers if layer.geometry.family == ref.family]
    if not chosen:
        raise UnknownLayerError(
            f"{ref.name}_{ref.family.words}",
            packed.outermost(ref.path),
            [y.name for y in reading.layers],
        )
    return Reading(chosen, [])


def _doubted(layer: Layer, format_name: str) -> Layer:
    """Note on a layer if its coordinates cannot be the longitudes and latitudes that it states.

    GeoJSON has none beyond 180 (RFC 7946, section 4); others may go once more round the earth.
    """
    extent = layer.geometry.extent() if crs_module.is_geographic(layer.crs) else None
    if extent is None or layer.crs is None:
        return layer
    size = crs_module.degrees_of(layer.crs)
    x = max(abs(extent[0]), abs(extent[2])) * size
    y = max(abs(extent[1]), abs(extent[3])) * size
    furthest = 180.0 if format_name.startswith("GeoJSON") else 540.0
    is_right = x <= furthest + SLACK and y <= 90 + SLACK
    return layer if is_right else replace(layer, doubt=furthest)
