"""One page of HTML to look at layers: map, table and problems, linked."""

from __future__ import annotations

import os
from collections.abc import Sequence
from html import escape
from pathlib import Path

from polygene.classes import dataclass
from polygene.commit.together import replacing, together
from polygene.errors import UsageError
from polygene.formats.base import check_free
from polygene.geometry import Extent
from polygene.layer import Layer, layers_of, named_apart
from polygene.ops.given import Names
from polygene.pages import html
from polygene.pages.viewing import MOST_ROWS, Viewed, viewed
from polygene.pictures.choosing import looks_of
from polygene.progress import SILENT, Progress
from polygene.provenance import credits_of

ENDINGS = (".html", ".htm")
_STYLE = """
html, body { height: 100%; margin: 0; background: var(--paper); color: var(--ink); }
body { display: flex; flex-direction: column; font: 100%/1.45 "DejaVu Sans", Verdana, sans-serif; }
header { padding: 0.6rem 1rem 0.4rem; }
header h1 { font-size: 1.25rem; margin: 0; overflow-wrap: anywhere; }
header p { margin: 0; color: var(--soft); font-size: 0.8rem; overflow-wrap: anywhere; }
main { flex: 1; min-height: 0; padding: 0 1rem 0.6rem; }
@media (max-width: 52rem) { main { flex: none; padding: 0 0.5rem 0.5rem; } }
@media print { body { height: auto; } main { height: 90vh; flex: none; } }
"""


@dataclass(frozen=True)
class Paged:
    """A page that was made: what it shows, and how many bytes it has."""

    shown: Viewed
    size: int


def page(
    layers: Layer | Sequence[Layer],
    out: str | os.PathLike[str],
    *,
    before: Sequence[Layer] = (),
    colour_by: Names = (),
    label: Names = (),
    hatch: Names = (),
    outline: Names = (),
    classes: int = 5,
    breaks: str = "quantile",
    style: str | os.PathLike[str] | None = None,
    title: str = "",
    credit: str | None = None,
    box: Extent | None = None,
    problems: bool = False,
    most: int = MOST_ROWS,
    replace: bool = False,
    is_dry: bool = False,
    progress: Progress = SILENT,
) -> Paged:
    """Write one page of HTML to look at layers in a browser: nothing else is needed, nothing fetched.

    Parameters
    ----------
    layers : the first at the bottom of the map; all are brought to its CRS
    before : layers for the other side of a divider that can be moved
    colour_by, label, hatch, outline, classes, breaks, style, title, credit : as `draw` has them
    box : (x, y minimum, x, y maximum): only rows that meet it, in the CRS of the first
    problems : whether what an audit finds is listed too
    most : how many rows it holds of each layer; of those with more, the first are taken

    Raises
    ------
    ExistsError
        If the file is there already, unless it is to be replaced.
    PolygeneError
        If something does not fit the layers, or the file cannot be written.
    """
    path = Path(out)
    if path.suffix.lower() not in ENDINGS:
        raise UsageError(f"{path} is no page of HTML; its name ends in {' or '.join(ENDINGS)}")
    if most < 1:
        raise UsageError("`most` is how many rows are shown: 1 or more")
    check_free(path, replace)
    after = layers_of(layers, "`layers`")
    for one in (*after, *before):
        one.check_structure()
    for one in before:
        one.check_geometry("`before`")
    everything = named_apart([*before, *after])
    looks = looks_of(everything, colour_by, label, hatch, outline, style)
    progress.stage("packing layers")
    found = viewed(
        everything,
        looks,
        n_before=len(before),
        classes=classes,
        breaks=breaks,
        box=box,
        finds_problems=problems,
        most=most,
    )
    if credit is None:
        own = [text for y in everything if y.lineage for text in credits_of(y.lineage)]
        credit = "; ".join(dict.fromkeys(own))
    progress.stage(f"writing {path}")
    text = _document(title or ", ".join(y.name for y in after), credit, found)
    data = text.encode()
    if not is_dry:
        with together(), replacing(path) as temporary:
            temporary.write_bytes(data)
    return Paged(found, len(data))


def _document(title: str, credit: str, found: Viewed) -> str:
    under = f"<p><bdi>{escape(credit)}</bdi></p>" if credit else ""
    body = (
        f"<header><h1><bdi>{escape(title)}</bdi></h1>{under}</header>\n<main>{found.element}</main>"
    )
    return html.document(title, [html.style(), _STYLE], body, html.script())
