"""``polygene intersect``."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, overlay, show

if TYPE_CHECKING:
    from polygene.batch import Done
    from polygene.ops.crossings import CrossingsResult


@options.command()
@options.with_several
@options.origins
@click.option(
    "--crossings", is_flag=True, help="Of lines with lines, keep the points in which they meet."
)
@overlay.common
def intersect(with_: tuple[str, ...], origins: bool, crossings: bool, **options_: Any) -> None:
    """Keep the shared pieces, with the attributes of INPUT and OTHER.

    A row for each combination of features that meet. INPUT may be of any kind, OTHER is a layer of
    polygons; with several --with a piece must lie in all of them. Lines with lines share what runs
    along both (or, with --crossings, the points in which they meet), points with points what lies at
    one place.

    \b
    Example:
      polygene intersect tolva.gpkg#cables --with tolva.gpkg#sectors -o beds.gpkg
    """
    if crossings:
        _crossings(with_, origins, options_)
        return
    from polygene.ops.intersect import intersect as intersect_layers

    overlay.run(
        intersect_layers,
        lambda progress: overlay.read_others(with_, options_, progress),
        origins=origins,
        **options_,
    )


def _crossings(with_: tuple[str, ...], origins: bool, options_: dict[str, Any]) -> None:
    if len(with_) > 1:
        raise click.UsageError("--crossings needs a single --with")
    for name in ("snap", "drop_slivers", "refresh", "apportion"):
        if options_.pop(name) is not None:
            raise click.UsageError(f"--{name.replace('_', '-')} has no meaning with --crossings")
    options_.pop("invalid")  # lines are never invalid
    from polygene.ops.crossings import crossings

    overlay.run(
        crossings,
        lambda progress: overlay.read_others(with_, options_, progress),
        origins=origins,
        snap=None,
        drop_slivers=None,
        refresh=None,
        apportion=None,
        prints=_print_crossings,
        **options_,
    )


def _print_crossings(done: Sequence[Done[CrossingsResult]]) -> None:
    err = sys.stderr
    for item in done:
        s = item.result.summary
        show.title(f"{s.input.name} crossed with {s.other.name}", stream=err)
        show.line("INPUT", f"{s.input.name}: {overlay.took_part(s.input)}", err)
        show.line("OTHER", f"{s.other.name}: {overlay.took_part(s.other)}", err)
        points, pairs = show.counted(s.points, "point"), show.counted(s.pairs, "pair")
        words = (
            f"{show.counted(s.out, 'feature')}: {points} in which {pairs} of lines meet, "
            f"{s.crossed:,} of {s.input.name} and {s.other_crossed:,} of {s.other.name}"
        )
        show.line("came out", words, err)
        show.line("CRS", s.crs, err)
