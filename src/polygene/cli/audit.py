"""``polygene audit``."""

from __future__ import annotations

import dataclasses
import sys
from typing import TYPE_CHECKING

import click

from polygene.cli import grounds, options, outcome, recording, show
from polygene.cli.asked import Asked, asks

if TYPE_CHECKING:
    from polygene.cli.facts import Audited
    from polygene.layer import Layer
    from polygene.ops.audit import Audit
    from polygene.reading import Choice


@recording.command()
@options.inputs
@click.option("--key", metavar="FIELD", help="A field that should name each feature once.")
@click.option("--coverage", is_flag=True, help="Look for overlaps and gaps between features.")
@click.option("--details", is_flag=True, help="Every problem, with feature, place and reason.")
@options.where
@click.option("-o", "--out", metavar="FILE", help="Write the places of problems as points.")
@options.replace
@options.crs
@click.option("--strict", is_flag=True, help="End with exit code 1 if a layer is not valid.")
@asks(Asked, grounds.common, options.dry_run, options.json)
def audit(asked: Asked, key: str | None, coverage: bool, details: bool, strict: bool) -> None:
    """Find problems of geometry and attributes, each with feature, place and reason.

    Exact: what the Simple Features standard calls valid is never reported.

    \b
    Example:
      polygene audit 'tolva.gpkg#beds_*' --details
    """
    from polygene.cli.words import looked
    from polygene.cli.words.blocks import Words
    from polygene.ops.audit import audit as audit_layer
    from polygene.ops.audit import places_layer
    from polygene.reading import read_all
    from polygene.writing import write_named

    choice = dataclasses.replace(asked.choice(takes_tables=True), looks_only=True)
    why_not = (key and "key") or (coverage and "coverage") or (asked.out and "out")
    if (grounds.of(asked) or grounds.is_too_large(asked.inputs)) and not why_not:
        layers, found, notes = _in_tasks(asked, choice)
    else:
        layers, notes = read_all(asked.inputs, choice)
        found = [audit_layer(layer, key=key, coverage=coverage) for layer in layers]
        if grounds.of(asked):
            notes.append(f"done at once: with `{why_not}` an audit is one task")
    if asked.out is not None and not asked.dry_run:
        places = [places_layer(y, a) for y, a in zip(layers, found, strict=True)]
        notes += write_named(asked.out, places, asked.replace)
    written = None if asked.dry_run else asked.out
    facts = [_facts(y, a, written) for y, a in zip(layers, found, strict=True)]
    say = Words()
    for one in facts:
        looked.audited(one, say, details)
    say.note(*notes, *(note for one in found for note in one.notes))
    told = outcome.Outcome(
        "audit", facts, say, asked.out or "", is_dry=asked.dry_run, is_looked_at=True
    )
    asked.tell(told)
    if strict and not all(result.is_sound for result in found):
        sys.exit(1)


def _in_tasks(asked: Asked, choice: Choice) -> tuple[list[Layer], list[Audit], list[str]]:
    """Look at each layer in tasks."""
    from polygene.growing.auditing import audit_in_tasks
    from polygene.reading import all_of

    layers, found, notes = [], [], []
    with show.progress(asked.quiet) as progress:
        for ref in all_of(asked.inputs):
            own = grounds.of(asked) or grounds.of_machine()
            layer, audit, said = audit_in_tasks(ref, choice, own, progress)
            layers.append(layer)
            found.append(audit)
            notes += said
    return layers, found, notes


def _facts(layer: Layer, found: Audit, written: str | None) -> Audited:
    return {
        "layer": found.name,
        "geometry": found.family,
        "features": found.features,
        "sound": found.is_sound,
        "problems": [
            {
                "problem": f.kind,
                "reason": f.reason,
                "cure": f.cure,
                "harms": f.harms,
                "rows": [layer.row_label(int(r)) for r in f.rows],
                "places": [[None if v != v else v for v in xy] for xy in f.places.tolist()],
                "details": list(f.details),
            }
            for f in found.findings
        ],
        "fields": found.fields,
        "nearly": found.nearly,
        "written": written,
    }
