"""Facts as phrases that more than one message is made of."""

from __future__ import annotations

from typing import TYPE_CHECKING

from polygene import units
from polygene.notes import Warned, counted

if TYPE_CHECKING:
    from polygene.ops.summary import Admitted, Bridge, NamedRows


def named(rows: NamedRows) -> str:
    """Return the first of some rows as a list."""
    return ", ".join(rows.first) + (" …" if rows.count > len(rows.first) else "")


def admitted(name: str, facts: Admitted) -> list[str]:
    """Say what became of invalid features of a layer, if there were any, and how their area changed."""
    notes = []
    for rows, what in ((facts.mended, "mended"), (facts.left_out, "left out")):
        if rows.count:
            n = f"{rows.count:,} of {facts.checked:,}"
            notes.append(f"{name}: {what} {n} features that were invalid: {named(rows)}")
    if facts.mended.count:
        before, after = units.worded([facts.before, facts.after], facts.unit)
        notes[0] += f"; {before} as drawn, {after} after mending"
    return notes


def bridge(facts: Bridge, onto: str) -> str:
    """Say how a layer came to the CRS of another."""
    words = f"{facts.name} was brought from {facts.source} to {facts.target}, the CRS of {onto}"
    turned = ""
    if facts.turned:
        low, high = facts.longitudes
        turned = (
            f"{counted(facts.turned, 'feature')} moved by whole turns to longitudes from {low:g} to "
            f"{high:g}, in which {onto} counts"
        )
        if facts.source == facts.target:
            return f"{facts.name}: {turned}"
    more = [turned] if turned else []
    if facts.far:
        more.append(f"{facts.far:,} of {facts.total:,} features are far from {onto}")
    if facts.cut:
        more.append(f"only what is near it was taken of {counted(facts.cut, 'feature')}")
    if facts.has_edges:
        course = f"edges follow their course within {units.metres_worded(facts.follow)}"
        more.append(course + (f", with {facts.added:,} more vertices" if facts.added else ""))
    if facts.mended:
        more.append(
            f"{counted(facts.mended, 'feature')} mended, since their bent edges came to cross"
        )
    if facts.parted:
        more.append(f"{counted(facts.parted, 'feature')} parted where the map ends")
    if facts.accuracy is None:
        more.append("how exact the way between the two is is not known")
    elif facts.accuracy > 0:
        more.append(f"exact to {units.metres_worded(facts.accuracy)}, by {facts.operation}")
    if not facts.is_best:
        more.append("a better way needs a file that is not here")
    if facts.outside.count:
        n = facts.outside.count
        more.append(
            f"{counted(n, 'feature')} outside of where that is used left out: {named(facts.outside)}"
        )
    text = "; ".join([words, *more])
    return Warned(text) if facts.outside.count or not facts.is_best else text
