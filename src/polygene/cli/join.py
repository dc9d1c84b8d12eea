"""``polygene join``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.join import JoinSummary


@options.command()
@options.with_required
@click.option(
    "--relation",
    default="intersects",
    show_default=True,
    metavar="RELATION",
    help="How they lie: a relation as in subset, a pattern, or nearest.",
)
@options.take
@click.option("--pairs", is_flag=True, help="A row for each pair, with the fields of both.")
@click.option(
    "--single", type=click.Choice(["first", "largest", "nearest"]), help="One partner, chosen so."
)
@click.option("--count", type=click.IntRange(1), default=1, help="Of nearest: how many.")
@click.option("--within", type=options.DistanceType(), help="Of nearest: how far at most.")
@click.option(
    "--unmatched",
    type=click.Choice(["keep", "drop", "only"]),
    default="keep",
    show_default=True,
    help="Features without partner.",
)
@options.keep
@options.drop
@click.option("--links", metavar="DESTINATION", help="Of nearest: write lines to the partners too.")
@options.with_where
@each.common_carrying
@options.precision
@options.follow
def join(
    with_: str,
    relation: str,
    take: tuple[str, ...],
    pairs: bool,
    single: str | None,
    count: int,
    within: Any,
    unmatched: str,
    keep: str | None,
    drop: str | None,
    links: str | None,
    with_where: Any,
    precision: Any,
    follow: Any,
    **options_: Any,
) -> None:
    """Carry attributes of OTHER across to INPUT by how they lie.

    A row for each feature of INPUT: the field matches says how many features of OTHER lie to it so,
    and --take aggregates them; nothing else is carried across. On a border that features share counts
    for both. --keep and --drop choose fields of OTHER for --pairs, --single and nearest.

    \b
    Examples:
      polygene join tolva.gpkg#sectors --with tolva.gpkg#buoys -o sectors.gpkg \\
        --take "tonnes = sum(tonnes)"
      polygene join tolva.gpkg#buoys --with tolva.gpkg#slipways -o near.gpkg \\
        --relation nearest --keep name
    """
    if relation != "nearest" and (count > 1 or within is not None or links is not None):
        raise click.UsageError("--count, --within and --links belong to --relation nearest")
    from polygene import batch
    from polygene.crs import parse
    from polygene.ops.join import join as join_layers

    crs = options_["crs"]
    choice = batch.Choice(with_where, parse(crs) if crs else None)
    other = batch.read_other(with_, choice, any_family=True)
    lines: list[Layer] = []

    def work(layer: Layer, progress: Any) -> Any:
        result = join_layers(
            layer,
            other.layer,
            relation,
            take=take,
            pairs=pairs,
            single=single,
            count=count,
            within=None if within is None else within.in_metres(layer.crs),
            unmatched=unmatched,
            keep=options.names_of(keep),
            drop=options.names_of(drop),
            links=links is not None,
            precision=None if precision is None else precision.in_map_units(layer.crs),
            follow=None if follow is None else follow.as_length(),
            progress=progress,
        )
        result.summary.notes.extend([*other.notes, *overlay.bridges(result.summary, layer.name)])
        if result.links is not None:
            lines.append(result.links)
        return result

    each.run("join", work, _print, **options_)
    if links is not None:
        batch.write_named(links, lines, options_["replace"])
        if not options_["quiet"]:
            show.line("links", links, sys.stderr)


def _print(summary: JoinSummary) -> list[str]:
    err = sys.stderr
    show.title(f"{summary.input} joined with {summary.other}", summary.relation, err)
    taken = f"{summary.input_taken:,} of {show.counted(summary.input_total, 'feature')}"
    show.line("INPUT", f"{summary.input}: {taken}", err)
    taken = f"{summary.other_taken:,} of {show.counted(summary.other_total, 'feature')}"
    show.line("OTHER", f"{summary.other}: {taken}, {summary.unused:,} of them used by none", err)
    show.line(
        "pairs",
        f"{summary.pairs:,}: {summary.none:,} of {summary.input} have no partner, {summary.one:,} "
        f"have one, {summary.many:,} several",
        err,
    )
    show.line("came out", show.counted(summary.out, "feature"), err)
    if summary.furthest is not None:
        words = f"{summary.middle:,.2f} {summary.unit} in the middle, {summary.furthest:,.2f} "
        show.line("distance", f"{words}{summary.unit} at most, {summary.metric}", err)
    if summary.disagreements:
        words = ", ".join(f"{name} in {n:,}" for name, n in summary.disagreements.items())
        show.line("disagreed", f"{words} of the features; null there", err)
    show.line("CRS", summary.crs, err)
    notes = list(summary.notes)
    if summary.tied.count:
        n = show.counted(summary.tied.count, "feature")
        notes.append(
            f"{summary.input}: {n} with several partners that are equal; the first in "
            f"{summary.other} was taken: {overlay.named(summary.tied)}"
        )
    return notes
