"""``polygene intersect``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, overlays, recording
from polygene.cli.asked import OverlayAsked

if TYPE_CHECKING:
    from polygene.layer import Layer


@recording.command()
@options.with_several
@options.origins
@options.match
@click.option(
    "--crossings", is_flag=True, help="Of lines with lines, keep the points in which they meet."
)
@overlays.common
def intersect(
    asked: OverlayAsked,
    with_: tuple[str, ...],
    origins: bool,
    match: tuple[str, ...],
    crossings: bool,
) -> None:
    """Keep the shared pieces, with the attributes of INPUT and OTHER.

    A feature for each combination of features that meet. INPUT may be of any kind, OTHER is a layer of
    polygons; with several --with a piece must lie in all of them. Lines with lines share what runs
    along both (or, with --crossings, the points in which they meet), points with points what lies at
    one place.

    \b
    Example:
      polygene intersect tolva.gpkg#cables --with tolva.gpkg#sectors -o beds.gpkg
    """
    from polygene.ops.intersect import intersect as intersect_layers

    if not crossings:
        overlays.run("intersect", intersect_layers, asked, with_, origins=origins, match=match)
        return
    if match:
        raise click.UsageError("--match has no meaning with --crossings")
    if len(with_) > 1:
        raise click.UsageError("--crossings needs a single --with")
    for name in ("snap", "give_slivers", "refresh", "apportion"):
        if getattr(asked, name) is not None:
            raise click.UsageError(f"--{name.replace('_', '-')} has no meaning with --crossings")
    overlays.run("intersect", _crossings, asked, with_, origins=origins)


def _crossings(layer: Layer, other: Layer, **how: Any) -> Any:
    """Find crossings; lines are never invalid, so that much of ``how`` has no meaning."""
    from polygene.ops.crossings import crossings

    meant = ("origins", "single_parts", "precision", "follow", "progress")
    return crossings(layer, other, **{name: how[name] for name in meant})
