"""A diagram of layers and the steps between them, from left to right, as SVG."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape

from polygene.classes import dataclass

WIDE, HIGH, GAP_X, GAP_Y, MARGIN = 190, 48, 54, 16, 14
INK, SOFT, LINE = "#1d2b33", "#5b6b73", "#8fa1a8"
_FILL = {"source": "#eef3f1", "step": "#ffffff", "result": "#dceaf0"}
_LETTERS = {True: 21, False: 30}  # that fit into a box, bold and plain


@dataclass(frozen=True)
class Box:
    """A layer: its key, its name, what is written below it, and ``source``, ``step`` or ``result``."""

    key: str
    name: str
    below: str
    kind: str = "step"


@dataclass(frozen=True)
class Arrow:
    """One layer goes into the making of another; the minor ones, OTHER, are dashed."""

    start: str
    stop: str
    is_minor: bool = False


def diagram(boxes: Sequence[Box], arrows: Sequence[Arrow]) -> str:
    """Return an SVG of boxes in columns, each right of all that it is made of.

    Arrows over several columns are led between the boxes; boxes are ordered by the middle of their
    neighbours (Sugiyama, Tagawa and Toda 1981).
    """
    column = _columns(boxes, arrows)
    places, paths = _arranged(boxes, arrows, column)
    width = MARGIN * 2 + (max(column.values(), default=0) + 1) * (WIDE + GAP_X) - GAP_X
    height = MARGIN * 2 + int(max((y for _, y in places.values()), default=0)) + HIGH
    lines = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" '
        f'width="{width}" height="{height}" font-family="DejaVu Sans, Arial, sans-serif">',
        '<defs><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" '
        f'markerHeight="7" orient="auto"><path d="M0,0.8 L7,4 L0,7.2 z" fill="{LINE}"/></marker>'
        "</defs>",
    ]
    for arrow, path in zip(arrows, paths, strict=True):
        lines.append(_curve([places[key] for key in path], arrow.is_minor))
    lines += [_drawn(box, *places[box.key]) for box in boxes]
    return "\n".join([*lines, "</svg>"])


def _columns(boxes: Sequence[Box], arrows: Sequence[Arrow]) -> dict[str, int]:
    """Return the column of each box: one more than the last of what it is made of."""
    column = {box.key: 0 for box in boxes}
    for _ in boxes:
        before = dict(column)
        for arrow in arrows:
            column[arrow.stop] = max(column[arrow.stop], column[arrow.start] + 1)
        if column == before:
            break
    # A source stands just left of the first that uses it.
    for box in boxes:
        uses = [column[a.stop] for a in arrows if a.start == box.key]
        if uses and not any(a.stop == box.key for a in arrows):
            column[box.key] = min(uses) - 1
    return column


def _arranged(
    boxes: Sequence[Box], arrows: Sequence[Arrow], column: Mapping[str, int]
) -> tuple[dict[str, tuple[float, float]], list[list[str]]]:
    """Return the upper left corner of boxes and bends, and what each arrow passes."""
    where = dict(column)
    paths = []
    for k, arrow in enumerate(arrows):
        between = range(column[arrow.start] + 1, column[arrow.stop])
        bends = [f"\0{k} {c}" for c in between]
        where |= dict(zip(bends, between, strict=True))
        paths.append([arrow.start, *bends, arrow.stop])
    rows: list[list[str]] = [[] for _ in range(max(where.values(), default=0) + 1)]
    for key in [*(box.key for box in boxes), *(k for k in where if k not in column)]:
        rows[where[key]].append(key)
    links = [pair for path in paths for pair in zip(path, path[1:], strict=False)]
    for sweep in range(8):
        forward = sweep % 2 == 0
        for c in range(len(rows)) if forward else reversed(range(len(rows))):
            rank = {key: k for row in rows for k, key in enumerate(row)}
            near = {
                key: [rank[a if forward else b] for a, b in links if key == (b if forward else a)]
                for key in rows[c]
            }
            middle = {key: sum(n) / len(n) if n else rank[key] for key, n in near.items()}
            rows[c].sort(key=lambda key, m=middle: m[key])  # type: ignore[misc]
    return _placed(rows, links), paths


def _placed(
    rows: Sequence[Sequence[str]], links: Sequence[tuple[str, str]]
) -> dict[str, tuple[float, float]]:
    """Return corners: each as near to its neighbours' height as those above it allow."""
    step = {True: GAP_Y + HIGH, False: GAP_Y + 10}  # a bend needs less room
    y: dict[str, float] = {}
    for row in rows:
        at = 0.0
        for key in row:
            y[key] = at
            at += step[not key.startswith("\0")]
    for sweep in range(6):
        for row in rows if sweep % 2 else list(reversed(rows)):
            wanted = {}
            for key in row:
                near = [y[b] for a, b in links if a == key] + [y[a] for a, b in links if b == key]
                wanted[key] = sum(near) / len(near) if near else y[key]
            at = 0.0
            for key in row:
                y[key] = max(wanted[key], at)
                at = y[key] + step[not key.startswith("\0")]
    lowest = min(y.values(), default=0.0)
    return {
        key: (MARGIN + c * (WIDE + GAP_X), MARGIN + y[key] - lowest)
        for c, row in enumerate(rows)
        for key in row
    }


def _curve(corners: Sequence[tuple[float, float]], is_minor: bool) -> str:
    """Return an arrow from the right side of a box to the left side of another, past its bends."""
    x, y = corners[0][0] + WIDE, corners[0][1] + HIGH / 2
    path = f"M{x:g},{y:.1f}"
    for corner in corners[1:]:
        to_x, to_y = corner[0], corner[1] + HIGH / 2
        half = (x + to_x) / 2
        path += f" C{half:g},{y:.1f} {half:g},{to_y:.1f} {to_x:g},{to_y:.1f}"
        if corner is not corners[-1]:
            path += f" L{to_x + WIDE:g},{to_y:.1f}"
        x, y = to_x + WIDE, to_y
    dash = ' stroke-dasharray="5 4"' if is_minor else ""
    return f'<path d="{path}" fill="none" stroke="{LINE}"{dash} marker-end="url(#tip)"/>'


def _drawn(box: Box, x: float, y: float) -> str:
    name, below = (_cut(t, _LETTERS[bold]) for t, bold in ((box.name, True), (box.below, False)))
    return (
        f"<g><title>{escape(box.name)}: {escape(box.below)}</title>"
        f'<rect x="{x:g}" y="{y:.1f}" width="{WIDE}" height="{HIGH}" rx="7" '
        f'fill="{_FILL[box.kind]}" stroke="{LINE}"/>'
        f'<text x="{x + 10:g}" y="{y + 20:.1f}" font-size="13" font-weight="bold" fill="{INK}">'
        f"{escape(name)}</text>"
        f'<text x="{x + 10:g}" y="{y + 37:.1f}" font-size="10.5" fill="{SOFT}">{escape(below)}</text>'
        "</g>"
    )


def _cut(text: str, letters: int) -> str:
    return text if len(text) <= letters else text[: letters - 1] + "…"
