"""What a page shows, as the element that its script fills: for pages and for reports alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field

import numpy as np

from polygene import __version__
from polygene.arrays import F64Array
from polygene.classes import NamedTuple, dataclass
from polygene.clock import now
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.notes import counted
from polygene.ops.places.in_box import rows_in_box
from polygene.ops.summary import Bridge
from polygene.pages.blocks import Blocks
from polygene.pages.ground import described, ground_for
from polygene.pages.packing import packed
from polygene.pages.problems import problems_of
from polygene.phrases import bridge
from polygene.pictures.looks import Look, dressed
from polygene.pictures.together import on_one_map

MOST_ROWS = 250_000  # of a layer, if nothing else is asked for
BEFORE, AFTER = "before", "after"


class Chosen(NamedTuple):
    """Layers as they were read and as they are shown, row for row; how many rows were left out."""

    sources: list[Layer]
    shown: list[Layer]
    left_out: int
    notes: list[str]


@dataclass(frozen=True)
class Viewed:
    """``element`` is HTML, ``first`` the layer whose CRS it has; the rest is what there is to say."""

    element: str
    layers: list[str]
    first: str
    rows: int
    left_out: int
    problems: int | None
    brought: list[Bridge] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def viewed(
    layers: Sequence[Layer],
    looks: Sequence[Look],
    *,
    n_before: int = 0,
    classes: int = 5,
    breaks: str = "quantile",
    box: Extent | None = None,
    finds_problems: bool = False,
    most: int = MOST_ROWS,
    notes: Sequence[str] = (),
) -> Viewed:
    """Return what a page shows of layers, the first ``n_before`` of them on the side before.

    ``notes`` are told among the facts.
    """
    together = on_one_map(layers, box, keeps_rows=True, n_before=n_before)
    chosen = _chosen(layers, together.layers, together.box, most)
    dressings = dressed(chosen.shown, looks, classes, breaks)
    extents = [e for y in chosen.shown if (e := y.geometry.extent()) is not None]
    ground = ground_for(together.crs, extents)
    blocks = Blocks()
    told, words = described(ground, blocks, together.plane is not None)
    found = problems_of(chosen.sources, ground) if finds_problems else None
    view = together.box or ground.extent
    low, high = (ground.packed(_corner(view, k))[0].tolist() for k in (0, 2))
    sides = [BEFORE] * n_before + [AFTER] * (len(layers) - n_before)
    said = [*together.notes, *chosen.notes]
    blocks.describe(
        told
        | {
            "view": low + high,
            "layers": [
                packed(own, source, ground, blocks, side)
                for own, source, side in zip(dressings, chosen.sources, sides, strict=True)
            ],
            "problems": found,
            "notes": [*notes, *(bridge(way, together.first) for way in together.bridges), *said],
            "made": " ".join([_made(), *words]),
        }
    )
    return Viewed(
        element=f'<div class="polygene-look">{_OPENING}\n{blocks.html()}\n</div>',
        layers=[y.name for y in chosen.shown],
        first=together.first,
        rows=sum(y.n_rows for y in chosen.shown),
        left_out=chosen.left_out,
        problems=None if found is None else sum(one["total"] for one in found),
        brought=together.bridges,
        notes=said,
    )


_OPENING = (
    '<p class="opening">Opening ...</p>'
    "<noscript><p>This page shows its map and tables with JavaScript, which is off.</p></noscript>"
)


def _corner(box: Extent, k: int) -> F64Array:
    return np.array([box[k : k + 2]])


def _made() -> str:
    when = now().replace("T", " ").removesuffix("Z")
    return f"Made by Polygene {__version__}, {when} UTC."


def _chosen(
    layers: Sequence[Layer], shown: Sequence[Layer], box: Extent | None, most: int
) -> Chosen:
    """Leave out rows beyond the box, and of layers with too many those at the end."""
    found = Chosen([], [], 0, [])
    left_out = 0
    for source, own in zip(layers, shown, strict=True):
        rows = np.arange(own.n_rows)
        if box is not None and not own.is_table:
            rows = rows[rows_in_box(own, box)]
        if len(rows) > most:
            left_out += len(rows) - most
            n = counted(len(rows), "row")
            found.notes.append(
                f"{own.name}: the first {most:,} of {n} are shown; `box` or `where` choose others, "
                "`most` more"
            )
        rows = rows[:most]
        if len(rows) < own.n_rows:
            source, own = source.take(rows), own.take(rows)
        found.sources.append(source)
        found.shown.append(own)
    return found._replace(left_out=left_out)
