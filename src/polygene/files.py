"""Reading and writing single layers from Python."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from polygene.crs import parse
from polygene.errors import DataError, UsageError
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.formats.destination import OnExisting
from polygene.layer import Layer
from polygene.ops.extents import doubt_of


def read(text: str | os.PathLike[str], crs: str | None = None) -> Layer:
    """Read the one layer that an address such as ``region.gpkg#roads``, or a path, stands for.

    ``crs`` is the one its coordinates are in if its file states none, or one that cannot be right.

    Raises
    ------
    PolygeneError
        If there is not exactly one, or it cannot be read.
    """
    text = os.fspath(text)
    layers = [layer for ref in address.resolve(text) for layer in address.read(ref).layers]
    # What is made of it from here on is not recorded, so nothing is told of how it came about.
    layers = [replace(layer, lineage=None) for layer in layers]
    if len(layers) != 1:
        names = ", ".join(layer.name for layer in layers)
        raise UsageError(f"{text!r} stands for {len(layers)} layers ({names}); name one of them")
    layer = layers[0]
    if crs is not None and (layer.crs is None or layer.doubt):
        return replace(layer, crs=parse(crs), doubt=0.0)
    doubt = doubt_of(layer)
    if doubt:
        raise DataError(doubt)
    return layer


def write(layer: Layer, out: str | os.PathLike[str], on_existing: OnExisting = "refuse") -> str:
    """Write a layer to a destination such as ``out.gpkg#roads``, or a path; return its address.

    Raises
    ------
    PolygeneError
        If it is there already (unless ``on_existing`` is "replace" or "next") or can't be written.
    """
    out = os.fspath(out)
    (target,) = destination.plan(out, [LayerRef(Path(out), layer.name)], on_existing)
    destination.write_all([(target, replace(layer, name=target.name))])
    return target.words
