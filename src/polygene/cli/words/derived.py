"""What is told of commands that derive a layer of each INPUT."""

from __future__ import annotations

from typing import TYPE_CHECKING

from polygene.cli.words.common import counted_rows, disagreed, proved, took_part, written_so
from polygene.notes import Warned, counted
from polygene.phrases import admitted, bridge, named
from polygene.units import worded

if TYPE_CHECKING:
    from polygene.cli.words.blocks import Words
    from polygene.ops.buffer import BufferSummary
    from polygene.ops.by_key import KeyJoinSummary, NamedKeys
    from polygene.ops.crossings import CrossingsSummary
    from polygene.ops.dissolve import DissolveSummary
    from polygene.ops.hull import HullSummary
    from polygene.ops.join import JoinSummary
    from polygene.ops.parts import PartsSummary


def buffer(summary: BufferSummary, say: Words) -> None:
    far = " and ".join(f"{d:,.6g} {summary.unit}" for d in summary.distances) or "no distance"
    say.title(f"{summary.name} buffered by {written_so(summary.asked) or far}")
    say.line("INPUT", f"{summary.taken:,} of {counted(summary.total, 'feature')}")
    method = summary.method
    if summary.error:
        method += f", distances right within {summary.error * 100:.2g} %"
    say.line("computed", method)
    area = worded([summary.area], summary.area_unit)[0]
    say.line("came out", f"{counted(summary.out, 'feature')}, {area}")
    disagreed(say, summary.disagreements)
    proved(say, summary.proved)
    say.line("CRS", summary.crs)
    say.note(*summary.notes, *admitted(summary.name, summary.admitted))
    for rows, what in (
        (summary.vanished, "of which nothing is left"),
        (summary.skipped, "without geometry or distance left out"),
    ):
        if rows.count:
            n = counted(rows.count, "feature")
            say.note(f"{summary.name}: {n} {what}: {named(rows)}")


def dissolve(summary: DissolveSummary, say: Words) -> None:
    by = ", ".join(summary.by)
    say.title(f"{summary.input.name} dissolved {f'by {by}' if by else 'into one'}")
    say.line("INPUT", f"{summary.input.name}: {took_part(summary.input)}")
    say.line("came out", counted(summary.out, "feature"))
    if summary.area is not None and summary.overlap is not None:
        area, overlap = worded([summary.area, summary.overlap], summary.unit)
        say.line("area", f"{area}; {overlap} lay under several features of a group")
    disagreed(say, summary.disagreements)
    proved(say, summary.proved)
    say.line("CRS", summary.crs)
    say.note(*summary.notes, *admitted(summary.input.name, summary.input.admitted))
    if summary.without_geometry:
        say.note(f"{summary.input.name}: {summary.without_geometry:,} without geometry")


def hull(summary: HullSummary, say: Words) -> None:
    say.title(f"hull of {summary.name}")
    say.line("INPUT", f"{summary.taken:,} of {counted(summary.total, 'feature')}")
    if summary.without:
        how = f" by {', '.join(summary.match)}" if summary.match else ""
        off = worded([summary.taken_off], summary.unit)[0]
        gone = f"; nothing is left of {counted(summary.gone, 'hull')}" if summary.gone else ""
        say.line("without", f"{summary.without}{how}: {off} taken off{gone}")
    area = worded([summary.area], summary.unit)[0]
    say.line("came out", f"{counted(summary.out, 'feature')}, {area}")
    proved(say, summary.proved)
    say.line("CRS", summary.crs)
    say.note(*summary.notes, *admitted(summary.name, summary.admitted))
    if summary.flat.count:
        n = counted(summary.flat.count, "hull")
        say.note(Warned(f"{summary.name}: {n} without area left out: {named(summary.flat)}"))


def parts(summary: PartsSummary, say: Words) -> None:
    say.title(f"parts of {summary.name}")
    taken = f"{summary.taken:,} of {counted(summary.total, 'feature')}"
    say.line("INPUT", f"{taken}, {counted(summary.parts, 'part')}")
    say.line("came out", counted(summary.out, "feature"))
    disagreed(say, summary.disagreements)


def join(summary: JoinSummary, say: Words) -> None:
    say.title(f"{summary.input} joined with {summary.other}", summary.relation)
    taken = f"{summary.input_taken:,} of {counted(summary.input_total, 'feature')}"
    say.line("INPUT", f"{summary.input}: {taken}")
    taken = f"{summary.other_taken:,} of {counted(summary.other_total, 'feature')}"
    unused = f", {summary.unused:,} of them nobody's partner" if summary.unused else ", all matched"
    say.line("OTHER", f"{summary.other}: {taken}{unused if summary.other_taken else ''}")
    say.line(
        "pairs",
        f"{summary.pairs:,}: {summary.none:,} of {summary.input} have no partner, {summary.one:,} "
        f"have one, {summary.many:,} several",
    )
    say.line("came out", counted(summary.out, "feature"))
    if summary.furthest is not None:
        middle = f"{summary.middle:,.2f} {summary.unit}"
        most = f"{summary.furthest:,.2f} {summary.unit}"
        say.line("distance", f"median {middle}, largest {most}, {summary.metric}")
    disagreed(say, summary.disagreements, "features")
    say.line("CRS", summary.crs)
    say.note(*summary.notes, *(bridge(facts, summary.input) for facts in summary.brought))
    if summary.on_borders.count:
        n, which = counted(summary.on_borders.count, "point"), named(summary.on_borders)
        done = {
            "": "count in each; `share_border` gives each to one, or splits them",
            "first-key": "went to the one with the lowest identifier",
            "split": "count in parts of each",
        }[summary.border]
        say.note(f"{n} on a border that several polygons share {done}: {which}")
    if summary.tied.count:
        n = counted(summary.tied.count, "feature")
        say.note(
            Warned(
                f"{summary.input}: {n} with several partners that are equal; the first in "
                f"{summary.other} was taken: {named(summary.tied)}"
            )
        )


def join_by_key(summary: KeyJoinSummary, say: Words) -> None:
    how = ", folded" if summary.folded else ""
    say.title(f"{summary.input} joined with {summary.other}", f"by {', '.join(summary.key)}{how}")
    taken = f"{summary.input_taken:,} of {counted_rows(summary.input_total, summary.geometry)}"
    say.line("INPUT", f"{summary.input}: {taken}, {summary.matched:,} with a partner")
    taken = (
        f"{summary.other_taken:,} of {counted_rows(summary.other_total, summary.other_geometry)}"
    )
    say.line("OTHER", f"{summary.other}: {taken}, {summary.used:,} with a partner")
    sides = (
        (summary.input, summary.alone, summary.without_key, summary.twice),
        (summary.other, summary.other_alone, summary.other_without_key, summary.other_twice),
    )
    for name, alone, without, _ in sides:
        if alone.rows:
            say.line("alone", f"{alone.rows:,} of {name}, {_named_keys(alone)}")
        if without:
            say.line("no key", f"{without:,} of {name}")
    for name, _, _, twice in sides:
        if twice.rows:
            n = counted(twice.keys, "key")
            say.line("repeated", f"{n} in {twice.rows:,} rows of {name}: {_listed(twice)}")
    for field, one in summary.carried.items():
        share = "" if one.share is None else f" ({100 * one.share:.2f} %)"
        again = f"; {one.after:,.10g} over what came out" if one.after != one.placed else ""
        say.line(
            "sum", f"{field}: {one.placed:,.10g} of {one.total:,.10g}{share} found a place{again}"
        )
    say.line("came out", counted_rows(summary.out, summary.geometry))
    disagreed(say, summary.disagreements, "features")
    say.note(*summary.notes)
    if summary.would_fold:
        n = counted_rows(summary.would_fold, summary.geometry)
        say.note(Warned(f"{summary.input}: {n} more would find a partner with `fold`"))


def _named_keys(found: NamedKeys) -> str:
    return f"{counted(found.keys, 'key')}: {_listed(found)}"


def _listed(found: NamedKeys) -> str:
    return ", ".join(found.first) + (" …" if found.keys > len(found.first) else "")


def crossings(summary: CrossingsSummary, say: Words) -> None:
    say.title(f"{summary.input.name} crossed with {summary.other.name}")
    say.line("INPUT", f"{summary.input.name}: {took_part(summary.input)}")
    say.line("OTHER", f"{summary.other.name}: {took_part(summary.other)}")
    points, pairs = counted(summary.points, "point"), counted(summary.pairs, "pair")
    say.line(
        "came out",
        f"{counted(summary.out, 'feature')}: {points} in which {pairs} of lines meet, "
        f"{summary.crossed:,} of {summary.input.name} and {summary.other_crossed:,} of "
        f"{summary.other.name}",
    )
    say.line("CRS", summary.crs)
    say.note(*(bridge(facts, summary.input.name) for facts in summary.brought), *summary.notes)
