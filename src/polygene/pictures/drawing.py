"""A map file from layers, as the command draws it: brought together, styled, credited."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from polygene.classes import dataclass
from polygene.commit.leftovers import passing_folder
from polygene.commit.together import replacing, together
from polygene.formats.base import check_free
from polygene.geometry import Extent
from polygene.layer import Layer, layers_of
from polygene.ops.given import Names
from polygene.ops.summary import Bridge
from polygene.pictures import style as styles
from polygene.pictures.choosing import looks_of
from polygene.pictures.maps import MapPlan, draw_map
from polygene.pictures.together import on_one_map
from polygene.progress import SILENT, Progress
from polygene.provenance import credits_of


@dataclass(frozen=True)
class Drawing:
    """A map that was drawn: of which layers, of how many features, and what there is to know."""

    layers: list[str]
    features: int
    brought: list[Bridge]
    notes: list[str]


def draw(
    layers: Layer | Sequence[Layer],
    out: str | os.PathLike[str],
    *,
    beside: Sequence[Layer] = (),
    colour_by: Names = (),
    label: Names = (),
    hatch: Names = (),
    outline: Names = (),
    classes: int = 5,
    breaks: str = "quantile",
    style: str | os.PathLike[str] | None = None,
    keep_style: str | os.PathLike[str] | None = None,
    title: str = "",
    credit: str | None = None,
    box: Extent | None = None,
    replace: bool = False,
    is_dry: bool = False,
    progress: Progress = SILENT,
) -> Drawing:
    """Draw a map of layers, the first at the bottom, in the CRS of the first.

    Parameters
    ----------
    out : a .png, .svg or .pdf file
    beside : layers for a second map beside
    colour_by, label : fields, ``layer.field`` where several layers have one of that name
    hatch, outline : layers to draw hatched, or their borders only
    classes, breaks : of numbers, how many classes, of as many features (``quantile``) or as wide a
        range (``equal``)
    style, keep_style : style sheets to take looks from, and to keep them in
    credit : what stands below; that of the layers' lineage if not given
    box : (x, y minimum, x, y maximum) to show, in the CRS of the first
    is_dry : whether it is drawn, but not kept

    Raises
    ------
    ExistsError
        If a file is there already, unless it is to be replaced.
    PolygeneError
        If something does not fit the layers, or a file cannot be written.
    """
    path = Path(out)
    keeping = None if keep_style is None else Path(keep_style)
    for place in (path, *([keeping] if keeping else [])):
        check_free(place, replace)
    several = layers_of(layers, "`layers`")
    for one in (*several, *beside):
        one.check_structure()
    found = on_one_map([*several, *beside], box)
    shown = found.layers
    looks = looks_of(
        layers=shown, colour_by=colour_by, label=label, hatch=hatch, outline=outline, style=style
    )
    if credit is None:
        own = [text for y in shown if y.lineage for text in credits_of(y.lineage)]
        credit = "; ".join(dict.fromkeys(own))
    plan = MapPlan(
        layers=shown,
        looks=looks,
        title=title,
        credit=credit,
        box=found.box,
        classes=classes,
        breaks=breaks,
        beside=len(beside),
    )
    progress.stage(f"drawing {path}")
    notes = _write(plan, path, keeping, is_dry)
    notes = [*found.notes, *notes]
    return Drawing([y.name for y in shown], sum(y.n_rows for y in shown), found.bridges, notes)


def _write(plan: MapPlan, path: Path, keeping: Path | None, is_dry: bool) -> list[str]:
    if is_dry:
        with passing_folder() as folder:
            return draw_map(plan, folder / "map", path.suffix)
    with together():
        with replacing(path) as temporary:
            notes = draw_map(plan, temporary, path.suffix)
        if keeping is not None:
            with replacing(keeping) as temporary:
                temporary.write_text(styles.text_of(plan.dressed()), encoding="utf-8")
    return notes
