"""A tally as bars: one for each row, or one for each column of it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import matplotlib

matplotlib.use("Agg")

import numpy as np
import pyarrow as pa
from matplotlib.figure import Figure

from polygene.arrays import F64Array
from polygene.errors import DataError, UsageError
from polygene.notes import NULL_NAME, counted
from polygene.pictures.classes import QUALITATIVE
from polygene.pictures.lettering import BOLD, drawing, fitted, fitted_in, save
from polygene.pictures.looks import INK, PAPER, SOFT
from polygene.pictures.maps import ENDINGS

MOST_BARS = 60
MOST_COLUMNS = len(QUALITATIVE)  # each of them has a colour of its own
LEAST_THICK = 0.11  # inches that a bar needs to have its number beside it
MOST_NAME, MOST_SERIES = 35, 25  # sizes of type that names of rows and of columns may be wide
MOST_VALUE = 1e300  # with room for the axis beyond it


def draw_chart(
    body: pa.Table, n_keys: int, title: str, across: str, path: Path, ending: str
) -> list[str]:
    """Draw bars of the numbers in a tally; return what there is to say.

    Parameters
    ----------
    body : the tally without its totals, the first ``n_keys`` columns what its rows are
    across : what the columns are values of, if they are
    ending : the kind of picture

    Raises
    ------
    UsageError
        If the ending is none that is known.
    DataError
        If there is nothing to draw.
    """
    if ending not in ENDINGS:
        raise UsageError(f"{ending} is no picture that is known; there are {', '.join(ENDINGS)}")
    series = [
        name
        for name, kind in zip(body.column_names[n_keys:], body.schema.types[n_keys:], strict=True)
        if pa.types.is_integer(kind) or pa.types.is_floating(kind)
    ]
    if body.num_rows == 0 or not series:
        raise DataError("there is nothing to draw: the tally has no rows, or no numbers")
    notes = []
    if body.num_rows > MOST_BARS:
        notes.append(f"the chart shows the first {MOST_BARS} of {body.num_rows:,} rows")
        body = body.slice(0, MOST_BARS)
    if len(series) > MOST_COLUMNS:
        notes.append(f"the chart shows the first {MOST_COLUMNS} of {len(series):,} columns")
        series = series[:MOST_COLUMNS]
    keys = zip(*(body.column(k).to_pylist() for k in range(n_keys)), strict=True)
    names = [
        fitted(", ".join(NULL_NAME if v is None else str(v) for v in key), MOST_NAME)
        for key in keys
    ]
    bars = [_drawable(body.column(name)) for name in series]
    n_without = sum(int(np.isinf(values).sum()) for values in bars)
    if n_without:
        notes.append(f"{counted(n_without, 'value')} too large for a bar, or no finite number")
    names = names or [""] * body.num_rows  # of all together
    # Inches for a row: thin ones where there are many.
    each = min(0.2 * max(2, len(series)), max(11.0 / max(len(names), 1), 0.06 * len(series)))
    height = min(max(3.2, 1.7 + each * len(names)), 24)
    has_numbers = 0.8 * (height - 1.7) / len(names) / len(series) >= LEAST_THICK
    with drawing():
        figure = Figure(figsize=(12.8, height), facecolor=PAPER)
        axes = figure.add_subplot(facecolor=PAPER)
        _bars(axes, bars, series, names, has_numbers)
        _legend(axes, series, across)
        if title:
            title = fitted_in(figure, title, 0.03, 15, BOLD)
            figure.suptitle(title, x=0.03, ha="left", fontsize=15, fontweight="bold", color=INK)
        figure.tight_layout(rect=(0.02, 0.01, 0.98, 0.97 if title else 1))
        notes += save(figure, path, ending)
    return notes


def _drawable(column: pa.ChunkedArray) -> F64Array:
    """Return numbers as they are drawn: null as not a number, and what has no bar as infinite."""
    values = np.array(column.to_pylist(), float)
    is_none = np.asarray(column.is_null())
    return np.where((np.abs(values) <= MOST_VALUE) | is_none, values, np.inf)


def _told(value: float) -> str:
    """Return a number as it stands at its bar."""
    if value and not 0.01 <= abs(value) < 1e15:
        return f"{value:.3g}"
    return f"{value:,.0f}" if value == round(value) else f"{value:,.2f}"


def _bars(
    axes: Any, bars: list[F64Array], series: list[str], names: list[str], has_numbers: bool
) -> None:
    """Draw the bars from the top down, side by side where a row has several."""
    thick = 0.8 / len(series)
    at = np.arange(len(names))
    for k, (name, values) in enumerate(zip(series, bars, strict=True)):
        place = at + (k - (len(series) - 1) / 2) * thick
        axes.barh(
            place,
            np.where(np.isfinite(values), values, np.nan),  # no bar
            thick * 0.94,
            color=QUALITATIVE[k],
            edgecolor=INK,
            linewidth=0.4,
            label=fitted(name, MOST_SERIES),
        )
        for y, value in zip(place, values, strict=True):
            if has_numbers and np.isfinite(value):
                _number(axes, value, y)
    axes.set_yticks(at, names, fontsize=10, color=INK)
    axes.invert_yaxis()
    axes.margins(x=0.09, y=0.02)
    axes.xaxis.set_major_formatter(matplotlib.ticker.FuncFormatter(lambda v, _: f"{v:,.10g}"))
    axes.tick_params(axis="x", labelsize=9, labelcolor=SOFT, color=SOFT)
    axes.tick_params(axis="y", length=0)
    axes.grid(axis="x", color="#dcd8ce", linewidth=0.7)
    axes.set_axisbelow(True)
    for side in ("top", "right", "bottom"):
        axes.spines[side].set_visible(False)
    axes.spines["left"].set_color(SOFT)
    if any((values < 0).any() for values in bars):
        axes.axvline(0, color=INK, linewidth=0.8)


def _number(axes: Any, value: float, y: float) -> None:
    """Write a number beyond the end of its bar."""
    axes.annotate(
        _told(value),
        (value, y),
        xytext=(-4 if value < 0 else 4, 0),
        textcoords="offset points",
        ha="right" if value < 0 else "left",
        va="center",
        fontsize=8,
        color=SOFT,
    )


def _legend(axes: Any, series: list[str], across: str) -> None:
    """Tell what the bars are: of several beside them, where no bar is below it."""
    if len(series) == 1:
        axes.set_xlabel(fitted(series[0], 2 * MOST_NAME), fontsize=10, color=SOFT)
        return
    axes.legend(
        title=fitted(across, MOST_SERIES) or None,
        frameon=False,
        fontsize=9,
        labelcolor=INK,
        loc="upper left",
        bbox_to_anchor=(1.0, 1.0),
    )
