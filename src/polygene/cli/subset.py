"""``polygene subset``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.subset import SubsetSummary


@options.command()
@options.box
@options.box_crs
@options.with_
@options.relation
@click.option("--within", type=options.DistanceType(), help="No further than this from OTHER.")
@click.option("--of-all", is_flag=True, help="In the relation to all features of OTHER, not any.")
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
    "--differ", metavar="R1,R2", help="With --relations: the rows that two of them differ in."
)
@each.common_but_out
@options.out_optional
@options.precision
@options.follow
def subset(
    box: Any,
    box_crs: str | None,
    with_: str | None,
    relation: str | None,
    within: Any,
    of_all: bool,
    invert: bool,
    with_where: Any,
    sort: str | None,
    limit: int | None,
    keep: str | None,
    drop: str | None,
    relations: bool,
    differ: str | None,
    out: str | None,
    precision: Any,
    follow: Any,
    **options_: Any,
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
    if with_ is None and (relation or within or of_all or relations or with_where):
        raise click.UsageError("--relation, --within and the like need --with OTHER")
    if with_ is not None and not (relation or within or relations):
        raise click.UsageError("say how features lie to OTHER: --relation, --within or --relations")
    if relation and within:
        raise click.UsageError("--relation and --within exclude each other")
    if box_crs is not None and box is None:
        raise click.UsageError("--box-crs needs --box")
    if relations == (out is not None):
        raise click.UsageError("give either --out to write to, or --relations to compare them")
    from dataclasses import replace

    from polygene import batch
    from polygene.batch import bridge_words
    from polygene.crs import parse
    from polygene.ops.by_place import chosen_by_place
    from polygene.ops.subset import subset as subset_layer

    crs = options_["crs"]
    choice = batch.Choice(with_where, parse(crs) if crs else None)
    if relations:
        _compare_relations(with_, choice, differ, precision, options_)
        return
    other = None if with_ is None else batch.read_other(with_, choice, any_family=True)
    rectangle = None
    if box is not None:
        rectangle = batch.Box(box, None if box_crs is None else batch.crs_of(box_crs))

    def work(layer: Layer, progress: Any) -> Any:
        if other is not None:
            progress.stage(f"{layer.name}: how it lies to {other.layer.name}")
            chosen = chosen_by_place(
                layer,
                other.layer,
                relation or "intersects",
                of_all=of_all,
                invert=invert,
                within=None if within is None else within.in_metres(layer.crs),
                precision=None if precision is None else precision.in_map_units(layer.crs),
                follow=None if follow is None else follow.as_length(),
            )
            layer = chosen.layer
        result = subset_layer(
            layer,
            box=box,
            box_crs=None if rectangle is None else rectangle.over(layer).crs,
            limit=limit,
            sort=options.names_of(sort),
            keep=options.names_of(keep),
            drop=options.names_of(drop),
        )
        if other is None:
            return result
        words = [bridge_words(facts, layer.name) for facts in chosen.brought]
        summary = result.summary
        summary = replace(summary, metric=chosen.metric, notes=[*summary.notes, *words])
        return replace(result, summary=summary)

    # A box in another CRS is no box to a reader.
    wanted = box if box_crs is None else None
    each.run("subset", work, _print, out=str(out), box=wanted, **options_)


def _compare_relations(
    with_: str | None, choice: Any, differ: str | None, precision: Any, options_: dict[str, Any]
) -> None:
    """Print how many features each relation would keep, and where two of them differ."""
    from polygene import batch
    from polygene.ops.by_place import relation_counts

    own = batch.Choice(options_["where"], choice.crs, options_["invalid"])
    other = batch.read_other(str(with_), choice, any_family=True)
    layers, _ = batch.read_all(options_["inputs"], own)
    results: list[dict[str, Any]] = []
    said: list[str] = []
    for layer in layers:
        step = None if precision is None else precision.in_map_units(layer.crs)
        counted = relation_counts(layer, other.layer, step)
        found = counted.selected
        counts = {name: int(mask.sum()) for name, mask in found.items()}
        results.append({"layer": layer.name, "other": other.layer.name, "selected": counts})
        said += [batch.bridge_words(facts, layer.name) for facts in counted.brought]
        if options_["as_json"]:
            continue
        title = f"{layer.name} and {other.layer.name}"
        show.title(title, f"{show.counted(layer.n_rows, 'feature')} of {layer.name}")
        rows = [[name, f"{n:,}"] for name, n in counts.items()]
        show.table(["relation to any", "features"], rows, right=[1])
        if differ is not None:
            _print_difference(layer, found, options.names_of(differ))
        for facts in counted.brought:
            show.note(batch.bridge_words(facts, layer.name))
    show.facts("subset", lambda: results, options_["as_json"], notes=said)


def _print_difference(layer: Layer, found: Any, names: list[str]) -> None:
    import numpy as np

    if len(names) != 2 or any(name not in found for name in names):
        raise click.UsageError(f"--differ takes two of {', '.join(found)}, as in within,intersects")
    click.echo()
    for one, other in (names, names[::-1]):
        rows = np.flatnonzero(found[one] & ~found[other])
        labels = ", ".join(layer.row_label(int(r)) for r in rows[:20])
        more = " …" if len(rows) > 20 else ""
        text = f"{show.counted(len(rows), 'feature')}{': ' if len(rows) else ''}{labels}{more}"
        show.line(f"{one}, not {other}", text, wide=28)


def _print(summary: SubsetSummary) -> list[str]:
    err = sys.stderr
    show.title(f"subset of {summary.name}", stream=err)
    kept = f"{summary.out:,} of {show.counted(summary.total, 'feature')}"
    show.line("kept", kept, err)
    if summary.metric:
        show.line("distance", summary.metric, err)
    if len(summary.fields) < summary.fields_total:
        fields = f"{len(summary.fields)} of {summary.fields_total}: {', '.join(summary.fields)}"
        show.line("fields", fields, err)
    empty = [f"{summary.name}: no feature is left"] if summary.out == 0 else []
    return [*summary.notes, *empty]
