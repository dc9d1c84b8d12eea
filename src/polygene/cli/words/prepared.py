"""What is told of commands that prepare or measure a layer."""

from __future__ import annotations

from typing import TYPE_CHECKING

from polygene.cli.words.common import counted_rows, proved, written_so
from polygene.info import NO_GEOMETRY
from polygene.notes import Warned, counted
from polygene.phrases import bridge, named
from polygene.units import metres_worded, worded

if TYPE_CHECKING:
    from polygene.cli.words.blocks import Words
    from polygene.ops.coverage import SettleSummary
    from polygene.ops.fields import FieldsSummary
    from polygene.ops.measure import MeasureSummary
    from polygene.ops.mend import MendSummary
    from polygene.ops.reproject import ReprojectSummary
    from polygene.ops.subset import SubsetSummary
    from polygene.ops.summary import CopySummary

FIRST = 10  # rows that are told one by one


def mend(summary: MendSummary, say: Words) -> None:
    say.title(f"mended {summary.name}")
    n = counted(summary.features, "feature")
    say.line("mended", f"{summary.mended:,} of {n}, the others as they were")
    for row in summary.rows[:FIRST]:
        before, after = worded([row.before, row.after], summary.unit)
        say.line("", f"{row.row}: {before} as drawn, {after} after mending")
    if summary.mended > FIRST:
        say.line("", f"and {summary.mended - FIRST:,} more")
    proved(say, summary.proved)
    if summary.settled is not None:
        _settled(summary.settled, say)
    say.note(*summary.notes)
    for rows in (summary.vanished, *([summary.settled.vanished] if summary.settled else [])):
        if rows.count:
            n = counted(rows.count, "feature")
            say.note(Warned(f"{summary.name}: nothing is left of {n}: {named(rows)}"))


def _settled(found: SettleSummary, say: Words) -> None:
    for label, n, area, left, what in (
        ("gaps", found.gaps, found.gap_area, found.gaps_left, "closed"),
        (
            "overlaps",
            found.overlaps,
            found.overlap_area,
            found.overlaps_left,
            f"given to the {found.prefer} of those that share them",
        ),
    ):
        size = f"{area:,.4g} {found.unit}"
        rest = f"; {left:,} that are wider left" if left else ""
        width = written_so([found.asked]) or f"{found.width:g} {found.length_unit}"
        say.line(label, f"{n:,} narrower than {width} {what}, {size}{rest}")
    all_ = counted(found.features, "feature")
    met = f"; {found.met:,} got a vertex where these meet them" if found.met else ""
    say.line("changed", f"{found.changed:,} of {all_}{met}; the others as they were")


def subset(summary: SubsetSummary, say: Words) -> None:
    say.title(f"subset of {summary.name}")
    say.line("kept", f"{summary.out:,} of {counted_rows(summary.total, summary.geometry)}")
    if summary.metric:
        say.line("distance", summary.metric)
    if len(summary.fields) < summary.fields_total:
        names = ", ".join(summary.fields)
        say.line("fields", f"{len(summary.fields)} of {summary.fields_total}: {names}")
    say.note(*summary.notes, *(bridge(facts, summary.name) for facts in summary.brought))
    if summary.out == 0:
        thing = "row" if summary.geometry == NO_GEOMETRY else "feature"
        say.note(Warned(f"{summary.name}: no {thing} is left"))


def fields(summary: FieldsSummary, say: Words) -> None:
    say.title(f"fields of {summary.name}")
    for text in summary.changed or ["nothing to do"]:
        say.line("changed", text)
    if summary.rows < summary.total:
        of = counted_rows(summary.total, summary.geometry)
        say.line("only", f"values of {summary.rows:,} of {of}")
    say.line("fields", ", ".join(summary.fields))
    for name, n in summary.lost.items():
        say.note(Warned(f"{summary.name}, {name}: {counted(n, 'value')} that did not fit"))
    if summary.zero_divisions:
        n_ = counted(summary.zero_divisions, "division")
        say.note(Warned(f"{summary.name}: {n_} by zero, null there"))
    say.note(*summary.notes)
    for words, n in summary.without_value.items():
        say.note(Warned(f"{summary.name}: {counted(n, 'value')} {words}, null there"))


def reproject(summary: ReprojectSummary, say: Words) -> None:
    say.title(f"reprojected {summary.name}")
    say.line("features", f"{summary.features:,}")
    say.line("from", summary.source)
    say.line("to", summary.target)
    if summary.tolerance is not None:
        course = f"to keep edges within {summary.within} of their course"
        say.line("vertices", f"{summary.added:,} added {course}")
    if summary.accuracy is not None:
        say.line("accuracy", f"{metres_worded(summary.accuracy)}, by {summary.operation}")
    if summary.parted:
        n = counted(summary.parted, "feature")
        say.note(f"{summary.name}: {n} parted where the map ends, to lie at both of its ends")
    if summary.turned:
        n = counted(summary.turned, "feature")
        say.note(f"{summary.name}: {n} moved by whole turns to longitudes within half a turn of 0")
    if summary.mended:
        n = counted(summary.mended, "feature")
        say.note(f"{summary.name}: {n} invalid over there, and mended")
    if summary.fell.count:
        n = counted(summary.fell.count, "feature")
        say.note(Warned(f"{summary.name}: nothing is left of {n} there: {named(summary.fell)}"))
    say.note(*summary.notes)
    if summary.outside.count:
        n = counted(summary.outside.count, "feature")
        rows = named(summary.outside)
        say.note(Warned(f"{summary.name}: {n} outside of where the new CRS is used: {rows}"))


def convert(summary: CopySummary, say: Words) -> None:
    n = counted_rows(summary.features, summary.geometry)
    crs = "" if summary.geometry == NO_GEOMETRY else f", {summary.crs}"
    say.line(summary.name, f"{n}, {counted(summary.fields, 'field')}{crs}")
    say.note(*summary.notes)


def measure(summary: MeasureSummary, say: Words) -> None:
    say.title(f"measured {summary.name}")
    say.line("features", f"{summary.features:,}, {summary.method}")
    for total in summary.totals:
        words = f"{total.field}: {total.total:,.2f} {total.unit} in all".replace("  ", " ")
        if total.changed is not None:
            words += f"; {total.changed:,} of the stored values were off"
        say.line("measure", words)
    say.line("fields", ", ".join(summary.columns))
    say.note(*summary.notes)
    if summary.without_geometry:
        n = counted(summary.without_geometry, "feature")
        say.note(f"{summary.name}: {n} without geometry, null there")
    if summary.invalid.count:
        n = counted(summary.invalid.count, "invalid feature")
        say.note(
            Warned(
                f"{summary.name}: {n}, measured by the direction of rings, which may not be what is "
                f"covered: {named(summary.invalid)}; mend first"
            )
        )
