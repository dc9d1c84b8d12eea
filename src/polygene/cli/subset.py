"""``polygene subset``."""

from __future__ import annotations

import dataclasses
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, outcome, recording
from polygene.cli.asked import Asked, work_on_each
from polygene.table.tokens import names_of

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.subset import SubsetResult
    from polygene.progress import Progress
    from polygene.reading import Other


@recording.command()
@options.box
@options.box_crs
@options.with_
@options.relation
@click.option("--up-to", type=options.DistanceType(), help="No further than this from OTHER.")
@click.option("--of-all", is_flag=True, help="The relation must hold for every feature of OTHER.")
@click.option("--invert", is_flag=True, help="Keep the others.")
@options.with_where
@click.option("--sort", metavar="FIELDS", help="Order by these; -field falls. Nulls come last.")
@click.option("--limit", type=click.IntRange(0), help="The first so many, after sorting.")
@options.keep
@options.drop
@click.option(
    "--relations",
    is_flag=True,
    help="Write nothing; say how many features each relation would keep.",
)
@click.option(
    "--differ", metavar="R1,R2", help="With --relations: the features that two of them differ in."
)
@each.common_but_out
@options.out_optional
@options.precision
@options.follow
def subset(
    asked: Asked,
    box: Any,
    box_crs: str | None,
    with_: str | None,
    relation: str | None,
    up_to: Any,
    of_all: bool,
    invert: bool,
    sort: str | None,
    limit: int | None,
    keep: str | None,
    drop: str | None,
    relations: bool,
    differ: str | None,
    precision: Any,
    follow: Any,
) -> None:
    """Keep features by attributes, by how they lie to OTHER, or by a box; and some of their fields.

    \b
    Examples:
      polygene subset tolva.gpkg#sectors --where "depth_max > 50" -o deep.gpkg \\
        --sort -depth_max --keep sector,name,depth_max
      polygene subset tolva.gpkg#beds_marram --with tolva.gpkg#park \\
        --relation within -o inside.gpkg
      polygene subset tolva.gpkg#beds_marram --with tolva.gpkg#park --relations
    """
    if with_ is None and (relation or up_to or of_all or relations or asked.with_where):
        raise click.UsageError("--relation, --up-to and the like need --with OTHER")
    if with_ is not None and not (relation or up_to or relations):
        raise click.UsageError("say how features lie to OTHER: --relation, --up-to or --relations")
    if relation and up_to:
        raise click.UsageError("--relation and --up-to exclude each other")
    if box_crs is not None and box is None:
        raise click.UsageError("--box-crs needs --box")
    if relations == (asked.out is not None):
        raise click.UsageError("give either --out to write to, or --relations to compare them")
    if relations:
        _compare_relations(asked, str(with_), names_of(differ), precision)
        return
    from polygene.growing.calls import Call
    from polygene.reading import Rectangle, crs_of, near_inputs, read_other

    rectangle = None
    if box is not None:
        rectangle = Rectangle(box, None if box_crs is None else crs_of(box_crs))
    read: list[Other] = []

    def before(progress: Progress) -> list[str]:
        if with_ is not None:
            choice = asked.other_choice()
            if relation not in (None, "disjoint") and not (of_all or precision):
                choice = near_inputs(choice, asked.inputs, [with_])
            read.append(read_other(with_, choice, progress, any_family=True))
        return [note for other in read for note in other.notes]

    told = {
        "relation": relation,
        "up_to": up_to,
        "of_all": of_all,
        "invert": invert,
        "box": box,
        "limit": limit,
        "sort": names_of(sort),
        "keep": names_of(keep),
        "drop": names_of(drop),
        "precision": precision,
        "follow": follow,
    }
    call = Call("subset", "polygene.ops.subset", "subset", told, other_as="other")

    def work(layer: Layer, progress: Progress) -> SubsetResult:
        crs = None if rectangle is None else rectangle.over(layer).crs
        others = [other.layer for other in read]
        own = dataclasses.replace(call, arguments={**told, "box_crs": crs})
        found: SubsetResult = own.on(layer, *others, progress=progress)
        return found

    # A box in another CRS, or over the 180th meridian, is no box to a reader.
    wanted = box if box_crs is None and box is not None and box[0] < box[2] else None
    work_on_each(
        "subset",
        asked,
        work,
        before=before,
        box=wanted,
        carries=True,
        call=call if box_crs is None else None,
        others=[] if with_ is None else [with_],
    )


def _compare_relations(asked: Asked, with_: str, differ: list[str], precision: Any) -> None:
    """Tell how many features each relation would keep, and where two of them differ."""
    import numpy as np

    from polygene.cli.facts import RelationsCounted
    from polygene.cli.words import looked
    from polygene.cli.words.blocks import Words
    from polygene.ops.places.by_place import relation_counts
    from polygene.phrases import bridge
    from polygene.reading import read_all, read_other
    from polygene.units import map_units

    other = read_other(with_, asked.other_choice(), any_family=True)
    layers, notes = read_all(asked.inputs, asked.choice(carries=True, takes_tables=True))
    say, results = Words(), []
    say.note(*other.notes, *notes)
    for layer in layers:
        counted = relation_counts(layer, other.layer, map_units(precision, layer.crs))
        found = counted.selected
        if differ and (len(differ) != 2 or any(name not in found for name in differ)):
            known = ", ".join(found)
            raise click.UsageError(f"--differ takes two of {known}, as in within,intersects")
        differing = {}
        for one, two in (differ, differ[::-1]) if differ else ():
            rows = np.flatnonzero(found[one] & ~found[two]).tolist()
            differing[f"{one}, not {two}"] = [layer.row_label(row) for row in rows]
        facts = RelationsCounted(
            layer=layer.name,
            features=layer.n_rows,
            other=other.layer.name,
            selected={name: int(mask.sum()) for name, mask in found.items()},
            differ=differing,
        )
        results.append(facts)
        looked.relations(facts, say)
        say.note(*(bridge(way, layer.name) for way in counted.brought))
    told = outcome.Outcome("subset", results, say, is_looked_at=True)
    asked.tell(told)
