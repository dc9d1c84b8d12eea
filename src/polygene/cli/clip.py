"""``polygene clip``."""

from __future__ import annotations

from typing import Any

import click

from polygene.cli import options, overlays, recording
from polygene.cli.asked import OverlayAsked


@recording.command()
@options.with_
@options.box
@options.box_crs
@click.option("--whole", is_flag=True, help="Keep whole every feature that touches OTHER.")
@options.match
@overlays.common
def clip(
    asked: OverlayAsked,
    with_: str | None,
    box: Any,
    box_crs: str | None,
    whole: bool,
    match: tuple[str, ...],
) -> None:
    """Keep what lies inside OTHER; its border counts as inside.

    INPUT is one or several layers: file.gpkg#roads, file.gpkg#* for all of a file, folder/, or
    'pattern*.geojson'. OTHER is one layer of polygons.

    \b
    Example:
      polygene clip 'tolva.gpkg#*' --with tolva.gpkg#park -o clipped.gpkg
    """
    if (with_ is None) == (box is None):
        raise click.UsageError("give either --with OTHER or --box to clip with")
    if asked.with_where is not None and with_ is None:
        raise click.UsageError("--with-where needs --with OTHER")
    if match and with_ is None:
        raise click.UsageError("--match needs --with OTHER")
    if box_crs is not None and box is None:
        raise click.UsageError("--box-crs needs --box")
    from polygene.ops.clip import clip as clip_layer
    from polygene.reading import Rectangle, crs_of

    if with_ is not None:
        overlays.run("clip", clip_layer, asked, [with_], whole=whole, match=match)
    else:
        rectangle = Rectangle(box, None if box_crs is None else crs_of(box_crs))
        overlays.run("clip", clip_layer, asked, [rectangle], whole=whole)
