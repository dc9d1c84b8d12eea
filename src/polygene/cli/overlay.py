"""What the overlay commands share: their options, the run, the words of the summary."""

from __future__ import annotations

import contextlib
import dataclasses
import importlib
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show
from polygene.commands import COMMANDS, Overlay

if TYPE_CHECKING:
    from polygene.batch import Box, Done, Failed, Other, Results
    from polygene.layer import Layer
    from polygene.ops.summary import (
        Admitted,
        GivenAway,
        NamedRows,
        OverlayResult,
        OverlaySummary,
        Side,
        Snap,
    )

Operation = Callable[..., Any]


def common(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that all overlays have."""
    for option in reversed(
        (
            options.inputs,
            options.where,
            options.with_where,
            options.out,
            options.replace,
            options.next_,
            options.snap,
            options.drop_slivers,
            options.follow,
            options.refresh,
            options.apportion,
            options.single_parts,
            options.precision,
            options.invalid,
            options.crs,
            options.keep_dump,
            options.stop_at_first,
            options.json,
            options.quiet,
        )
    ):
        function = option(function)
    return function


def command_of(name: str) -> click.Command:
    """Return the command of an overlay that needs no more than the common options."""
    told = COMMANDS[name].overlay
    assert told is not None
    is_one = told.takes == "one"

    def call(with_: Any, **options_: Any) -> None:
        operation = getattr(importlib.import_module(f"polygene.ops.{name}"), name)
        addresses = [with_] if is_one else with_
        run(operation, lambda progress: read_others(addresses, options_, progress), **options_)

    call.__doc__ = told.help
    function = common(call)
    if told.has_origins:
        function = options.origins(function)
    function = (options.with_required if is_one else options.with_several)(function)
    command: click.Command = options.command(name)(function)
    return command


def read_others(addresses: Sequence[str], options_: dict[str, Any], progress: Any) -> list[Other]:
    """Read the OTHERs, all through the one filter."""
    from polygene import batch
    from polygene.crs import parse

    crs = options_["crs"]
    choice = batch.Choice(options_["with_where"], parse(crs) if crs else None)
    return [batch.read_other(text, choice, progress) for text in addresses]


def run(
    operation: Operation,
    others_of: Callable[[Any], Sequence[Other | Box]],
    *,
    inputs: Sequence[str],
    where: Any,
    with_where: Any,
    out: str,
    replace: bool,
    next_: bool,
    single_parts: bool,
    precision: Any,
    snap: Any,
    drop_slivers: Any,
    follow: Any,
    refresh: str | None,
    apportion: str | None,
    crs: str | None,
    keep_dump: str | None,
    stop_at_first: bool,
    as_json: bool,
    quiet: bool,
    prints: Callable[[list[Done[Any]]], None] | None = None,
    **extra: Any,
) -> None:
    """Lay every input over the OTHERs, write the results, and say what was done.

    ``prints`` words summaries that are not those of an overlay.
    """
    existing = options.on_existing(replace, next_)
    from polygene import batch
    from polygene.crs import parse

    began = time.monotonic()
    with show.progress(quiet) as progress:
        others = others_of(progress)

        def work(layer: Layer) -> tuple[Any, list[str]]:
            mine = [other.over(layer) for other in others]
            distances = {
                name: distance.in_map_units(layer.crs)
                for name, distance in (
                    ("precision", precision),
                    ("snap", snap),
                    ("drop_slivers", drop_slivers),
                )
                if distance is not None
            }
            if follow is not None:
                distances["follow"] = follow.as_length()
            lists = {
                name: options.names_of(text)
                for name, text in (("refresh", refresh), ("apportion", apportion))
                if text
            }
            with keeping_dump(keep_dump, [layer, *mine]):
                result = operation(
                    layer,
                    *mine,
                    single_parts=single_parts,
                    progress=progress,
                    **distances,
                    **lists,
                    **extra,
                )
            return result, [*bridges(result.summary, layer.name), *result.summary.notes]

        done = batch.run(
            inputs,
            work,
            out,
            choice=batch.Choice(where, parse(crs) if crs else None),
            on_existing=existing,
            stops_at_first=stop_at_first,
            progress=progress,
        )
    seconds = time.monotonic() - began
    others_say = [note for y in others for note in y.notes]
    tell(done, done[0].result.summary.operation, seconds, as_json, others_say)
    if not (as_json or quiet):
        if prints is not None:
            prints(done)
        else:
            _print(done, snap, drop_slivers)
        written(done, seconds)
        worries = (
            _worries(done, snap, precision)
            if prints is None
            else [t for item in done for t in item.notes]
        )
        for text in dict.fromkeys([*others_say, *worries]):
            show.note(text)
    tell_failed(done.failed)


def tell_failed(failed: Sequence[Failed]) -> None:
    """Say which inputs could not be worked on, and end with exit code 1 if there are any."""
    for item in failed:
        first, *rest = item.reason.splitlines()
        show.line("failed", f"{item.source.words}: {first}", sys.stderr)
        for line in rest:
            click.echo(line, err=True)
    if failed:
        sys.exit(1)


def bridges(summary: Any, onto: str) -> list[str]:
    """Say how OTHERs came to INPUT's CRS."""
    from polygene.batch import bridge_words

    return [bridge_words(facts, onto) for facts in summary.brought]


@contextlib.contextmanager
def keeping_dump(folder: str | None, layers: Sequence[Layer]) -> Iterator[None]:
    """Keep what went into a work of which a proof fails."""
    from polygene import batch
    from polygene.errors import ProofError

    try:
        yield
    except ProofError:
        if folder is not None:
            place = batch.dump(folder, layers, ["polygene", *sys.argv[1:]])
            show.note(f"what is needed to find out why is kept in {place}")
        raise


def tell(done: Results[Any], command: str, seconds: float, as_json: bool, notes: Any = ()) -> None:
    """Tell the facts of what was done, to a script or to whoever runs the command."""

    def results() -> list[dict[str, Any]]:
        return [
            {
                "source": item.source.words,
                "written": item.target.words,
                "summary": item.result.summary,
                "notes": item.notes,
                "seconds": round(item.seconds, 3),
            }
            for item in done
        ]

    failed = [{"source": f.source.words, "reason": f.reason} for f in done.failed]
    show.facts(command, results, as_json, notes=notes, failed=failed, seconds=seconds)


def written(done: Sequence[Done[Any]], seconds: float) -> None:
    """Say where the results went."""
    places = list(dict.fromkeys(item.target.path for item in done))
    where = done[0].target.words if len(done) == 1 else ", ".join(map(str, places[:3]))
    if len(places) > 3:
        where += f" and {len(places) - 3} more files"
    show.line("written", f"{where} in {seconds:.2f} s", sys.stderr)


def _print(done: list[Done[OverlayResult]], snap: Any, width: Any) -> None:
    err = sys.stderr
    first = done[0].result.summary
    name = first.input.name if len(done) == 1 else f"{len(done)} layers"
    others = " and ".join(side.name for side in first.others) or "itself"
    show.title(f"{name} {told_of(first).done} {others}", stream=err)
    if len(done) == 1:
        _print_one(first, snap, width)
    else:
        _print_many(done, snap, width)
    show.line("CRS", first.crs, err)


def took_part(side: Side) -> str:
    """Say how many of how many features took part."""
    words = f"{side.taken:,} of {show.counted(side.total, 'feature')}"
    if side.used < side.taken:
        words += f", {side.used:,} within reach"
    return words


def _print_one(summary: OverlaySummary, snap: Any, width: Any) -> None:
    err = sys.stderr
    show.line("INPUT", f"{summary.input.name}: {took_part(summary.input)}", err)
    for side in summary.others:
        show.line("OTHER", f"{side.name}: {took_part(side)}", err)
    came = show.counted(summary.out, "feature")
    show.line("came out", f"{came}: {_what_came(summary)}", err)
    left = []
    if summary.dropped:
        fell = summary.input.fell.count + (summary.snap.fell.count if summary.snap else 0)
        if summary.dropped > fell:
            left.append(f"{summary.dropped - fell:,} {told_of(summary).lost}")
        if fell:
            left.append(f"{fell:,} too thin")
    if summary.without_geometry:
        left.append(f"{summary.without_geometry:,} had no geometry")
    if left:
        show.line("left out", ", ".join(left), err)
    if summary.snap is not None:
        show.line("snap", _snap(summary.snap, summary.input, snap), err)
    if summary.given_away is not None:
        show.line("slivers", _given_away(summary.given_away, width), err)
    if summary.balance is not None:
        show.line("balance", _balance(summary), err)
        if summary.balance.unit != "points":
            show.line("grid", _grid(summary), err)
    proved(summary.proved)


def told_of(summary: OverlaySummary) -> Overlay:
    """Return how an overlay is told."""
    told = COMMANDS[summary.operation].overlay
    assert told is not None
    return told


def _what_came(summary: OverlaySummary) -> str:
    if not summary.others:
        return f"{summary.both:,} shared by several features, {summary.input_only:,} of one alone"
    names = [side.name for side in summary.others]
    return told_of(summary).came.format(
        own=summary.input.name,
        other=names[0] if len(names) == 1 else "any OTHER",
        all=" and ".join(names),
        whole=summary.whole,
        cut=summary.cut,
        both=summary.both,
        input_only=summary.input_only,
        other_only=summary.other_only,
    )


def _snap(snap: Snap, side: Side, asked: Any) -> str:
    from polygene.geometry import Family

    words = (
        f"{snap.moved:,} vertices moved, {asked.worded(snap.furthest, snap.map_unit)} at most, and "
        f"{snap.added:,} added in "
        f"{snap.changed:,} features"
    )
    if side.family == Family.POLYGONS:
        words += (
            f"; places of one side alone thinner than {asked.worded(snap.distance, snap.map_unit)}: "
            f"{snap.slivers_before:,} "
            f"without the snap, {snap.slivers_after:,} with it"
        )
    return words


def _given_away(given: GivenAway, asked: Any) -> str:
    from polygene.units import worded

    area, left = worded([given.area, given.left_area], given.unit)
    parts = show.counted(given.count, "part")
    width = asked.worded(given.width, given.map_unit)
    words = f"{parts} thinner than {width} given to a neighbour, {area}"
    if given.rows:
        words += f"; {show.counted(given.rows, 'row')} of nothing else gone"
    if given.left:
        words += f"; {given.left:,} without a neighbour stay, {left}"
    return words


def _balance(summary: OverlaySummary) -> str:
    from polygene.geometry import Family
    from polygene.units import worded

    balance = summary.balance
    assert balance is not None
    measures = [balance.before, balance.inside, balance.outside]
    if balance.other_only is not None:
        measures.append(balance.other_only)
    before, inside, outside, *only = worded(measures, balance.unit)
    names = ("inside", "outside") if summary.others else ("shared", "not shared")
    if summary.others and summary.others[0].family != Family.POLYGONS:
        names = ("on OTHER", "beside it")
    words = f"{before} = {inside} {names[0]} + {outside} {names[1]}"
    if balance.unit in ("m²", "square units"):
        words += ", exactly on the grid"
    return words + (f"; {only[0]} of OTHER only" if only else "")


def _grid(summary: OverlaySummary) -> str:
    """Say what rounding to the grid changed."""
    balance = summary.balance
    assert balance is not None
    return (
        f"borders moved by {_length(balance.moved, balance.unit)} at most, which changed "
        f"{abs(balance.difference):.2g} {balance.unit} in all"
    )


def _length(value: float, unit: str) -> str:
    if unit not in ("m²", "m"):
        return f"{value:.2g} units"
    return f"{value * 1000:.2g} mm" if value < 0.1 else f"{value:.2g} m"


def _print_many(done: Sequence[Done[OverlayResult]], snap: Any, width: Any) -> None:
    from polygene.units import worded

    rows = []
    for item in done:
        s = item.result.summary
        inside, outside = "·", "·"
        if s.balance:
            measures = (s.balance.inside, s.balance.outside)
            inside, outside = worded(measures, s.balance.unit)
        rows.append(
            [
                s.input.name,
                f"{s.input.taken:,}",
                f"{s.out:,}",
                f"{s.whole:,}",
                f"{s.cut:,}",
                f"{s.dropped + s.without_geometry:,}",
                inside,
                outside,
            ]
        )
    head = ["layer", "in", "out", "whole", "cut", "left out", "inside", "outside"]
    show.table(head, rows, right=range(1, 8), stream=sys.stderr, flexible=[0])
    click.echo(err=True)
    for other in done[0].result.summary.others:
        show.line("OTHER", f"{other.name}: {took_part(other)}", sys.stderr)
    snaps = [i.result.summary.snap for i in done if i.result.summary.snap]
    if snaps:
        unit = snaps[0].map_unit
        words = (
            f"{sum(s.moved for s in snaps):,} vertices moved, "
            f"{snap.worded(max(s.furthest for s in snaps), unit)} at most, and "
            f"{sum(s.added for s in snaps):,} added; places of one side alone thinner than "
            f"{snap.worded(snaps[0].distance, unit)}: "
            f"{sum(s.slivers_before for s in snaps):,} without the snap, "
            f"{sum(s.slivers_after for s in snaps):,} with it"
        )
        show.line("snap", words, sys.stderr)
    given = [i.result.summary.given_away for i in done if i.result.summary.given_away]
    if given:
        n, left = sum(g.count for g in given), sum(g.left for g in given)
        thin = width.worded(given[0].width, given[0].map_unit)
        words = f"{n:,} parts thinner than {thin} given to a neighbour"
        show.line("slivers", words + (f"; {left:,} without one stay" if left else ""), sys.stderr)
    balances = [i.result.summary.balance for i in done if i.result.summary.balance]
    if balances:
        worst = max(balances, key=lambda b: abs(b.difference))
        words = "inside + outside = before in all of them, exactly on the grid"
        if worst.unit != "points":
            words += f", which changed {abs(worst.difference):.2g} {worst.unit} at most"
        show.line("balance", words, sys.stderr)
    proved(sum(item.result.summary.proved for item in done))


def _worries(done: Sequence[Done[OverlayResult]], snap: Any, precision: Any) -> list[str]:
    notes: list[str] = []
    for item in done:
        summary = item.result.summary
        notes += item.notes
        for side in (summary.input, *summary.others):
            notes += admitted(side)
        for side in (summary.input, *summary.others):
            step = precision.text if precision is not None else f"{summary.precision:g}"
            notes += fell(side, f"a grid of {step}")
        if summary.snap is not None:
            snapped = dataclasses.replace(summary.input, fell=summary.snap.fell)
            far = snap.worded(summary.snap.distance, summary.snap.map_unit)
            notes += fell(snapped, f"a snap of {far}")
            notes += _reshaped(summary.snap, summary.input.name, far)
        gone = summary.given_away.gone if summary.given_away else None
        if gone and gone.count:
            n = show.counted(gone.count, "feature")
            notes.append(f"{summary.input.name}: slivers were all that {n} had: {named(gone)}")
        notes += stored(summary)
        if summary.without_geometry:
            notes.append(
                f"{summary.input.name}: {summary.without_geometry:,} without geometry left out"
            )
        if summary.out == 0:
            what = (
                "everything lies inside" if summary.operation == "erase" else "nothing lies inside"
            )
            notes.append(f"{summary.input.name}: {what}; the result is empty")
    return notes


def _reshaped(snap: Snap, name: str, far: str) -> list[str]:
    """Say which features a snap made something else of."""
    notes = []
    for rows, what in (
        (snap.tangled, "rings crossed after it in {}, which were mended"),
        (snap.reshaped, "{} have other parts than before"),
    ):
        if rows.count:
            n = show.counted(rows.count, "feature")
            notes.append(
                f"{name}: the snap of {far} is as large as detail: {what.format(n)}: {named(rows)}"
            )
    return notes


def stored(summary: OverlaySummary) -> list[str]:
    """Say what became of fields that hold areas and lengths."""
    notes = []
    for item in summary.stored:
        what = f"{item.layer}: field {item.field} holds the {item.measure}"
        what += f" in {item.unit}" if item.unit else ""
        if item.done == "kept" and item.cut:
            n = show.counted(item.cut, "feature")
            notes.append(
                f"{what}, which is no longer true of {n} that came out cut; --refresh {item.field} "
                "measures it anew"
            )
        elif item.done == "refreshed":
            notes.append(f"{what}; measured anew")
        elif item.done == "apportioned":
            n = show.counted(item.cut, "feature")
            notes.append(f"{item.layer}: field {item.field} scaled in {n} that came out cut")
    return notes


def admitted(side: Side) -> list[str]:
    """Say what became of invalid features, and how their area changed."""
    return admitted_words(side.name, side.admitted)


def admitted_words(name: str, facts: Admitted) -> list[str]:
    """Say what became of invalid features of a layer, and how their area changed."""
    from polygene.batch import admitted_words as words_of
    from polygene.units import worded

    notes = words_of(name, facts)
    if facts.mended.count:
        before, after = worded([facts.before, facts.after], facts.unit)
        notes[0] += f"; their area by the signs of their rings was {before}, now {after}"
    return notes


def proved(n: int) -> None:
    """Say that all features that came out were found valid."""
    if n:
        show.line("valid", f"all {n:,} checked", sys.stderr)


def fell(side: Side, what: str) -> list[str]:
    """Say of which rows nothing was left."""
    if not side.fell.count:
        return []
    n = show.counted(side.fell.count, "feature")
    return [f"{side.name}: nothing is left of {n} too thin for {what}: {named(side.fell)}"]


def named(rows: NamedRows) -> str:
    """Return the first of some rows as a list."""
    return ", ".join(rows.first) + (" …" if rows.count > len(rows.first) else "")
