"""``polygene merge``."""

from __future__ import annotations

import shlex
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, outcome, recording, show
from polygene.cli.asked import Asked, asks
from polygene.table.tokens import names_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from polygene.cli.facts import SheetDrafted
    from polygene.formats.destination import Target
    from polygene.layer import Layer


@recording.command()
@options.inputs
@click.option("--propose", metavar="SHEET", help="Draft a match sheet to edit, and merge nothing.")
@click.option("--match", metavar="SHEET", help="Merge as this match sheet says.")
@click.option("--source", metavar="FIELD", help="Add a field with the layer each feature is from.")
@options.rename
@options.keep
@options.drop
@asks(
    Asked,
    options.where,
    options.out_optional,
    options.replace,
    options.next_,
    options.invalid_carried,
    options.follow,
    options.outside_use,
    options.crs,
    options.dry_run,
    options.json,
    options.quiet,
)
def merge(
    asked: Asked,
    propose: str | None,
    match: str | None,
    source: str | None,
    rename: tuple[tuple[str, str], ...],
    keep: str | None,
    drop: str | None,
    follow: Any,
    outside_use: str,
) -> None:
    """Put the features of several layers into one, reconciling their fields.

    Without a sheet, fields of one name become one, whatever their capitals, and types widen as long
    as nothing is lost. --propose drafts a match sheet of fields that seem to hold the same, with the
    evidence, to be edited; --match checks it against the layers and runs it. --rename brings fields of
    other names together without one.

    \b
    Examples:
      polygene merge 'tolva.gpkg#beds_*' --propose beds.yaml
      polygene merge 'tolva.gpkg#beds_*' -o beds.gpkg --source survey
    """
    existing = asked.on_existing
    if (propose is None) == (asked.out is None):
        raise click.UsageError("give either --out to merge to, or --propose to draft a sheet")
    if propose is not None and (rename or keep or drop):
        raise click.UsageError(
            "--propose drafts a sheet; --rename, --keep and --drop are of a merge"
        )
    if propose is not None and match is not None:
        raise click.UsageError("--propose drafts a sheet, --match uses one; give one of them")
    from polygene.cli.words.blocks import Words
    from polygene.cli.words.merge import proposed
    from polygene.formats import destination
    from polygene.formats.address import LayerRef
    from polygene.reading import read_named

    began = time.monotonic()
    say = Words()
    with show.progress(asked.quiet) as progress:
        if asked.out is not None:
            named = [LayerRef(Path(asked.out), "merged")]
            destination.check(asked.out, named, existing)  # fail now rather than after the work
        layers, notes = read_named(
            asked.inputs, asked.choice(carries=True, takes_tables=True), progress
        )
        say.note(*notes)
        if propose is not None:
            progress.stage("comparing fields")
            facts: Any = _propose(Path(propose), layers, asked)
            proposed(facts, say)
            written = propose
        else:
            facts, targets = _merge(
                asked=asked,
                layers=layers,
                match=match,
                source=source,
                progress=progress,
                say=say,
                rename=options.turned(rename),
                keep=names_of(keep),
                drop=names_of(drop),
                follow=follow,
                outside_use=outside_use,
            )
    seconds = time.monotonic() - began
    if propose is not None:
        results: Any = facts
    else:
        written = outcome.places_of(targets)
        there = None if asked.dry_run else outcome.addresses_of(targets)
        results = {"written": there, "summary": facts}
    told = outcome.Outcome("merge", [results], say, written, seconds=seconds, is_dry=asked.dry_run)
    asked.tell(told)


def _merge(
    asked: Asked,
    layers: Sequence[Layer],
    match: str | None,
    source: str | None,
    progress: Any,
    say: Any,
    **how: Any,
) -> tuple[Any, list[Target]]:
    """Return the summary and where the result goes."""
    from polygene.batch import still_invalid
    from polygene.cli.words.merge import merged
    from polygene.formats import address
    from polygene.formats.address import LayerRef
    from polygene.ops.merge import merge as merge_layers
    from polygene.writing import nothing_to_part, placed, write

    out = str(asked.out)
    source_of_name = LayerRef(Path(out), "merged")
    name = address.split(out)[1] or Path(out).stem or source_of_name.name
    progress.stage(f"merging {len(layers)} layers")
    result = merge_layers(layers, match, source=source, name=name, **how)
    (parts,) = placed([(source_of_name, result.layer)], out, asked.on_existing)
    if not asked.dry_run:
        progress.stage(f"writing {out}")
        say.note(*write(parts))
    merged(result.summary, say)
    say.note(*nothing_to_part(result.layer, out), *still_invalid(result.layer))
    return result.summary, [target for target, _ in parts]


def _propose(path: Path, layers: Sequence[Layer], asked: Asked) -> SheetDrafted:
    """Draft a sheet and write it; return what it proposes."""
    from polygene.cli.facts import SheetDrafted
    from polygene.commit.together import replacing
    from polygene.formats.base import check_free
    from polygene.ops.match_sheet import draft_text, propose
    from polygene.table.types import type_words

    check_free(path, asked.replace)
    draft = propose(layers)
    typed = ["polygene", "merge", *asked.inputs, "--match", str(path), "--out", "merged.gpkg"]
    if not asked.dry_run:
        with replacing(path) as temporary:
            temporary.write_text(draft_text(draft, layers, shlex.join(typed)), encoding="utf-8")
    return SheetDrafted(
        written=None if asked.dry_run else str(path),
        layers=[layer.name for layer in layers],
        proposed=[
            {
                "field": one.target.field.name,
                "type": type_words(one.target.field),
                "sources": {name: list(fed.fields) for name, fed in one.target.sources.items()},
                "confidence": min((e.confidence for e in one.evidence.values()), default=1.0),
            }
            for one in draft.proposals
        ],
        alone=draft.unmatched,
    )
