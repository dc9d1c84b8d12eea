"""A map of layers over each other, with legend, scale bar, labels and credits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import matplotlib

matplotlib.use("Agg")

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, PathPatch, Rectangle
from matplotlib.path import Path as Outline

from polygene.arrays import BoolArray, F64Array, owners
from polygene.crs import label as crs_label
from polygene.errors import DataError, UsageError
from polygene.geometry import Extent, Family, GeometryColumn
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.ops.overlays.scene import rows_near
from polygene.pictures.looks import INK, Dressed, Look, dressed
from polygene.places import inside_points

Place = tuple[float, float, float, float]
ENDINGS = (".png", ".svg", ".pdf")
PAPER, SOFT = "#fbfaf6", "#6a6d70"
MOST_LABELS = 400
MOST_LETTERS = 34  # of a name in the legend
MOST_TOGETHER = 4000  # vertices in one path
AXES = (0.03, 0.06, 0.72, 0.86)  # of the figure: left, bottom, width, height
_NORTH, _BAR = (0.94, 0.87, 0.99, 0.98), (0.02, 0.02, 0.26, 0.06)  # where no label stands
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
    with matplotlib.rc_context({"svg.hashsalt": "polygene", "font.family": "DejaVu Sans"}):
        figure = Figure(figsize=plan.size, facecolor=PAPER)
        entries: list[Any] = []
        notes: list[str] = []
        places = TWO_AXES if plan.beside else (AXES,)
        for part, place in zip(_panels(plan), places, strict=True):
            axes = figure.add_axes(place)
            found, said = _draw_panel(axes, part, plan, extent, place)
            entries += [entry for entry in found if entry[1] not in {e[1] for e in entries}]
            notes += said
            if plan.beside:
                names = ", ".join(plan.layers[k].name for k in part)
                figure.text(place[0], place[1] + place[3] + 0.012, names, fontsize=10, color=INK)
        _legend(figure, entries, places[-1][0] + places[-1][2] + 0.015)
        if plan.title:
            figure.text(0.03, 0.945, plan.title, fontsize=16, fontweight="bold", color=INK)
        system = crs_label(plan.layers[0].crs)
        foot = f"{plan.credit}   {system}" if plan.credit else system
        figure.text(0.03, 0.022, foot, fontsize=8, color=SOFT)
        metadata = {"Date": None} if ending == ".svg" else None
        figure.savefig(path, dpi=100, format=ending[1:], metadata=metadata)
    return notes


def _panels(plan: MapPlan) -> list[list[int]]:
    """Return the layers of each map, by their numbers."""
    n, first = len(plan.layers), len(plan.layers) - plan.beside
    return [list(range(first)), list(range(first, n))] if plan.beside else [list(range(n))]


def _draw_panel(
    axes: Any, part: Sequence[int], plan: MapPlan, extent: Extent, place: Place
) -> tuple[list[Any], list[str]]:
    """Draw one map; return the entries of its legend and what there is to say."""
    pixel = _frame(axes, extent, plan, place)
    (x0, x1), (y0, y1) = axes.get_xlim(), axes.get_ylim()
    view = (x0, y0, x1, y1)
    shown = plan.dressed(view if plan.box else None)
    fields = [own.look.colour_by for own in shown]
    entries: list[Any] = []
    notes: list[str] = []
    for number, k in enumerate(part):
        is_shared = fields.count(fields[k]) > 1
        entries += _draw_layer(axes, shown[k], number, pixel, is_shared, bool(plan.beside))
    for k in part:
        own = shown[k]
        if own.label is not None:
            notes += _label(axes, own.layer, own.label, place)
    _scale_bar(axes, plan.layers[0], extent)
    _north(axes)
    return entries, notes


def _in_view(layer: Layer, view: Extent) -> Layer:
    """Return the features whose box meets what is shown: others have no class and no place there."""
    return layer.take(rows_near(layer.geometry.row_bounds(), view))


def _extent(layers: Sequence[Layer]) -> Extent | None:
    known = [e for e in (layer.geometry.extent() for layer in layers) if e is not None]
    if not known:
        return None
    low, high = np.min(known, axis=0), np.max(known, axis=0)
    width, height = max(high[2] - low[0], 1e-12), max(high[3] - low[1], 1e-12)
    margin = 0.04 * max(width, height)
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


def _draw_layer(
    axes: Any, own: Dressed, place: int, pixel: float, is_shared: bool, is_narrow: bool
) -> list[Any]:
    """Draw a layer; return its entries of the legend."""
    layer, found = own.layer, own.classes
    family = layer.geometry.family
    if found is None:
        everything = np.ones(layer.n_rows, bool)
        _draw_rows(axes, own, everything, own.colour, pixel, place)
        return [_entry(layer.name, family, own.colour, own.look)]
    heading = found.title if is_shared else f"{layer.name}, by {found.title}"
    if is_narrow and len(heading) > 22:
        heading = f"{layer.name},\nby {found.title}"
    entries: list[Any] = [(None, heading)]
    if found.is_reused:  # a legend would say nothing: labels do
        entries.append((None, f"{len(found.scheme.values):,} values, as labelled"))
    for number, (name, colour) in enumerate(zip(found.names, found.colours, strict=True)):
        _draw_rows(axes, own, found.number == number, colour, pixel, place)
        if found.is_reused:
            continue
        n = int((found.number == number).sum())
        shown = name if is_shared else f"{_cut(name)}  ({n:,})"
        entries.append(_entry(shown, family, colour, own.look))
    return entries


def _cut(name: str) -> str:
    return name if len(name) <= MOST_LETTERS else name[: MOST_LETTERS - 1] + "…"


def _entry(name: str, family: Family, colour: str, look: Look) -> tuple[Any, str]:
    name = _cut(name)
    if family == Family.LINES:
        return Line2D([], [], color=colour, linewidth=2), name
    if family == Family.POINTS:
        return Line2D(
            [], [], color=colour, marker="o", linestyle="", markeredgecolor=INK, markeredgewidth=0.5
        ), name
    if look.hatch:
        return Patch(facecolor="none", edgecolor=colour, hatch="////"), name
    face = "none" if look.outline else colour
    return Patch(facecolor=face, edgecolor=INK if not look.outline else colour), name


def _draw_rows(
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


def _label(axes: Any, layer: Layer, name: str, place: Place) -> list[str]:
    """Write labels where they do not lie over each other, the largest features first."""
    layer.check_field(name)
    values = layer.table.column(name).to_pylist()
    spots: F64Array = inside_points(layer.geometry)
    bounds = layer.geometry.row_bounds()
    with np.errstate(invalid="ignore"):
        size = (bounds[:, 2] - bounds[:, 0]) * (bounds[:, 3] - bounds[:, 1])
    order = np.argsort(-np.nan_to_num(size, nan=-1, neginf=-1), kind="stable")
    low, high = axes.get_xlim(), axes.get_ylim()
    letter = (low[1] - low[0]) / 118 * (AXES[2] / place[2])
    line = (high[1] - high[0]) / 42
    taken = [_part_of(low, high, *own) for own in (_NORTH, _BAR)]
    n_left = 0
    for row in order.tolist():
        text, (x, y) = values[row], spots[row]
        if text is None or not (low[0] <= x <= low[1] and high[0] <= y <= high[1]):
            continue
        text = str(text)
        half = letter * len(text) / 2
        if layer.geometry.family == Family.POINTS:
            y += 0.9 * line
        # What would stand over the frame is moved inside it.
        x = min(max(x, low[0] + 1.1 * half), low[1] - 1.1 * half)
        y = min(max(y, high[0] + 0.7 * line), high[1] - 0.7 * line)
        box = (x - half, y - line / 2, x + half, y + line / 2)
        clash = any(
            box[0] < b[2] and box[2] > b[0] and box[1] < b[3] and box[3] > b[1] for b in taken
        )
        if clash or len(taken) >= MOST_LABELS + 2:
            n_left += 1
            continue
        taken.append(box)
        written = axes.text(x, y, text, fontsize=8, ha="center", va="center", color=INK, zorder=90)
        written.set_path_effects(_halo())
    return (
        [f"{layer.name}: {n_left:,} labels left out, for they would lie over others"]
        if n_left
        else []
    )


def _part_of(
    low: tuple[float, float], high: tuple[float, float], a: float, b: float, c: float, d: float
) -> Place:
    """Return a part of the map, given in shares of it from left to right and bottom to top."""
    wide, tall = low[1] - low[0], high[1] - high[0]
    return (low[0] + a * wide, high[0] + b * tall, low[0] + c * wide, high[0] + d * tall)


def _halo() -> list[Any]:
    from matplotlib import patheffects

    return [patheffects.withStroke(linewidth=2.2, foreground="#ffffff", alpha=0.9)]


def _legend(figure: Figure, entries: Sequence[Any], left: float) -> None:
    """Write the legend beside the map; titles of classes have no sign."""
    blank = Patch(facecolor="none", edgecolor="none")
    handles = [blank if handle is None else handle for handle, _ in entries]
    legend = figure.legend(
        handles,
        [name for _, name in entries],
        loc="upper left",
        bbox_to_anchor=(left, 0.93),
        frameon=False,
        fontsize=9,
        labelcolor=INK,
        handlelength=1.6,
        labelspacing=0.55,
    )
    for (handle, _), text in zip(entries, legend.get_texts(), strict=True):
        if handle is None and not text.get_text().endswith(" labelled"):
            text.set_fontweight("bold")


def _scale_bar(axes: Any, layer: Layer, extent: Extent) -> None:
    """Draw a bar of a round length in metres, or map units; and which way north is, on degrees."""
    ruler = ruler_for(layer.crs)
    low, high = axes.get_xlim(), axes.get_ylim()
    width = low[1] - low[0]
    middle = (extent[1] + extent[3]) / 2
    ends = np.array([[low[0], middle], [low[1], middle]])
    metres = float(ruler.lengths(ends[:1], ends[1:])[0])
    if not np.isfinite(metres) or metres <= 0:
        return
    wanted = metres / 5
    power = 10 ** np.floor(np.log10(wanted))
    round_length = float(max(k for k in (1, 2, 5, 10) if k * power <= wanted * 1.0001) * power)
    drawn = round_length / metres * width
    x, y = low[0] + 0.03 * width, high[0] + 0.035 * (high[1] - high[0])
    tall = 0.007 * (high[1] - high[0])
    for k, colour in enumerate((INK, "#ffffff", INK, "#ffffff")):
        axes.add_artist(
            Rectangle(
                (x + k * drawn / 4, y),
                drawn / 4,
                tall,
                facecolor=colour,
                edgecolor=INK,
                linewidth=0.8,
                zorder=95,
            )
        )
    if ruler.unit == "m":
        words = f"{round_length / 1000:g} km" if round_length >= 1000 else f"{round_length:g} m"
    else:
        words = f"{round_length:g} units"
    text = axes.text(x + drawn + 0.008 * width, y, words, fontsize=9, color=INK, zorder=95)
    text.set_path_effects(_halo())


def _north(axes: Any) -> None:
    """Draw an arrow up: north of the map's grid."""
    axes.annotate(
        "N",
        xy=(0.965, 0.965),
        xytext=(0.965, 0.895),
        xycoords="axes fraction",
        ha="center",
        va="center",
        fontsize=10,
        color=INK,
        zorder=95,
        arrowprops={"arrowstyle": "-|>", "color": INK, "linewidth": 1.2},
    ).set_path_effects(_halo())
