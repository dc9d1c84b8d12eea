"""What is wrong with the layers of a page, each with its rows and places."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from polygene.between import way_between
from polygene.crs import is_same
from polygene.layer import Layer
from polygene.ops.audit import Finding, audit
from polygene.pages.ground import Ground

MOST = 5000  # places of one problem that are carried


def problems_of(layers: Sequence[Layer], ground: Ground) -> list[dict[str, Any]]:
    """Return what an audit finds in layers as they were read, for the page's script."""
    return [
        _told(k, layer, finding, ground)
        for k, layer in enumerate(layers)
        for finding in audit(layer).findings
    ]


def _told(k: int, layer: Layer, found: Finding, ground: Ground) -> dict[str, Any]:
    rows, places = found.rows[:MOST], found.places[:MOST]
    xy = places
    if layer.crs is not None and ground.crs is not None and not is_same(layer.crs, ground.crs):
        xy = way_between(layer.crs, layer.geometry.extent(), ground.crs).there(places)
    is_known = np.isfinite(xy)
    has = [bool(x and y) for x, y in is_known.tolist()]
    whole = ground.packed(np.where(is_known, xy, ground.origin)).tolist()
    details = found.details or [""] * len(rows)
    return {
        "layer": k,
        "kind": found.kind,
        "reason": found.reason,
        "cure": found.cure,
        "harms": bool(found.harms),
        "total": found.count,
        "rows": rows.tolist(),
        "places": [place if is_there else None for place, is_there in zip(whole, has, strict=True)],
        "names": [
            layer.row_label(row) + (f": {detail}" if detail else "")
            for row, detail in zip(rows.tolist(), details, strict=False)
        ],
    }
