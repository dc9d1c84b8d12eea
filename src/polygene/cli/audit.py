"""``polygene audit``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.audit import Audit, Finding

FIRST = 5


@options.command()
@options.inputs
@click.option("--key", metavar="FIELD", help="A field that should name each feature once.")
@click.option("--coverage", is_flag=True, help="Look for overlaps and gaps between features.")
@click.option("--details", is_flag=True, help="Every problem, with row, place and reason.")
@options.where
@click.option("-o", "--out", metavar="FILE", help="Write the places of problems as points.")
@options.replace
@options.crs
@click.option("--strict", is_flag=True, help="End with exit code 1 if a layer is not sound.")
@options.json
def audit(
    inputs: tuple[str, ...],
    key: str | None,
    coverage: bool,
    details: bool,
    where: Any,
    out: str | None,
    replace: bool,
    crs: str | None,
    strict: bool,
    as_json: bool,
) -> None:
    """Find problems of geometry and attributes, each with row, place and reason.

    Exact: what the Simple Features standard calls valid is never reported.

    \b
    Example:
      polygene audit 'tolva.gpkg#beds_*' --details
    """
    from polygene import batch
    from polygene.crs import parse
    from polygene.ops.audit import audit as audit_layer
    from polygene.ops.audit import places_layer

    choice = batch.Choice(where, parse(crs) if crs else None, looks_only=True)
    layers, notes = batch.read_all(inputs, choice)
    found = [audit_layer(layer, key=key, coverage=coverage) for layer in layers]
    if out is not None:
        batch.write_named(
            out, [places_layer(y, a) for y, a in zip(layers, found, strict=True)], replace
        )
    pairs = list(zip(layers, found, strict=True))
    show.facts("audit", lambda: [_facts(y, a) for y, a in pairs], as_json, notes=notes)
    if not as_json:
        for layer, result in zip(layers, found, strict=True):
            _print(layer, result, details)
        if out is not None:
            show.line("written", out, sys.stderr)
        for text in notes:
            show.note(text)
    if strict and not all(result.is_sound for result in found):
        sys.exit(1)


def _facts(layer: Layer, found: Audit) -> dict[str, Any]:
    return {
        "layer": found.name,
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
            }
            for f in found.findings
        ],
        "fields": found.fields,
        "nearly": found.nearly,
    }


def _print(layer: Layer, found: Audit, details: bool) -> None:
    sound = "sound" if found.is_sound else "not sound"
    show.title(found.name, f"{show.counted(found.features, 'feature')}, {found.family}: {sound}")
    if found.findings:
        rows = [
            [
                f.kind if f.harms else f"{f.kind} ({_weight(f)})",
                f"{f.count:,}",
                f.cure,
                _first(layer, f),
            ]
            for f in found.findings
        ]
        show.table(["problem", "rows", "cure", "first"], rows, right=[1], flexible=[3])
    if found.nearly:
        _print_widths(found)
    if details:
        click.echo()
        for finding in found.findings:
            _print_details(layer, finding)
    for field in found.fields:
        first = f": {'; '.join(field.first)}" if field.first and details else ""
        show.line(field.name, f"{field.reason} ({field.count:,}){first}", wide=14)
    click.echo()


def _weight(finding: Finding) -> str:
    """Say of what does no harm to the geometry whether there is anything to do about it."""
    return "harmless" if finding.cure == "none needed" else "to note"


def _print_widths(found: Audit) -> None:
    """Say how narrow gaps and overlaps are, so that a width to settle them by can be chosen."""
    click.echo()
    most = max(one.gaps + one.overlaps for one in found.nearly)
    rows, sums = [], [0, 0]
    for one in found.nearly:
        sums = [sums[0] + one.gaps, sums[1] + one.overlaps]
        bar = "▇" * max(1, round(24 * (one.gaps + one.overlaps) / most))
        rows.append(
            [
                f"{one.width:g} {one.unit}",
                f"{one.gaps:,}",
                f"{one.overlaps:,}",
                f"{sum(sums):,}",
                bar,
            ]
        )
    head = ["narrower than", "gaps", "overlaps", "so far", ""]
    show.table(head, rows, right=[0, 1, 2, 3])


def _first(layer: Layer, finding: Finding) -> str:
    names = [layer.row_label(int(r)) for r in finding.rows[:FIRST]]
    return ", ".join(names) + (" …" if finding.count > FIRST else "")


def _print_details(layer: Layer, finding: Finding) -> None:
    for k, (row, (x, y)) in enumerate(zip(finding.rows, finding.places, strict=True)):
        place = "" if x != x else f" at {x:.10g} {y:.10g}"
        more = f" ({finding.details[k]})" if k < len(finding.details) else ""
        show.line(layer.row_label(int(row)), f"{finding.reason}{place}{more}", wide=18)
