"""What commands tell that only look at layers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from polygene.errors import with_options
from polygene.info import NO_GEOMETRY
from polygene.notes import counted
from polygene.ops.changes import ADDED, EDITED, MERGED, MOVED, REMOVED, SPLIT, Changes
from polygene.phrases import admitted, bridge, named
from polygene.units import worded

if TYPE_CHECKING:
    from polygene.cli.facts import (
        Audited,
        ProblemTold,
        RelationsCounted,
    )
    from polygene.cli.words.blocks import Words
    from polygene.ops.ask import Asking
    from polygene.ops.audit import NearlyClass
    from polygene.ops.compare import Comparison

FIRST = 5  # rows that are named of a problem
MOST_DIFFERENT = 20  # rows that are named where two relations differ


def audited(found: Audited, say: Words, details: bool) -> None:
    sound = "valid" if found["sound"] else "not valid"
    count = counted(found["features"], "feature")
    if found["geometry"] == NO_GEOMETRY:
        say.title(found["layer"], f"{counted(found['features'], 'row')} without geometry")
    else:
        say.title(found["layer"], f"{count}, {found['geometry']}: {sound}")
    if found["problems"]:
        rows = [
            [
                f["problem"] if f["harms"] else f"{f['problem']} ({_weight(f)})",
                f"{len(f['rows']):,}",
                f["cure"],
                ", ".join(f["rows"][:FIRST]) + (" …" if len(f["rows"]) > FIRST else ""),
            ]
            for f in found["problems"]
        ]
        say.table(["problem", "features", "cure", "first"], rows, right=[1], flexible=[3])
    if found["nearly"]:
        _widths(found["nearly"], say)
    if details:
        say.gap()
        for problem in found["problems"]:
            _details(problem, say)
    for field in found["fields"]:
        first = f": {'; '.join(field.first)}" if field.first and details else ""
        say.line(field.name, f"{field.reason} ({field.count:,}){first}", wide=14)
    say.gap()


def _weight(problem: ProblemTold) -> str:
    """Say of what does no harm to the geometry whether there is anything to do about it."""
    return "harmless" if problem["cure"] == "none needed" else "to note"


def _widths(classes: Sequence[NearlyClass], say: Words) -> None:
    """Say how narrow gaps and overlaps are, so that a width to settle them by can be chosen."""
    say.gap()
    most = max(one.gaps + one.overlaps for one in classes)
    rows, so_far = [], 0
    for one in classes:
        so_far += one.gaps + one.overlaps
        bar = "▇" * max(1, round(24 * (one.gaps + one.overlaps) / most))
        width = f"{one.width:g} {one.unit}"
        rows.append([width, f"{one.gaps:,}", f"{one.overlaps:,}", f"{so_far:,}", bar])
    say.table(["narrower than", "gaps", "overlaps", "so far", ""], rows, right=[0, 1, 2, 3])


def _details(problem: ProblemTold, say: Words) -> None:
    for k, (row, (x, y)) in enumerate(zip(problem["rows"], problem["places"], strict=True)):
        place = "" if x is None else f" at {x:.10g} {y:.10g}"
        more = f" ({problem['details'][k]})" if k < len(problem["details"]) else ""
        say.line(row, f"{problem['reason']}{place}{more}", wide=18)


def compared(found: Comparison, say: Words) -> None:
    one, other = found.first, found.second
    say.title(f"{one.name} and {other.name}")
    names = (one.name, other.name) if one.name != other.name else ("first", "second")
    sizes = (
        worded([one.size, other.size], one.unit)
        if one.unit == other.unit
        else [worded([side.size], side.unit)[0] for side in (one, other)]
    )
    rows = [
        ["features", f"{one.features:,}", f"{other.features:,}"],
        ["without geometry", f"{one.without_geometry:,}", f"{other.without_geometry:,}"],
        ["kind", one.family, other.family],
        ["vertices", f"{one.vertices:,}", f"{other.vertices:,}"],
        ["size", *sizes],
        ["south-west", *(_corner(side.extent, 0) for side in (one, other))],
        ["north-east", *(_corner(side.extent, 2) for side in (one, other))],
        ["CRS", *(side.crs.split()[0] for side in (one, other))],
    ]
    if one.family == other.family == NO_GEOMETRY:
        rows = rows[:1]
    table = [[*row, "" if row[1] == row[2] else "differs"] for row in rows]
    say.table(["", *names, ""], table, flexible=(1, 2))
    say.gap()
    head = ["field", *names]
    cells = [[f.name, f.first or "·", f.second or "·"] for f in found.fields]
    if found.changes is not None:
        head.append("changed in")
        for cell, field in zip(cells, found.fields, strict=True):
            cell.append("" if field.changed is None else f"{field.changed:,}")
    say.table(head, cells, right=[3], flexible=(1, 2))
    if found.changes is not None:
        say.gap()
        _changes(found.changes, say)
    elif not found.differences:
        say.gap()
        each = with_options("`key` or `changes` looks at each feature")
        say.line("no change", f"on the whole; {each}")
    say.note(*found.notes)


def told_of(found: Comparison) -> list[str]:
    """Return the lines below a table of changes: how many of each there are."""
    if found.changes is None:
        return []
    kinds = (ADDED, REMOVED, SPLIT, MERGED, MOVED, EDITED)
    counts = [f"{getattr(found.changes, kind).count:,} {kind}" for kind in kinds]
    names = f"{found.first.name} and {found.second.name}"
    unit = found.changes.unit
    area = "m²" if unit == "m" else "square units"
    return [
        f"{names}: {', '.join(counts)}, {found.changes.same:,} the same",
        f"shift is in {unit}, gained and lost are in {area}",
    ]


def _changes(found: Changes, say: Words) -> None:
    how = f"by {', '.join(found.key)}" if found.key else "by geometry"
    without = [n for n in found.without_key if n]
    if without and found.key:
        how += f"; {sum(without):,} without a key by geometry"
    say.line("told", how)
    moved = []
    if found.largest_shift is not None:
        moved.append(f"borders by {worded([found.largest_shift], found.unit)[0]} at most")
    if found.gained is not None and found.lost is not None and found.moved.count:
        area = "m²" if found.unit == "m" else "square units"
        sizes = worded([found.gained, found.lost], area)
        moved.append(f"{sizes[0]} gained, {sizes[1]} lost")
    became = f"into {found.parts:,}" if found.split.count else ""
    made = f"out of {found.sources:,}" if found.merged.count else ""
    edits = ", ".join(f"{name} in {n:,}" for name, n in found.edits.items())
    for kind, about in (
        (ADDED, ""), (REMOVED, ""), (SPLIT, became), (MERGED, made),
        (MOVED, ", ".join(moved)), (EDITED, edits),
    ):  # fmt: skip
        rows = getattr(found, kind)
        if rows.count:
            said = (
                f" {about}" if about.startswith(("into", "out")) else f", {about}" if about else ""
            )
            say.line(kind, f"{counted(rows.count, 'feature')}{said}: {named(rows)}")
    same = counted(found.same, "feature")
    say.line("the same", same if found.count else f"{same}: no change")


def _corner(extent: Any, at: int) -> str:
    return "·" if extent is None else f"{extent[at]:.10g} {extent[at + 1]:.10g}"


def asked(found: Asking, say: Words) -> None:
    """Tell what overlays and relations of two layers would yield."""
    n, m = counted(found.features, "feature"), counted(found.other_features, "feature")
    say.title(f"{found.input} and {found.other}", f"{n} and {m}")
    done = [one for one in found.overlays if not one.refused]
    sizes = worded([one.size for one in done], done[0].unit) if done else []
    rows = [
        [one.command, f"{one.features:,}", size, str(one.fields), f"{one.seconds:.2f} s", one.does]
        for one, size in zip(done, sizes, strict=True)
    ]
    if rows:
        head = ["overlay", "features", "size", "fields", "takes", ""]
        say.table(head, rows, right=[1, 2, 3, 4], flexible=[5])
    refused = [one for one in found.overlays if one.refused]
    for one in refused if done else refused[:1]:
        say.line(one.command if done else "overlays", f"not for these: {one.refused}")
    say.gap()
    counts = [[name, f"{n:,}"] for name, n in found.relations.items()]
    say.table([f"relation of {found.input}", "features"], counts, right=[1])
    say.note(*(bridge(facts, found.input) for facts in found.brought))
    for name, facts in found.admitted.items():
        say.note(*admitted(name, facts))
    if found.without_geometry:
        n = counted(found.without_geometry, "feature")
        say.note(f"{found.input}: {n} without geometry left out")


def relations(found: RelationsCounted, say: Words) -> None:
    title = f"{found['layer']} and {found['other']}"
    say.title(title, f"{counted(found['features'], 'feature')} of {found['layer']}")
    rows = [[name, f"{n:,}"] for name, n in found["selected"].items()]
    say.table(["relation to any", "features"], rows, right=[1])
    if found["differ"]:
        say.gap()
    for words, labels in found["differ"].items():
        first = ", ".join(labels[:MOST_DIFFERENT])
        more = " …" if len(labels) > MOST_DIFFERENT else ""
        n = counted(len(labels), "feature")
        say.line(words, f"{n}{': ' if labels else ''}{first}{more}", wide=28)
