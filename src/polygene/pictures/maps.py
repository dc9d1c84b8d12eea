"""A map of layers over each other, with legend, scale bar, labels and credits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import matplotlib

matplotlib.use("Agg")

import numpy as np
from matplotlib.figure import Figure

from polygene.classes import dataclass
from polygene.crs import label as crs_label
from polygene.errors import DataError, UsageError
from polygene.geometry import Extent, Family
from polygene.layer import Layer
from polygene.notes import NULL_NAME, Warned, counted
from polygene.ops.overlays.scene import rows_near
from polygene.pictures import insets
from polygene.pictures.furniture import Entry, cut, north, scale_bar, write_legend
from polygene.pictures.labels import Type, write_labels
from polygene.pictures.lettering import (
    BOLD,
    POINTS,
    drawing,
    fitted,
    fitted_in,
    lines_of,
    room_in,
    save,
    width_of,
)
from polygene.pictures.looks import INK, PAPER, SOFT, Dressed, Look, apart, dressed
from polygene.pictures.painting import draw_rows

Place = tuple[float, float, float, float]
ENDINGS = (".png", ".svg", ".pdf")
AXES = (0.03, 0.06, 0.72, 0.86)  # of the figure: left, bottom, width, height
MOST_HEADING = 34
LEFT = 0.03  # of the figure, where all begins
_FOOT, _MOST_FEET = 8, 3  # size of type and number of lines below the map
# Where no label stands; the bar is at the left or, if that hides points, at the right.
_NORTH, _BARS = (0.94, 0.87, 0.99, 0.98), ((0.02, 0.02, 0.26, 0.06), (0.74, 0.02, 0.98, 0.06))
TWO_AXES = ((0.03, 0.06, 0.385, 0.83), (0.43, 0.06, 0.385, 0.83))


@dataclass(frozen=True)
class MapPlan:
    """What a map is made of; layers from the bottom up, all in the CRS of the first.

    beside : how many of the layers, the last ones, are drawn in a second map to the right of the first
    """

    layers: Sequence[Layer]
    looks: Sequence[Look]
    title: str = ""
    credit: str = ""
    box: Extent | None = None
    classes: int = 5
    breaks: str = "quantile"
    size: tuple[float, float] = (12.8, 8.0)
    beside: int = 0

    def dressed(self, view: Extent | None = None) -> list[Dressed]:
        """Return the layers as they are shown, in a view only what is in it."""
        shown = self.layers if view is None else [_in_view(y, view) for y in self.layers]
        return dressed(shown, self.looks, self.classes, self.breaks)


def draw_map(plan: MapPlan, path: Path, ending: str | None = None) -> list[str]:
    """Draw a map into a PNG, SVG or PDF file; return what there is to say.

    ``ending`` is the kind of picture, if the file's own does not tell.

    Raises
    ------
    UsageError
        If the file's ending is none of those.
    DataError
        If there is nothing to draw.
    """
    ending = (ending or path.suffix).lower()
    if ending not in ENDINGS:
        raise UsageError(
            f"{ending or path} is no picture that is known; there are {', '.join(ENDINGS)}"
        )
    extent = plan.box or _extent(plan.layers)
    if extent is None:
        raise DataError("there is nothing to draw: no layer has a geometry")
    with drawing():
        figure = Figure(figsize=plan.size, facecolor=PAPER)
        entries: list[Entry] = []
        notes: list[str] = []
        places = TWO_AXES if plan.beside else (AXES,)
        for part, place in zip(_panels(plan), places, strict=True):
            axes = figure.add_axes(place)
            found, said = _draw_panel(axes, part, plan, extent, place)
            entries += [entry for entry in found if entry.name not in {e.name for e in entries}]
            notes += said
            if plan.beside:
                names = ", ".join(plan.layers[k].name for k in part)
                names = fitted(names, place[2] * plan.size[0] * POINTS / 10)
                figure.text(place[0], place[1] + place[3] + 0.012, names, fontsize=10, color=INK)
        write_legend(figure, entries, places[-1][0] + places[-1][2] + 0.015)
        if plan.title:
            title = fitted_in(figure, plan.title, 0.03, 16, BOLD)
            figure.text(0.03, 0.945, title, fontsize=16, fontweight="bold", color=INK)
        notes += _write_foot(figure, plan.credit, crs_label(plan.layers[0].crs))
        notes += save(figure, path, ending)
    return notes


def _write_foot(figure: Figure, credit: str, system: str) -> list[str]:
    """Write credits and the CRS below the map: long credits on lines of their own."""
    room = room_in(figure, LEFT, _FOOT)
    lines = [*lines_of(credit, room), fitted(system, room)]
    if len(lines) == 2 and width_of("   ".join(lines)) <= room:
        lines = ["   ".join(lines)]
    notes: list[str] = []
    if len(lines) > _MOST_FEET:
        notes.append(Warned("the credit is longer than there is room for below the map, and cut"))
        lines = [*lines[: _MOST_FEET - 2], fitted(f"{lines[_MOST_FEET - 2]} …", room), lines[-1]]
    for k, line in enumerate(reversed(lines)):
        low = 0.022 if len(lines) == 1 else 0.008 + 0.018 * k
        figure.text(LEFT, low, line, fontsize=_FOOT, color=SOFT)
    return notes


def _panels(plan: MapPlan) -> list[list[int]]:
    """Return the layers of each map, by their numbers."""
    n, first = len(plan.layers), len(plan.layers) - plan.beside
    return [list(range(first)), list(range(first, n))] if plan.beside else [list(range(n))]


def _draw_panel(
    axes: Any, part: Sequence[int], plan: MapPlan, extent: Extent, place: Place
) -> tuple[list[Entry], list[str]]:
    """Draw one map; return the entries of its legend and what there is to say."""
    pixel = _frame(axes, extent, plan, place)
    (x0, x1), (y0, y1) = axes.get_xlim(), axes.get_ylim()
    view = (x0, y0, x1, y1)
    shown = plan.dressed(view if plan.box else None)
    fields = [(own.look.colour_by, own.classes and own.classes.scheme) for own in shown]
    entries: list[Entry] = []
    for number, k in enumerate(part):
        is_shared = fields.count(fields[k]) > 1
        _draw_layer(axes, shown[k], number, pixel)
        entries += _entries(shown[k], is_shared, bool(plan.beside))
    own = [shown[k] for k in part]
    at_right = _hides_points(own, view)
    taken = [_part_of(view, *one) for one in (_NORTH, _BARS[at_right])]
    if not plan.beside and plan.box is None:
        taken += _draw_inset(axes, own, view, plan, place)
    notes = _write_labels(axes, own, _type(view, place), taken)
    scale_bar(axes, plan.layers[0], extent, at_right)
    north(axes)
    return entries, notes


def _hides_points(shown: Sequence[Dressed], view: Extent) -> bool:
    """Whether a scale bar at the left would hide points, and more than one at the right."""
    points = [own.layer.geometry.xy for own in shown if own.layer.geometry.family == Family.POINTS]
    counts = [
        sum(int(((xy >= part[:2]) & (xy <= part[2:])).all(axis=1).sum()) for xy in points)
        for part in (np.array(_part_of(view, *bar)) for bar in _BARS)
    ]
    return counts[0] > counts[1]


def _type(view: Extent, place: Place) -> Type:
    """Return how much labels take of a map."""
    return Type((view[2] - view[0]) / 118 * (AXES[2] / place[2]), (view[3] - view[1]) / 42)


def _write_labels(
    axes: Any, shown: Sequence[Dressed], type_: Type, taken: list[Extent]
) -> list[str]:
    notes: list[str] = []
    for own in shown:
        if own.label is not None:
            notes += write_labels(axes, own.layer, own.label, type_, taken)
    return notes


def _draw_inset(
    axes: Any, shown: Sequence[Dressed], view: Extent, plan: MapPlan, place: Place
) -> list[Extent]:
    """Draw what lies close together once more, larger; return what that takes of the map."""
    layers = [own.layer for own in shown]
    box = insets.crowd(layers, view)
    if box is None:
        return []
    part = insets.emptiest(layers, view, box)
    within = (
        place[0] + part[0] * place[2],
        place[1] + part[1] * place[3],
        (part[2] - part[0]) * place[2],
        (part[3] - part[1]) * place[3],
    )
    inner = axes.figure.add_axes(within, zorder=96)
    pixel = _frame(inner, box, plan, within)
    (x0, x1), (y0, y1) = inner.get_xlim(), inner.get_ylim()
    for spine in inner.spines.values():
        spine.set_color(INK)
        spine.set_linewidth(1.2)
    near = [replace(own, apart=apart(_in_view(own.layer, box).geometry)) for own in shown]
    for number, own in enumerate(near):
        _draw_layer(inner, own, number, pixel)
    _write_labels(inner, near, _type((x0, y0, x1, y1), within), [])
    insets.mark(axes, (x0, y0, x1, y1))
    return [_part_of(view, *part), (x0, y0, x1, y1)]


def _part_of(view: Extent, a: float, b: float, c: float, d: float) -> Extent:
    """Return a part of the map, given in shares of it from left to right and bottom to top."""
    wide, tall = view[2] - view[0], view[3] - view[1]
    return (view[0] + a * wide, view[1] + b * tall, view[0] + c * wide, view[1] + d * tall)


def _in_view(layer: Layer, view: Extent) -> Layer:
    """Return the features whose box meets what is shown: others have no class and no place there."""
    return layer.take(rows_near(layer.geometry.row_bounds(), view))


def _extent(layers: Sequence[Layer]) -> Extent | None:
    known = [e for e in (layer.geometry.extent() for layer in layers) if e is not None]
    if not known:
        return None
    low, high = np.min(known, axis=0), np.max(known, axis=0)
    size = max(high[2] - low[0], high[3] - low[1])
    least = 1e-4 * max(1.0, float(np.abs([low, high]).max()))  # of what lies in one point
    margin = 0.04 * size if size > 1e-6 * least else least
    return (
        float(low[0] - margin),
        float(low[1] - margin),
        float(high[2] + margin),
        float(high[3] + margin),
    )


def _frame(axes: Any, extent: Extent, plan: MapPlan, place: Place) -> float:
    """Set up the axes, filled in both directions; return the size of a pixel in map units."""
    x0, y0, x1, y1 = extent
    crs = plan.layers[0].crs
    stretch = 1.0
    if crs is not None and crs.is_geographic:
        stretch = 1 / max(0.05, float(np.cos(np.radians((y0 + y1) / 2))))
    wide = place[2] * plan.size[0] / (place[3] * plan.size[1])  # of the frame, width by height
    width, height = x1 - x0, (y1 - y0) * stretch
    if width < wide * height:
        x0, x1 = (x0 + x1 - wide * height) / 2, (x0 + x1 + wide * height) / 2
    else:
        more = width / wide / stretch
        y0, y1 = (y0 + y1 - more) / 2, (y0 + y1 + more) / 2
    axes.set_xlim(x0, x1)
    axes.set_ylim(y0, y1)
    axes.set_aspect(stretch, adjustable="box")
    axes.set_xticks([])
    axes.set_yticks([])
    axes.set_facecolor("#ffffff")
    for spine in axes.spines.values():
        spine.set_color("#b9b5ac")
    return float((x1 - x0) / (plan.size[0] * 100 * place[2]))


def _draw_layer(axes: Any, own: Dressed, place: int, pixel: float) -> None:
    found = own.classes
    if found is None:
        draw_rows(axes, own, np.ones(own.layer.n_rows, bool), own.colour, pixel, place)
        return
    # Colour by colour: of classes there may be as many as features.
    colours = list(dict.fromkeys(found.colours))
    colour_of_class = np.array([colours.index(colour) for colour in found.colours], np.int64)
    for k, colour in enumerate(colours):
        draw_rows(axes, own, colour_of_class[found.number] == k, colour, pixel, place)


def _entries(own: Dressed, is_shared: bool, is_narrow: bool) -> list[Entry]:
    """Return the entries of a layer's legend."""
    layer, found = own.layer, own.classes
    family = layer.geometry.family
    if found is None:
        return [Entry(layer.name, family, own.colour, own.look)]
    title = own.title
    heading = title if is_shared else f"{cut(layer.name)}, by {title}"
    if len(heading) > (22 if is_narrow else MOST_HEADING) and not is_shared:
        heading = f"{cut(layer.name)},\nby {title}"
    entries = [Entry(heading, is_heading=True)]
    if found.is_reused or not own.look.legend:  # a legend would say nothing: labels do
        n = len(found.names) - (NULL_NAME in found.names[-1:])
        told = counted(n, "class", "classes") if found.scheme.breaks else counted(n, "value")
        return [*entries, Entry(f"{told}, as labelled")]
    for number, (name, colour) in enumerate(zip(found.names, found.colours, strict=True)):
        n = int((found.number == number).sum())
        entries.append(
            Entry(name, family, colour, own.look, more="" if is_shared else f"  ({n:,})")
        )
    return entries
