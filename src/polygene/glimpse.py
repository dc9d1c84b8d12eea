"""A layer at a glance: a line of words, and for notebooks a table with a small map."""

from __future__ import annotations

import html
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from polygene.arrays import owners
from polygene.crs import label
from polygene.geometry import Family, GeometryColumn

if TYPE_CHECKING:
    from pyproj import CRS

_SIDE = 240  # pixels of the longer side of a map
_MOST = 40_000  # vertices that are drawn
_FIELDS = 8  # that are named


def geometry_words(column: GeometryColumn) -> str:
    """Return what `layers` calls a geometry: ``multipolygon Z``."""
    family = ("point", "line", "polygon")[column.family]
    dims = f"{'' if column.z is None else 'Z'}{'' if column.m is None else 'M'}"
    return f"{'multi' if column.is_multi else ''}{family}{' ' if dims else ''}{dims}"


def in_words(name: str, geometry: GeometryColumn, fields: Sequence[str], crs: CRS | None) -> str:
    """Return a layer as one line."""
    kind, *dims = geometry_words(geometry).split(" ")
    count = f"{geometry.n_rows:,} {kind}{'' if geometry.n_rows == 1 else 's'}"
    words = [" ".join([count, *dims]), _fields(fields), label(crs)]
    return f"<Layer {name}: {'; '.join(words)}>"


def of_table(name: str, n_rows: int, fields: Sequence[str]) -> str:
    """Return a table without geometry as one line."""
    count = f"{n_rows:,} row{'' if n_rows == 1 else 's'}"
    return f"<Layer {name}: {count} without geometry; {_fields(fields)}>"


def _fields(fields: Sequence[str]) -> str:
    named = ", ".join(fields[:_FIELDS]) + (" …" if len(fields) > _FIELDS else "")
    return f"fields {named}" if fields else "no fields"


def in_html(name: str, geometry: GeometryColumn, fields: Sequence[str], crs: CRS | None) -> str:
    """Return a layer as a table with a small map beside it, for a notebook."""
    kind, *dims = geometry_words(geometry).split(" ")
    rows = [
        ("features", " ".join([f"{geometry.n_rows:,} {kind}s", *dims])),
        ("CRS", label(crs)),
        ("fields", ", ".join(fields) or "none"),
    ]
    cells = "".join(
        f"<tr><th style='text-align:left'>{key}</th>"
        f"<td style='text-align:left'>{html.escape(text)}</td></tr>"
        for key, text in rows
    )
    return (
        "<div style='display:flex;gap:1em;align-items:flex-start'>"
        f"<table><caption><b>{html.escape(name)}</b></caption>{cells}</table>{_map(geometry)}</div>"
    )


def _map(geometry: GeometryColumn) -> str:
    """Return the geometry as SVG, thinned to half pixels; empty if there is nothing to draw."""
    extent = geometry.extent()
    if extent is None:
        return ""
    x0, y0, x1, y1 = extent
    scale = (_SIDE - 8) / (max(x1 - x0, y1 - y0) or 1.0)
    width, height = (x1 - x0) * scale + 8, (y1 - y0) * scale + 8
    points = np.round((geometry.xy - (x0, y1)) * (scale, -scale) * 2) / 2 + 4
    ring_of = owners(geometry.ring_offsets)
    is_first = np.diff(ring_of, prepend=-1) != 0
    keeps = is_first | (np.diff(points, axis=0, prepend=np.nan) != 0).any(axis=1)
    points, is_first = points[keeps][:_MOST], is_first[keeps][:_MOST]
    if geometry.family == Family.POINTS:
        drawn = "".join(
            f"<circle cx='{x:g}' cy='{y:g}' r='2'/>" for x, y in np.unique(points, axis=0)
        )
        style = "fill='#1f5a7a'"
    else:
        steps = "".join(
            f"{'M' if first else 'L'}{x:g} {y:g}"
            for (x, y), first in zip(points.tolist(), is_first.tolist(), strict=True)
        )
        drawn = f"<path d='{steps}'/>"
        fill = "#bcd6e2" if geometry.family == Family.POLYGONS else "none"
        style = f"fill='{fill}' fill-rule='evenodd' stroke='#1f5a7a' stroke-width='0.7'"
    return f"<svg width='{width:.0f}' height='{height:.0f}'><g {style}>{drawn}</g></svg>"
