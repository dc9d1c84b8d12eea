"""``polygene merge``."""

from __future__ import annotations

import shlex
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.match_sheet import Draft, Proposal
    from polygene.ops.merge import MergeSummary


@options.command()
@options.inputs
@click.option("--propose", metavar="SHEET", help="Draft a match sheet to edit, and merge nothing.")
@click.option("--match", metavar="SHEET", help="Merge as this match sheet says.")
@click.option("--source", metavar="FIELD", help="Add a field with the layer each feature is from.")
@options.where
@options.out_optional
@options.replace
@options.next_
@options.invalid_carried
@options.follow
@options.outside_use
@options.crs
@options.json
@options.quiet
def merge(
    inputs: tuple[str, ...],
    propose: str | None,
    match: str | None,
    source: str | None,
    where: Any,
    out: str | None,
    replace: bool,
    next_: bool,
    crs: str | None,
    invalid: str,
    follow: Any,
    outside_use: str,
    as_json: bool,
    quiet: bool,
) -> None:
    """Put the features of several layers into one, reconciling their fields.

    Without a sheet, fields of one name become one, whatever their capitals, and types widen as long
    as nothing is lost. --propose drafts a match sheet of fields that seem to hold the same, with the
    evidence, to be edited; --match checks it against the layers and runs it.

    \b
    Examples:
      polygene merge 'tolva.gpkg#beds_*' --propose beds.yaml
      polygene merge 'tolva.gpkg#beds_*' -o beds.gpkg --source survey
    """
    existing = options.on_existing(replace, next_)
    if (propose is None) == (out is None):
        raise click.UsageError("give either --out to merge to, or --propose to draft a sheet")
    if propose is not None and match is not None:
        raise click.UsageError("--propose drafts a sheet, --match uses one; give one of them")
    from polygene import batch
    from polygene.crs import parse

    began = time.monotonic()
    choice = batch.Choice(where, parse(crs) if crs else None, invalid)
    with show.progress(quiet) as progress:
        if out is not None:
            batch.single_target(out, existing)  # fail now rather than after the work
        layers, notes = batch.read_alike(
            inputs,
            choice,
            progress,
            outside=outside_use,
            follow=None if follow is None else follow.as_length(),
        )
        if propose is not None:
            progress.stage("comparing fields")
            draft = _propose(Path(propose), layers, inputs, replace)
        else:
            summary, written, left = _merge(layers, match, source, str(out), existing, progress)
            notes += left
    seconds = time.monotonic() - began
    if propose is not None:
        show.facts(
            "merge",
            lambda: [
                {"written": propose, "proposed": _draft_facts(draft), "alone": draft.unmatched}
            ],
            as_json,
            notes=notes,
            seconds=seconds,
        )
        if not (quiet or as_json):
            _print_draft(draft, layers)
            show.line("written", f"{propose} in {seconds:.2f} s", sys.stderr)
            for text in dict.fromkeys(notes):
                show.note(text)
        return
    said = [*notes, *summary.notes]
    show.facts(
        "merge",
        lambda: [{"written": written, "summary": summary}],
        as_json,
        notes=said,
        seconds=seconds,
    )
    if not (quiet or as_json):
        _print(summary)
        show.line("written", f"{written} in {seconds:.2f} s", sys.stderr)
        for text in dict.fromkeys(said):
            show.note(text)


def _propose(path: Path, layers: list[Layer], inputs: tuple[str, ...], replaces: bool) -> Draft:
    from polygene.errors import ExistsError, FileError
    from polygene.formats.base import reason_of, replacing
    from polygene.ops.match_sheet import draft_text, propose

    if path.exists() and not replaces:
        raise ExistsError(f"{path} exists; --replace overwrites it")
    draft = propose(layers)
    words = shlex.join(["polygene", "merge", *inputs, "--match", str(path), "--out", "merged.gpkg"])
    try:
        with replacing(path) as temporary:
            temporary.write_text(draft_text(draft, layers, words), encoding="utf-8")
    except OSError as err:
        raise FileError(f"cannot write {path}: {reason_of(err)}") from err
    return draft


def _merge(
    layers: list[Layer],
    match: str | None,
    source: str | None,
    out: str,
    existing: Any,
    progress: Any,
) -> tuple[MergeSummary, str, list[str]]:
    """Return the summary, where it was written, and what is to be said of invalid features."""
    from polygene import batch
    from polygene.ops.match_sheet import read_sheet
    from polygene.ops.merge import merge as merge_layers

    sheet = None if match is None else read_sheet(Path(match), layers)
    target = batch.single_target(out, existing)
    progress.stage(f"merging {len(layers)} layers")
    result = merge_layers(layers, sheet, source_field=source, name=target.name)
    progress.stage(f"writing {target.words}")
    batch.write([(target, result.layer)])
    return result.summary, target.words, batch.still_invalid(result.layer)


def _draft_facts(draft: Draft) -> list[dict[str, Any]]:
    """Return the fields proposed, those with what feeds them by layer, as ``--json`` prints them."""
    return [
        {
            "field": one.target.field.name,
            "type": _type_words(one.target.field),
            "sources": {name: list(fed.fields) for name, fed in one.target.sources.items()},
            "confidence": _confidence(one),
        }
        for one in draft.proposals
    ]


def _confidence(proposal: Proposal) -> float:
    return min((e.confidence for e in proposal.evidence.values()), default=1.0)


def _print_draft(draft: Draft, layers: list[Layer]) -> None:
    err = sys.stderr
    show.title(f"proposal for {' and '.join(layer.name for layer in layers)}", stream=err)
    rows = []
    for proposal in draft.proposals:
        target = proposal.target
        if len(target.sources) == 1:
            continue
        fed = [
            " + ".join(target.sources[y.name].fields) if y.name in target.sources else "·"
            for y in layers
        ]
        rows.append(
            [target.field.name, *fed, _type_words(target.field), f"{_confidence(proposal):.2f}"]
        )
    rows.sort(key=lambda row: row[-1], reverse=True)
    head = ["field", *(layer.name for layer in layers), "type", "confidence"]
    if rows:
        show.table(head, rows, right=[len(head) - 1], stream=err, flexible=range(1, len(head) - 2))
        click.echo(err=True)
    for name, fields in draft.unmatched.items():
        show.line("only in", f"{name}: {', '.join(fields)}", err)


def _type_words(field: Any) -> str:
    from polygene.table.types import type_words

    return type_words(field)


def _print(summary: MergeSummary) -> None:
    err = sys.stderr
    names = list(summary.sources)
    show.title(f"{len(names)} layers merged", stream=err)
    for name, (taken, total) in summary.sources.items():
        show.line("INPUT", f"{name}: {taken:,} of {show.counted(total, 'feature')}", err)
    show.line("came out", show.counted(summary.out, "feature"), err)
    click.echo(err=True)
    rows = []
    for field in summary.fields:
        fed = [field.sources.get(name, "·") for name in names]
        lost = sum(field.lost.values())
        rows.append([field.name, field.type, *fed, f"{lost:,}" if lost else ""])
    head = ["field", "type", *names, "did not fit"]
    if not any(row[-1] for row in rows):
        head, rows = head[:-1], [row[:-1] for row in rows]
    show.table(head, rows, stream=err, flexible=range(2, 2 + len(names)))
    click.echo(err=True)
    for name, fields in summary.unused.items():
        show.line("not used", f"{name}: {', '.join(fields)}", err)
    show.line("CRS", summary.crs, err)
