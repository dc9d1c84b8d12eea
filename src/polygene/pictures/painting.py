"""Features as Matplotlib draws them: paths of a colour, as thick as there is room."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.patches import PathPatch
from matplotlib.path import Path as Outline

from polygene.arrays import BoolArray, owners
from polygene.geometry import Family, GeometryColumn
from polygene.pictures.looks import INK, Dressed, Look

MOST_TOGETHER = 4000  # vertices in one path


def draw_rows(
    axes: Any, own: Dressed, mask: BoolArray, colour: str, pixel: float, place: int
) -> None:
    layer = own.layer
    rows = np.flatnonzero(mask & ~layer.geometry.is_empty)
    if len(rows) == 0:
        return
    column = layer.geometry.take(rows)
    order = 10 + place
    room = own.apart / pixel
    if column.family == Family.POINTS:
        size = _point_size(room)
        axes.plot(
            *column.xy.T,
            "o",
            color=colour,
            markersize=size,
            markeredgecolor=INK,
            markeredgewidth=0.4 if size > 3 else 0,
            alpha=1.0 if size > 3 else 0.8,
            zorder=order + 30,
        )
        return
    wide = _line_width(room, column.family)
    for some in _portions(column):
        _draw_outline(
            axes=axes,
            column=some,
            wide=wide,
            colour=colour,
            look=own.look,
            pixel=pixel,
            order=order,
        )


def _point_size(apart: float) -> float:
    """Return the size of points, in points: a third of how far they are from each other on average."""
    return float(np.clip(apart * 0.72 / 3, 1.0, 5.5))


def _line_width(apart: float, family: Family) -> float:
    """Return how wide lines or outlines are, in points, so that they leave room between them."""
    if family == Family.LINES:
        return float(np.clip(apart / 16, 0.4, 1.6))
    return float(np.clip(apart / 40, 0.0, 0.6))


def _portions(column: GeometryColumn) -> list[GeometryColumn]:
    """Part a column into runs of rows: a path of very many vertices is slow to fill."""
    place = column.vertex_offsets_of_rows[:-1] // MOST_TOGETHER
    starts = np.flatnonzero(np.diff(place, prepend=-1))
    stops = [*starts[1:].tolist(), column.n_rows]
    return [column.slice_rows(a, b) for a, b in zip(starts.tolist(), stops, strict=True)]


def _draw_outline(
    axes: Any,
    column: GeometryColumn,
    wide: float,
    colour: str,
    look: Look,
    pixel: float,
    order: int,
) -> None:
    outline = _compound(column, pixel)
    if outline is None:
        return
    if column.family == Family.LINES:
        axes.add_artist(
            PathPatch(
                outline,
                facecolor="none",
                edgecolor=colour,
                linewidth=wide,
                zorder=order + 20,
                joinstyle="round",
            )
        )
        return
    dense = wide < 0.15  # outlines would drown what is in them
    line = {"linewidth": max(wide, 0.2)}
    if look.hatch:
        style = {"facecolor": "none", "edgecolor": colour, "hatch": "////", **line}
    elif look.outline:
        style = {"facecolor": "none", "edgecolor": colour, "linewidth": 1.8}
    else:
        style = {
            "facecolor": colour,
            "edgecolor": colour if dense else INK,
            "alpha": 0.85,
            **line,
        }
    axes.add_artist(PathPatch(outline, zorder=order, **style))


def _compound(column: GeometryColumn, pixel: float) -> Outline | None:
    """Return all rings or lines as one path, vertices that fall on one pixel left out."""
    cell = np.floor(column.xy / (0.5 * pixel)).astype(np.int64)
    ring_of = owners(column.ring_offsets)
    n = len(cell)
    keeps = np.ones(n, bool)
    keeps[1:] = (cell[1:] != cell[:-1]).any(axis=1) | (ring_of[1:] != ring_of[:-1])
    last = column.ring_offsets[1:][np.diff(column.ring_offsets) > 0] - 1
    keeps[last] = True
    xy, ring = column.xy[keeps], ring_of[keeps]
    if len(xy) == 0:
        return None
    codes = np.full(len(xy), Outline.LINETO, np.uint8)
    codes[0] = Outline.MOVETO
    codes[1:][ring[1:] != ring[:-1]] = Outline.MOVETO
    return Outline(xy, codes)
