"""What stands on and beside a map: legend, scale bar, which way is north."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Rectangle

from polygene.classes import NamedTuple
from polygene.distortion import on_the_ground, scales
from polygene.geometry import Extent, Family
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.pictures.labels import halo
from polygene.pictures.lettering import BOLD, POINTS, fitted_in, width_of
from polygene.pictures.looks import INK, SOFT, Look

MOST_LETTERS = 34  # of a name in the legend
EVEN = 1.05  # how much lengths on the plane may differ over a map that has one scale
_SIZE = 9  # of its type, in points
_ROW, _TOP, _BOTTOM = 0.212, 0.915, 0.06  # inches from row to row; shares of the figure


class Entry(NamedTuple):
    """A line of the legend: a colour and what it means, a heading, or a remark if there is no look.

    more : what stands behind the name, also where that is cut
    """

    name: str
    family: Family | None = None
    colour: str = ""
    look: Look | None = None
    is_heading: bool = False
    more: str = ""


def cut(name: str) -> str:
    """Return a name as long as there is room for."""
    return name if len(name) <= MOST_LETTERS else name[: MOST_LETTERS - 1] + "…"


def write_legend(figure: Figure, entries: Sequence[Entry], left: float) -> None:
    """Write the legend beside the map, headings in line with the signs below them."""
    wide, tall = figure.get_size_inches()
    step = _ROW / tall
    y = _TOP
    for k, entry in enumerate(entries):
        if y - step < _BOTTOM and k < len(entries) - 1:
            more = f"and {len(entries) - k:,} more"
            figure.text(left, y, more, fontsize=_SIZE, va="center", color=SOFT)
            return
        if entry.is_heading:
            y -= 0.35 * step if k else 0.0
            words = entry.name.split("\n")
            for word in words:
                line = fitted_in(figure, word, left, _SIZE, BOLD)
                figure.text(
                    left, y, line, fontsize=_SIZE, va="center", color=INK, fontweight="bold"
                )
                y -= step
            continue
        if entry.look is None or entry.family is None:
            line = fitted_in(figure, entry.name, left, _SIZE)
            figure.text(left, y, line, fontsize=_SIZE, va="center", color=INK)
        else:
            _sign(figure, entry, left, y, (0.3 / wide, 0.125 / tall))
            begin = left + 0.4 / wide
            taken = width_of(entry.more) * _SIZE / POINTS / wide
            line = fitted_in(figure, cut(entry.name), begin + taken, _SIZE) + entry.more
            figure.text(begin, y, line, fontsize=_SIZE, va="center", color=INK)
        y -= step


def _sign(figure: Figure, entry: Entry, x: float, y: float, size: tuple[float, float]) -> None:
    """Draw a line, a dot or a patch as features of the entry look."""
    wide, tall = size
    look, colour = entry.look, entry.colour
    given: dict[str, Any] = {"transform": figure.transFigure, "zorder": 5}
    if entry.family == Family.LINES:
        sign: Any = Line2D([x, x + wide], [y, y], color=colour, linewidth=2, **given)
    elif entry.family == Family.POINTS:
        sign = Line2D(
            [x + wide / 2], [y], color=colour, marker="o", markersize=6, linestyle="",
            markeredgecolor=INK, markeredgewidth=0.5, **given,
        )  # fmt: skip
    else:
        assert look is not None
        is_open = look.hatch or look.outline
        sign = Rectangle(
            (x, y - tall / 2), wide, tall, facecolor="none" if is_open else colour,
            edgecolor=colour if is_open else INK, hatch="////" if look.hatch else None,
            linewidth=0.8, **given,
        )  # fmt: skip
    figure.add_artist(sign)


def scale_bar(axes: Any, layer: Layer, extent: Extent, at_right: bool = False) -> None:
    """Draw a bar of a round length in metres on the ground, or map units, at a lower corner."""
    ruler = ruler_for(layer.crs)
    low, high = axes.get_xlim(), axes.get_ylim()
    width = low[1] - low[0]
    middle = (extent[1] + extent[3]) / 2
    ends = np.array([[low[0], middle], [low[1], middle]])
    metres = float(ruler.lengths(ends[:1], ends[1:])[0])
    # In the middle of the map: a plane may stretch, and nowhere the same.
    across = on_the_ground(layer.crs, (low[0] + low[1]) / 2, middle, width / 100)
    if across is not None:
        metres = across * width
    if not np.isfinite(metres) or metres <= 0:
        return
    wanted = metres / 5
    power = 10 ** np.floor(np.log10(wanted))
    round_length = float(max(k for k in (1, 2, 5, 10) if k * power <= wanted * 1.0001) * power)
    drawn = round_length / metres * width
    x, y = low[0] + 0.03 * width, high[0] + 0.035 * (high[1] - high[0])
    if at_right:
        x = low[1] - 0.03 * width - drawn
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
        if _is_uneven(layer, (low[0], high[0], low[1], high[1])):
            words += ", in the middle of the map"
    else:
        words = f"{round_length:g} units"
    beside, align = (
        (x - 0.008 * width, "right") if at_right else (x + drawn + 0.008 * width, "left")
    )
    text = axes.text(beside, y, words, fontsize=9, color=INK, zorder=95, ha=align)
    text.set_path_effects(halo())


def _is_uneven(layer: Layer, view: Extent) -> bool:
    found = scales(layer.crs, view)
    return found is not None and found.most_length > EVEN * found.least_length


def north(axes: Any) -> None:
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
    ).set_path_effects(halo())
