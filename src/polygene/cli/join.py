"""``polygene join``."""

from __future__ import annotations

import dataclasses
import functools
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, recording
from polygene.cli.asked import Asked, work_on_each
from polygene.table.tokens import names_of

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.join import JoinResult
    from polygene.progress import Progress
    from polygene.reading import Other


@recording.command()
@options.with_required
@click.option(
    "--relation",
    metavar="RELATION",
    help="How they lie: a relation as in subset, a pattern, or nearest; else intersects.",
)
@options.key
@options.fold
@options.aggregate
@click.option("--pairs", is_flag=True, help="A feature for each pair, with the fields of both.")
@click.option(
    "--best",
    metavar="[shared|distance|FIELD]",
    help="One partner: by the area shared, the distance, or the largest value of a field.",
)
@click.option("--count", type=click.IntRange(1), default=1, help="Of nearest: how many of them.")
@click.option("--up-to", type=options.DistanceType(), help="Of nearest: how far at most.")
@click.option(
    "--alone",
    type=click.Choice(["keep", "drop", "only"]),
    default="keep",
    show_default=True,
    help="Features of INPUT without a partner.",
)
@click.option(
    "--share-border",
    type=click.Choice(["first-key", "split"]),
    help="Points on a border of several polygons: to that of the lowest identifier, or in parts.",
)
@options.keep
@options.drop
@click.option("--links", metavar="DESTINATION", help="Of nearest: write lines to the partners too.")
@options.with_where
@each.common_carrying
@options.precision
@options.follow
def join(
    asked: Asked,
    with_: str,
    relation: str | None,
    key: tuple[str, ...],
    fold: bool,
    aggregate: tuple[str, ...],
    pairs: bool,
    best: str | None,
    count: int,
    up_to: Any,
    alone: str,
    share_border: str | None,
    keep: str | None,
    drop: str | None,
    links: str | None,
    precision: Any,
    follow: Any,
) -> None:
    """Carry attributes of OTHER across to INPUT by how they lie, or by key.

    Every feature of INPUT comes out: the field matches counts the features of OTHER that lie to it so,
    and --aggregate sums them up; nothing else is carried across. What lies on a shared border
    counts for both. --keep and --drop choose fields of OTHER for --pairs, --best and nearest.

    With --key OTHER may be a table without geometry, and its fields go to the features that have its
    key. Where a key comes several times in OTHER, --aggregate, --best or --pairs say what is meant.

    \b
    Examples:
      polygene join tolva.gpkg#sectors --with tolva.gpkg#buoys -o sectors.gpkg \\
        --aggregate "tonnes = sum(tonnes)"
      polygene join tolva.gpkg#buoys --with tolva.gpkg#slipways -o near.gpkg \\
        --relation nearest --keep name
      polygene join tolva.gpkg#sectors --with landings.csv --fold \\
        --key "sector = code" --aggregate "tonnes = sum(tonnes)" -o landed.gpkg
    """
    if relation != "nearest" and (count > 1 or up_to is not None or links is not None):
        raise click.UsageError("--count, --up-to and --links belong to --relation nearest")
    from polygene.batch import Companion
    from polygene.growing.calls import Call
    from polygene.ops.join import looked_at
    from polygene.reading import near_inputs, read_other

    read: list[Other] = []

    def before(progress: Progress) -> list[str]:
        only = functools.partial(looked_at, key=key, aggregate=aggregate, best=best)
        choice = dataclasses.replace(
            asked.other_choice(), takes_tables=bool(key), only=only if key else None
        )
        if not (key or precision or relation in ("disjoint", "nearest")):
            choice = near_inputs(choice, asked.inputs, [with_])
        read.append(read_other(with_, choice, progress, any_family=True))
        return read[0].notes

    told = {
        "relation": relation,
        "key": key,
        "fold": fold,
        "aggregate": aggregate,
        "pairs": pairs,
        "best": best,
        "count": count,
        "up_to": up_to,
        "alone": alone,
        "share_border": share_border,
        "keep": names_of(keep),
        "drop": names_of(drop),
        "links": links is not None,
        "precision": precision,
        "follow": follow,
    }
    call = Call("join", "polygene.ops.join", "join", told)

    def work(layer: Layer, progress: Progress) -> JoinResult:
        found: JoinResult = call.on(layer, read[0].layer, progress=progress)
        return found

    side: Companion[JoinResult] | None = None
    if links is not None:
        side = Companion(links, lambda result: result.links)
    work_on_each(
        "join", asked, work, before=before, carries=True, side=side, call=call, others=[with_]
    )
