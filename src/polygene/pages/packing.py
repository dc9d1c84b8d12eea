"""Layers as a page carries them: geometry as whole numbers, fields as columns, looks and facts."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array
from polygene.crs import label
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.pages.blocks import Blocks
from polygene.pages.ground import Ground
from polygene.pictures.looks import Dressed
from polygene.places import inside_points
from polygene.provenance import Node, described, history
from polygene.table.casting import as_text
from polygene.table.describe import describe
from polygene.table.telling import held
from polygene.table.types import is_blob, kind_of, type_words
from polygene.winding import turned

LARGEST = 2**53  # whole numbers that a browser holds exactly


def packed(
    own: Dressed, source: Layer, ground: Ground, blocks: Blocks, side: str
) -> dict[str, Any]:
    """Pack a layer; return what the page's script is told of it.

    ``source`` is the layer as it was read, ``own`` as it is shown.
    """
    layer = own.layer
    names = layer.table.column_names
    found: dict[str, Any] = {
        "name": layer.name,
        "n": layer.n_rows,
        "family": "none" if layer.is_table else layer.geometry.family.words,
        "side": side,
        "fields": [
            _field(field, layer.table.column(k), blocks)
            for k, field in enumerate(layer.table.schema)
        ],
        "packed": None if layer.is_table else _geometry(own, ground, blocks),
        "away": np.flatnonzero(layer.geometry.is_empty & ~source.geometry.is_empty).tolist(),
        "numbers": None if layer.rows is None else blocks.add_counts(layer.rows + 1),
        "look": _look(own, ground.step),
        "classes": _classes(own),
        "labelled": None if own.label is None or layer.is_table else names.index(own.label),
        "facts": _facts(source),
        "described": [
            {"name": f.name, "type": f.type, "nulls": f.nulls, "holds": held(f)}
            for f in describe(source.table)
        ],
        "lineage": [] if source.lineage is None else _told(history(source.lineage), "", 0),
    }
    return found


def _geometry(own: Dressed, ground: Ground, blocks: Blocks) -> dict[str, Any]:
    """Pack the vertices in steps, rings without the vertex that closes them."""
    layer = own.layer
    column = turned(layer.geometry, outer_is_counter_clockwise=True)
    xy = ground.packed(column.xy)
    counts = np.diff(column.ring_offsets)
    if column.family == Family.POLYGONS:
        keeps = np.ones(len(xy), bool)
        keeps[column.ring_offsets[1:][counts > 0] - 1] = False
        xy, counts = xy[keeps], counts - (counts > 0)
    parts = np.diff(column.row_offsets) + 1
    parts[column.is_null] = 0
    spots = None
    if own.label is not None:
        inside = inside_points(column)
        at = ground.packed(np.where(np.isfinite(inside), inside, ground.origin))
        spots = [blocks.add_steps(at[:, k]) for k in (0, 1)]
    return {
        "x": blocks.add_steps(xy[:, 0]),
        "y": blocks.add_steps(xy[:, 1]),
        "vertices": blocks.add_counts(counts),
        "rings": blocks.add_counts(np.diff(column.part_offsets)),
        "parts": blocks.add_counts(parts),
        "classes": None if own.classes is None else blocks.add_counts(own.classes.number),
        "spots": spots,
    }


def _field(field: pa.Field, column: pa.ChunkedArray, blocks: Blocks) -> dict[str, Any]:
    kind = {"number": "number", "boolean": "yes"}.get(kind_of(field.type), "text")
    return {
        "name": field.name,
        "type": type_words(field),
        "kind": kind,
        "block": blocks.add_json(_values(column)),
    }


def _values(column: pa.ChunkedArray) -> Any:
    """Return values as JSON has them; what no number of a browser is comes as text."""
    kind = column.type
    if pa.types.is_boolean(kind) or pa.types.is_null(kind):
        return column.to_pylist()
    if pa.types.is_integer(kind):
        ends = pc.min_max(column)
        is_small = all(abs(ends[k].as_py() or 0) <= LARGEST for k in ("min", "max"))
        return column.to_pylist() if is_small else as_text(column).to_pylist()
    if pa.types.is_floating(kind):
        if not pa.types.is_float64(kind):  # the fewest digits that tell it, not those of its double
            column = pc.cast(as_text(column), pa.float64())
        if pc.all(pc.is_finite(pc.drop_null(column))).as_py() in (True, None):
            return column.to_pylist()
        texts = np.array(as_text(column).to_pylist(), object)
        values = np.array(column.to_pylist(), object)
        return np.where(
            np.asarray(pc.fill_null(pc.is_finite(column), True)), values, texts
        ).tolist()
    if is_blob(kind):
        sizes = pc.cast(pc.binary_length(column), pa.string())
        return pc.binary_join_element_wise(sizes, "bytes", " ").to_pylist()
    texts = as_text(column)
    if pa.types.is_timestamp(kind):  # no more digits of seconds than there are
        texts = pc.replace_substring_regex(texts, r"\.0+Z$", "Z")
    return texts.to_pylist()


def _look(own: Dressed, step: float) -> dict[str, Any]:
    colours = [own.colour] if own.classes is None else own.classes.colours
    return {
        "colours": [_hex(colour) for colour in colours] or [own.colour],
        "hatch": own.look.hatch,
        "outline": own.look.outline,
        "apart": own.apart / step,
        "thick": 1,
    }


def _hex(colour: str) -> str:
    if colour.startswith("#"):
        return colour
    from matplotlib.colors import to_hex  # of style sheets: names that browsers may not know

    return str(to_hex(colour))


def _classes(own: Dressed) -> dict[str, Any] | None:
    found = own.classes
    if found is None:
        return None
    counts: I64Array = np.bincount(found.number, minlength=len(found.names))
    return {
        "title": own.title,
        "names": found.names,
        "counts": counts.tolist(),
        "isListed": own.look.legend and not found.is_reused,
        "isApart": found.is_reused,
    }


def _facts(layer: Layer) -> list[tuple[str, str]]:
    """Return what is known of a layer as it was read."""
    found = [("rows", f"{layer.n_rows:,}")]
    if layer.n_total != layer.n_rows:
        found = [("rows", f"{layer.n_rows:,} of {layer.n_total:,}, chosen")]
    if layer.title:
        found.insert(0, ("title", layer.title))
    if layer.description:
        found.append(("description", layer.description))
    if layer.is_table:
        return [*found, ("geometry", f"none: {layer.no_geometry}")]
    return [*found, ("geometry", _geometry_words(layer.geometry)), *_place(layer)]


def _geometry_words(column: GeometryColumn) -> str:
    n_null = int(column.is_null.sum())
    n_empty = int(column.is_empty.sum()) - n_null
    words = f"{column.family.words}, {column.n_vertices:,} vertices"
    words += f", {n_null:,} null" if n_null else ""
    return words + (f", {n_empty:,} empty" if n_empty else "")


def _place(layer: Layer) -> list[tuple[str, str]]:
    extent = layer.geometry.extent()
    found = [("CRS", label(layer.crs))]
    if extent is not None:
        found.append(("extent", ", ".join(f"{value:.12g}" for value in extent)))
    return found


def _told(node: Node, role: str, depth: int) -> list[str]:
    """Return how a layer came about, the result first, what it was made of below it."""
    mark = "with " if role == "OTHER" else ""
    when = node.when.replace("T", " ").removesuffix("Z")[:16]
    words = f"{mark}{node.made.name}: {described(node)}, {node.made.features:,} features"
    lines = ["· " * depth + words + (f" ({when} UTC)" if when else "")]
    for below_role, below in node.used:
        lines += _told(below, below_role, depth + 1)
    return lines
