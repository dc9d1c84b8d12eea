"""``polygene clip``."""

from __future__ import annotations

import sys
import time
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show

if TYPE_CHECKING:
    from polygene.batch import Done
    from polygene.geometry import Extent
    from polygene.layer import Layer
    from polygene.ops.clip import ClipResult, ClipSummary
    from polygene.ops.summary import Balance, Side
    from polygene.table.expression import Expression
    from polygene.units import Distance


@click.command()
@options.inputs
@options.with_
@options.box
@click.option("--whole", is_flag=True, help="Keep whole every feature that touches OTHER.")
@options.where
@options.with_where
@options.out
@options.replace
@options.next_
@options.single_parts
@options.precision
@options.crs
@options.json
@options.quiet
def clip(
    inputs: tuple[str, ...],
    with_: str | None,
    box: Extent | None,
    whole: bool,
    where: Expression | None,
    with_where: Expression | None,
    out: str,
    replace: bool,
    next_: bool,
    single_parts: bool,
    precision: Distance | None,
    crs: str | None,
    as_json: bool,
    quiet: bool,
) -> None:
    """Keep what lies inside OTHER; its border counts as inside.

    INPUT is one or several layers: file.gpkg#roads, file.gpkg#* for all of a file, folder/, or
    'pattern*.geojson'. OTHER is one layer of polygons.

    \b
    Example: polygene clip tolva.gpkg#* --with tolva.gpkg#park --out clipped.gpkg
    """
    if (with_ is None) == (box is None):
        raise click.UsageError("give either --with OTHER or --box to clip with")
    if with_where is not None and with_ is None:
        raise click.UsageError("--with-where needs --with OTHER")
    existing = options.on_existing(replace, next_)
    from polygene import batch
    from polygene.crs import parse
    from polygene.ops.clip import clip as clip_layer

    began = time.monotonic()
    assumed = parse(crs) if crs else None
    with show.progress(quiet) as progress:
        other: batch.Other | batch.Box
        if with_ is not None:
            other = batch.read_other(with_, batch.Choice(with_where, assumed), progress)
        else:
            assert box is not None
            other = batch.Box(box)

        def operation(layer: Layer) -> tuple[ClipResult, list[str]]:
            mine, notes = other.in_crs_of(layer)
            step = None if precision is None else precision.in_map_units(layer.crs)
            result = clip_layer(
                layer, mine, whole=whole, single_parts=single_parts, precision=step,
                progress=progress,
            )  # fmt: skip
            return result, [*notes, *result.summary.notes]

        done = batch.run(
            inputs, operation, out, choice=batch.Choice(where, assumed), on_existing=existing,
            progress=progress,
        )  # fmt: skip
    seconds = time.monotonic() - began
    if as_json:
        show.json(_facts(done, seconds))
    elif not quiet:
        _print(done, list(other.notes), seconds)


def _facts(done: list[Done[ClipResult]], seconds: float) -> dict[str, Any]:
    return {
        "command": "clip",
        "results": [
            {
                "source": item.source.words,
                "written": item.target.words,
                "summary": item.result.summary,
                "notes": item.notes,
                "seconds": round(item.seconds, 3),
            }
            for item in done
        ],
        "seconds": round(seconds, 3),
    }


def _print(done: list[Done[ClipResult]], notes: list[str], seconds: float) -> None:
    err = sys.stderr
    first = done[0].result.summary
    name = done[0].result.summary.input.name if len(done) == 1 else f"{len(done)} layers"
    show.title(f"{name} clipped with {first.other.name}", stream=err)
    if len(done) == 1:
        _print_one(first)
    else:
        _print_many(done)
    show.line("CRS", first.crs, err)
    places = list(dict.fromkeys(item.target.path for item in done))
    where = done[0].target.words if len(done) == 1 else ", ".join(map(str, places[:3]))
    if len(places) > 3:
        where += f" and {len(places) - 3} more files"
    show.line("written", f"{where} in {seconds:.2f} s", err)
    for text in dict.fromkeys([*notes, *_worries(done)]):
        show.note(text)


def _took_part(side: Side) -> str:
    words = f"{side.taken:,} of {side.total:,} feature{'' if side.total == 1 else 's'}"
    if side.used < side.taken:
        words += f", {side.used:,} within reach"
    return words


def _print_one(summary: ClipSummary) -> None:
    err = sys.stderr
    show.line("INPUT", f"{summary.input.name}: {_took_part(summary.input)}", err)
    show.line("OTHER", f"{summary.other.name}: {_took_part(summary.other)}", err)
    parts = [f"{summary.whole:,} whole", f"{summary.cut:,} cut"]
    came = f"{summary.out:,} feature{'' if summary.out == 1 else 's'}"
    show.line("came out", f"{came}: {', '.join(parts)}", err)
    left = f"{summary.dropped:,} lay outside"
    if summary.without_geometry:
        left += f", {summary.without_geometry:,} had no geometry"
    show.line("left out", left, err)
    if summary.balance is not None:
        show.line("balance", _balance(summary.balance), err)


def _balance(balance: Balance) -> str:
    from polygene.units import worded

    measures = (balance.before, balance.inside, balance.outside)
    before, inside, outside = worded(measures, balance.unit)
    return f"{before} = {inside} inside + {outside} outside{_difference(balance)}"


def _difference(balance: Balance) -> str:
    """Say by how much it does not add up, where that can be seen at all."""
    if balance.unit == "points":
        return ""
    return f", off by {abs(balance.difference):.2g} {balance.unit}"


def _print_many(done: list[Done[ClipResult]]) -> None:
    from polygene.units import worded

    rows = []
    for item in done:
        s = item.result.summary
        inside, outside = "·", "·"
        if s.balance:
            measures = (s.balance.inside, s.balance.outside)
            inside, outside = worded(measures, s.balance.unit)
        rows.append(
            [s.input.name, f"{s.input.taken:,}", f"{s.out:,}", f"{s.whole:,}", f"{s.cut:,}",
             f"{s.dropped + s.without_geometry:,}", inside, outside]
        )  # fmt: skip
    head = ["layer", "in", "out", "whole", "cut", "left out", "inside", "outside"]
    show.table(head, rows, right=range(1, 8), stream=sys.stderr, flexible=[0])
    click.echo(err=True)
    other = done[0].result.summary.other
    show.line("OTHER", f"{other.name}: {_took_part(other)}", sys.stderr)
    balances = [i.result.summary.balance for i in done if i.result.summary.balance]
    if balances:
        worst = max(balances, key=lambda b: abs(b.difference))
        exact = all(abs(b.difference) <= b.bound for b in balances)
        words = "inside + outside = before in all of them" if exact else "does not add up"
        show.line("balance", f"{words}{_difference(worst)}", sys.stderr)


def _worries(done: list[Done[ClipResult]]) -> list[str]:
    notes = []
    for item in done:
        summary = item.result.summary
        notes += item.notes
        notes += _crossed(summary.input, "of the cut features")
        notes += _crossed(summary.other, "features")
        if summary.without_geometry:
            notes.append(
                f"{summary.input.name}: {summary.without_geometry:,} without geometry left out"
            )
        if summary.out == 0:
            notes.append(f"{summary.input.name}: nothing lies inside; the result is empty")
    return notes


def _crossed(side: Side, of: str) -> list[str]:
    if not side.crossed.count:
        return []
    rows = ", ".join(side.crossed.first)
    more = " …" if side.crossed.count > len(side.crossed.first) else ""
    return [
        f"{side.name}: rings cross in {side.crossed.count:,} {of}: {rows}{more}; read by parity "
        "within a part, union of parts"
    ]
