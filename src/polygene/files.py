"""Working on files from Python: read and write layers, and look at what is in them."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from polygene import record
from polygene.crs import label, parse
from polygene.errors import DataError, UsageError, check_choice
from polygene.formats import address, addressed, destination, once, packed
from polygene.formats.address import LayerRef, files_of, members
from polygene.formats.arrow_tables import layers_from
from polygene.formats.clauses import Judged, judged
from polygene.formats.codepages import texts_written_in
from polygene.formats.destination import OnExisting, Target
from polygene.formats.registry import readable_format
from polygene.formats.sheets import tables_laid_out
from polygene.formats.wishes import IF_CHANGED, written_so
from polygene.info import LayerInfo
from polygene.layer import Layer, check_layer
from polygene.longitudes import doubted
from polygene.notes import Lost, Warned
from polygene.ops.places.extents import doubt_of
from polygene.ops.summary import CopyResult, CopySummary
from polygene.provenance import Node, history
from polygene.writing import placed
from polygene.written import remark

Path_ = str | os.PathLike[str]


def read(
    text: Path_, crs: str | None = None, *, encoding: str = "", sheet: str = "", header: int = 0
) -> Layer:
    """Read the one layer that an address such as ``region.gpkg#roads``, or a path, stands for.

    ``crs`` is the one its coordinates are in if its file states none, or one that cannot be right;
    ``encoding`` says how the texts of a Shapefile or table are written, ``sheet`` which one of a
    workbook is meant, ``header`` in which row, counted from 1, its or a CSV file's names of fields are.
    What has no geometry is a layer all the same, for what works on fields: see `Layer.is_table`. What
    is lost or guessed in reading is warned of.

    Raises
    ------
    PolygeneError
        If there is not exactly one, or it cannot be read.
    """
    text = os.fspath(text)
    noted = record.Record("read", {})
    with texts_written_in(encoding), tables_laid_out(sheet, header), once.a_run():
        readings = [(ref, addressed.read(ref)) for ref in address.resolve(text)]
        found = [y for ref, one in readings for y in noted.note(ref, one, record.INPUT)]
    if len(found) != 1:
        names = ", ".join(layer.name for layer in found)
        raise UsageError(f"{text!r} stands for {len(found)} layers ({names}); name one of them")
    _warn(*(note for _, one in readings for note in one.notes))
    layer = found[0]
    if crs is not None and (layer.crs is None or layer.doubt):
        layer = doubted(replace(layer, crs=parse(crs), doubt=0.0))
    return _not_doubted(layer)


def _warn(*notes: str) -> None:
    for note in notes:
        if isinstance(note, Warned):
            remark(note, 4)  # where one of ours was called


def _not_doubted(layer: Layer) -> Layer:
    doubt = doubt_of(layer)
    if doubt:
        raise DataError(doubt)
    return layer


def as_layer(data: Any, name: str = "layer", crs: str | None = None) -> Layer:
    """Return any Arrow data as a layer: a table, a stream, a data frame that gives one, a Layer.

    Taken is what has `__arrow_c_stream__`. Geometry is the column of a GeoArrow type, else one of WKB
    with a usual name; ``crs`` is the CRS if the data state none.

    Raises
    ------
    UsageError
        If it is no Arrow data.
    PolygeneError
        If it has no geometry, or of several families.
    """
    if isinstance(data, Layer):
        return data
    try:
        table = data if isinstance(data, pa.Table) else pa.table(data)
    except (TypeError, ValueError, pa.ArrowException) as err:
        raise UsageError(
            f"a {type(data).__name__} is no Arrow data: it must have __arrow_c_stream__ ({err})"
        ) from err
    reading = layers_from(table, Path(name))
    found = reading.layers
    if len(found) != 1:
        names = ", ".join(layer.name for layer in found)
        raise UsageError(f"{name} has geometry of several families ({names}); take one of them")
    _warn(*reading.notes)
    layer = replace(found[0], name=name)
    if crs is not None and layer.crs is None:
        layer = replace(layer, crs=parse(crs))
    return _not_doubted(doubted(layer))


def write(
    layer: Layer,
    out: Path_,
    on_existing: OnExisting = "refuse",
    *,
    raw: bool = False,
    proof: bool = True,
    if_changed: str = "note",
) -> str:
    """Write a layer to a destination such as ``out.gpkg#roads``, or a path; return its address.

    Without a name it is called like the file. A destination may name fields, as in
    ``by_district/{district}.gpkg``: a layer for each value, and the destination is returned as it is.

    With ``raw``, text in CSV that a spreadsheet would run stays as it is. What is written is read again
    and compared before it takes its place, unless ``proof`` is False. What the format cannot hold is
    warned of; with ``if_changed`` "refuse" nothing is written if it holds anything otherwise.

    Raises
    ------
    PolygeneError
        If it is there already (unless ``on_existing`` is "replace" or "next") or can't be written.
    """
    check_choice("if_changed", if_changed, IF_CHANGED)
    check_layer(layer, "what is written")
    layer.check_structure()
    with written_so(proof, if_changed, raw):
        results, notes = _written(layer, out, on_existing)
    _warn(*(note for note in notes if isinstance(note, Lost)))
    return results[0][0].words if len(results) == 1 else os.fspath(out)


def _written(
    layer: Layer, out: Path_, on_existing: OnExisting
) -> tuple[list[tuple[Target, Layer]], list[str]]:
    """Write a layer; return where and as what, and what there is to say about it."""
    out = os.fspath(out)
    (planned,) = placed([(LayerRef(Path(out), layer.name), layer)], out, on_existing)
    results = []
    for target, part in planned:
        named = replace(part, name=target.name)
        if named.lineage is not None:
            named = replace(named, lineage=record.written_to(named, target.words))
        results.append((target, named))
    return results, destination.write_all(results)


def convert(layer: Layer, out: Path_, on_existing: OnExisting = "refuse") -> CopyResult:
    """Write a layer in the format that the ending of a destination says; see `write`.

    What a format cannot hold is told in the summary's notes.

    Raises
    ------
    PolygeneError
        As for `write`.
    """
    results, notes = _written(layer, out, on_existing)
    if len(results) == 1:
        ((_, layer),) = results
    n_fields = layer.table.num_columns
    summary = CopySummary(layer.name, layer.kind, layer.n_rows, n_fields, label(layer.crs), notes)
    return CopyResult(layer, summary)


def layers(*files: Path_) -> dict[str, list[LayerInfo]]:
    """Return what is in files, folders or patterns: the layers of each file, by its path.

    Raises
    ------
    PolygeneError
        If one is not there, or cannot be read.
    """
    found = {}
    for text in files:
        for path in files_of(os.fspath(text)):
            with packed.own_names():
                for file in members(path):
                    found[packed.shown(file)] = readable_format(file).list_layers(file)
    return found


def check(*files: Path_) -> dict[str, Judged]:
    """Hold files, folders or patterns to the standards of their formats; what was found, by path.

    Raises
    ------
    PolygeneError
        If one is not there, or of no format that is known.
    """
    found = {}
    for text in files:
        for path in files_of(os.fspath(text)):
            with packed.own_names():
                for file in members(path):
                    found[packed.shown(file)] = judged(file)
    return found


def lineage(layer: Layer) -> Node:
    """Return how a layer came about: the command with its options and what it was made of, each so.

    Raises
    ------
    DataError
        If nothing is known of it.
    """
    if layer.lineage is None:
        raise DataError(f"nothing is known of how layer {layer.name!r} came about")
    return history(layer.lineage)
