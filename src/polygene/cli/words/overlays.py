"""What is told of overlays: of one INPUT in lines, of several in a table."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from typing import TYPE_CHECKING

from polygene.cli.words.common import proved, took_part
from polygene.commands import COMMANDS, OverlayWords
from polygene.geometry import Family
from polygene.notes import Warned, counted
from polygene.phrases import admitted, bridge, named
from polygene.units import roughly, worded, worded_as

if TYPE_CHECKING:
    from polygene.batch import Done
    from polygene.cli.words.blocks import Words
    from polygene.ops.summary import (
        Balance,
        GivenAway,
        Leftovers,
        OverlayResult,
        OverlaySummary,
        Side,
        Snap,
    )


def overlays(done: Sequence[Done[OverlayResult]], say: Words) -> None:
    summaries = [item.result.summary for item in done]
    first = summaries[0]
    name = first.input.name if len(done) == 1 else f"{len(done)} layers"
    others = " and ".join(side.name for side in first.others) or "itself"
    each = " each" if len(done) > 1 and not first.others else ""
    say.title(f"{name}{each} {_told_of(first).done} {others}")
    if len(done) == 1:
        _one(first, say)
    else:
        _many(summaries, say)
    if len({summary.crs for summary in summaries}) == 1:
        say.line("CRS", first.crs)
    for item in done:
        say.note(*item.notes)
        _notes(item.result.summary, say)


def _told_of(summary: OverlaySummary) -> OverlayWords:
    """Return how an overlay is told."""
    told = COMMANDS[summary.operation].overlay
    assert told is not None
    return told


def _one(summary: OverlaySummary, say: Words) -> None:
    say.line("INPUT", f"{summary.input.name}: {took_part(summary.input)}")
    for side in summary.others:
        say.line("OTHER", f"{side.name}: {took_part(side)}")
    if summary.match:
        say.line("match", ", ".join(summary.match))
    say.line("came out", f"{counted(summary.out, 'feature')}: {_what_came(summary)}")
    left = []
    if summary.dropped:
        fell = summary.input.fell.count + (summary.snap.fell.count if summary.snap else 0)
        if summary.dropped > fell:
            left.append(f"{summary.dropped - fell:,} {_told_of(summary).lost}")
        if fell:
            left.append(f"{fell:,} too thin")
    if summary.without_geometry:
        left.append(f"{summary.without_geometry:,} had no geometry")
    if left:
        say.line("left out", ", ".join(left))
    if summary.leftovers is not None and summary.leftovers.done:
        say.line("leftovers", _leftovers(summary.leftovers))
    if summary.snap is not None:
        say.line("snap", _snap(summary.snap, summary.input))
    if summary.given_away is not None:
        say.line("slivers", _given_away(summary.given_away))
    if summary.balance is not None:
        say.line("balance", _balance(summary, summary.balance))
        if summary.balance.unit != "points":
            say.line("grid", _grid(summary.balance))
    proved(say, summary.proved)


def _leftovers(found: Leftovers) -> str:
    n, area = counted(found.rows.count, "feature"), worded([found.area], found.unit)[0]
    done = {"keep": "kept", "drop": "dropped", "only": "kept alone"}[found.done]
    names = f": {named(found.rows)}" if found.rows.count else ""
    return f"{n} whose {' and '.join(found.key)} is in OTHER {done}, {area}{names}"


def _what_came(summary: OverlaySummary) -> str:
    if not summary.others:
        return f"{summary.both:,} shared by several features, {summary.input_only:,} of one alone"
    names = [side.name for side in summary.others]
    return _told_of(summary).came.format(
        own=summary.input.name,
        other=names[0] if len(names) == 1 else "any OTHER",
        all=" and ".join(names),
        whole=summary.whole,
        cut=summary.cut,
        both=summary.both,
        input_only=summary.input_only,
        other_only=summary.other_only,
    )


def _snap(snap: Snap, side: Side) -> str:
    furthest = worded_as(snap.asked, snap.furthest, snap.map_unit)
    words = (
        f"{counted(snap.moved, 'vertex', 'vertices')} moved, {furthest} at most, and "
        f"{snap.added:,} added in {counted(snap.changed, 'feature')}"
    )
    if side.family == Family.POLYGONS:
        words += (
            f"; places of one side alone thinner than {_far(snap)}: {snap.slivers_before:,} "
            f"without the snap, {snap.slivers_after:,} with it"
        )
    return words


def _far(snap: Snap) -> str:
    return worded_as(snap.asked, snap.distance, snap.map_unit)


def _given_away(given: GivenAway) -> str:
    area, left = worded([given.area, given.left_area], given.unit)
    parts = counted(given.count, "part")
    words = f"{parts} thinner than {_width(given)} given to a neighbour, {area}"
    if given.rows:
        words += f"; {counted(given.rows, 'feature')} of nothing else gone"
    if given.left:
        words += f"; {given.left:,} without a neighbour stay, {left}"
    return words


def _width(given: GivenAway) -> str:
    return worded_as(given.asked, given.width, given.map_unit)


def _balance(summary: OverlaySummary, balance: Balance) -> str:
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


def _grid(balance: Balance) -> str:
    """Say what rounding to the grid changed."""
    return (
        f"borders moved by {_length(balance.moved, balance.unit)} at most, {_what(balance)} by "
        f"{roughly(balance.difference, balance.unit)} in all"
    )


def _what(balance: Balance) -> str:
    return "lengths" if balance.unit in ("m", "units") else "areas"


def _length(value: float, unit: str) -> str:
    if unit not in ("m²", "m"):
        return roughly(value, "units")
    return roughly(value * 1000, "mm") if value < 0.1 else roughly(value, "m")


def _many(summaries: Sequence[OverlaySummary], say: Words) -> None:
    others = list(zip(*(s.others for s in summaries), strict=True))
    # How much of an OTHER was near and which CRS it is, by INPUT where that differs.
    near = [sides for sides in others if len({side.used for side in sides}) > 1]
    has_crs = len({s.crs for s in summaries}) > 1
    rows = []
    for k, s in enumerate(summaries):
        inside, outside = "·", "·"
        if s.balance:
            inside, outside = worded((s.balance.inside, s.balance.outside), s.balance.unit)
        counts = (s.input.taken, s.out, s.whole, s.cut, s.dropped + s.without_geometry)
        row = [s.input.name, *(f"{n:,}" for n in counts), inside, outside]
        row += [f"{sides[k].used:,}" for sides in near]
        rows.append([*row, s.crs.partition(" ")[0]] if has_crs else row)
    head = ["layer", "in", "out", "whole", "cut", "left out", "inside", "outside"]
    head += [f"{sides[0].name} near" for sides in near] + ["CRS"] * has_crs
    say.table(head, rows, right=range(1, 8 + len(near)), flexible=[0])
    say.gap()
    for sides in others:
        words = took_part(sides[0])
        if sides in near:
            words = f"{sides[0].taken:,} of {counted(sides[0].total, 'feature')}"
        say.line("OTHER", f"{sides[0].name}: {words}")
    _sums([s.snap for s in summaries if s.snap], say)
    given = [s.given_away for s in summaries if s.given_away]
    if given:
        n, left = sum(g.count for g in given), sum(g.left for g in given)
        words = f"{counted(n, 'part')} thinner than {_width(given[0])} given to a neighbour"
        say.line("slivers", words + (f"; {left:,} without one stay" if left else ""))
    balances = [s.balance for s in summaries if s.balance]
    if balances:
        worst = max(balances, key=lambda b: abs(b.difference))
        words = "inside + outside = before in all of them, exactly on the grid"
        if worst.unit != "points":
            words += (
                f", which changed {_what(worst)} by {roughly(worst.difference, worst.unit)} at most"
            )
        say.line("balance", words)
    proved(say, sum(s.proved for s in summaries))


def _sums(snaps: Sequence[Snap], say: Words) -> None:
    if not snaps:
        return
    first = snaps[0]
    furthest = worded_as(first.asked, max(s.furthest for s in snaps), first.map_unit)
    say.line(
        "snap",
        f"{counted(sum(s.moved for s in snaps), 'vertex', 'vertices')} moved, {furthest} at most, and "
        f"{sum(s.added for s in snaps):,} added; places of one side alone thinner than "
        f"{_far(first)}: {sum(s.slivers_before for s in snaps):,} without the snap, "
        f"{sum(s.slivers_after for s in snaps):,} with it",
    )


def _notes(summary: OverlaySummary, say: Words) -> None:
    name = summary.input.name
    say.note(*(bridge(facts, name) for facts in summary.brought), *summary.notes)
    for side in (summary.input, *summary.others):
        say.note(*admitted(side.name, side.admitted))
    _fell(summary.input, f"a grid of {summary.grid}", say)
    # What supersedes comes out as it is; on the grid it only takes nothing away.
    is_above = summary.operation == "supersede"
    for side in summary.others:
        _fell(side, f"a grid of {summary.grid}", say, "cut nothing away" if is_above else "")
    if summary.snap is not None:
        snapped = dataclasses.replace(summary.input, fell=summary.snap.fell)
        _fell(snapped, f"a snap of {_far(summary.snap)}", say)
        _reshaped(summary.snap, name, say)
    left = summary.leftovers
    if left is not None and not left.done:
        n, field = counted(left.rows.count, "feature"), left.key[0]
        say.note(
            Warned(
                f"{name}: what is left of {n} has a {field} that a newer feature has too: "
                f"{named(left.rows)}; `key` {field} drops it"
            )
        )
    gone = summary.given_away.gone if summary.given_away else None
    if gone and gone.count:
        n = counted(gone.count, "feature")
        say.note(Warned(f"{name}: slivers were all that {n} had: {named(gone)}"))
    _stored(summary, say)
    if summary.without_geometry:
        n = counted(summary.without_geometry, "feature")
        say.note(f"{name}: {n} without geometry left out")
    if summary.out == 0:
        say.note(Warned(f"{name}: {_why_empty(summary)}; the result is empty"))


def _why_empty(summary: OverlaySummary) -> str:
    if summary.input.taken == 0:
        return "no features"
    if summary.without_geometry == summary.input.taken:
        return "no feature has a geometry"
    return "everything lies inside" if summary.operation == "erase" else "nothing lies inside"


def _fell(side: Side, what: str, say: Words, did: str = "") -> None:
    """Say of which rows nothing was left, or what these did."""
    if side.fell.count:
        thin = f"{counted(side.fell.count, 'feature')} too thin for {what}"
        told = f"{thin} {did}" if did else f"nothing is left of {thin}"
        say.note(Warned(f"{side.name}: {told}: {named(side.fell)}"))


def _reshaped(snap: Snap, name: str, say: Words) -> None:
    """Say which features a snap made something else of."""
    for rows, what in (
        (snap.tangled, "rings crossed after it in {}, which were mended"),
        (snap.reshaped, "{} have other parts than before"),
    ):
        if rows.count:
            n = what.format(counted(rows.count, "feature"))
            say.note(
                Warned(
                    f"{name}: the snap of {_far(snap)} is as large as detail: {n}: {named(rows)}"
                )
            )


def _stored(summary: OverlaySummary, say: Words) -> None:
    """Say what became of fields that hold areas and lengths."""
    for item in summary.stored:
        what = f"{item.layer}: field {item.field} holds the {item.measure}"
        what += f" in {item.unit}" if item.unit else ""
        n = counted(item.cut, "feature")
        if item.done == "kept" and item.cut:
            say.note(
                Warned(
                    f"{what}, which is no longer true of {n} that came out cut; --refresh {item.field} "
                    "measures it anew"
                )
            )
        elif item.done == "refreshed":
            say.note(f"{what}; measured anew")
        elif item.done == "apportioned":
            say.note(f"{item.layer}: field {item.field} scaled in {n} that came out cut")
