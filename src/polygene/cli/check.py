"""``polygene check``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import click

from polygene.cli import options, outcome, recording
from polygene.errors import PolygeneError

if TYPE_CHECKING:
    from polygene.cli.facts import FileChecked


@recording.command()
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@click.option(
    "--strict",
    is_flag=True,
    help="End with exit code 1 if programs may refuse or misread a file.",
)
@options.json
def check(files: tuple[str, ...], strict: bool, as_json: bool) -> None:
    """Hold files to the standards of their formats, clause by clause.

    Each finding names the clause, the place in the file, and whether it matters: programs may refuse
    the file, or read something else than was meant, or it is form only. FILE may be a folder or a
    pattern. For problems of the geometry itself see audit.

    \b
    Example:
      polygene check tolva.gpkg
    """
    from polygene.cli.words import listing
    from polygene.cli.words.blocks import Words
    from polygene.files import check as check_files
    from polygene.formats.address import files_of

    found: list[FileChecked] = []
    failed: list[outcome.Failure] = []
    paths = list(dict.fromkeys(path for text in files for path in files_of(text)))
    for path in paths:
        try:
            for place, judged in check_files(path).items():
                found.append(
                    {
                        "file": place,
                        "standard": judged.standard,
                        "version": judged.version,
                        "findings": judged.findings,
                    }
                )
        except PolygeneError as err:
            if len(paths) == 1:
                raise
            failed.append(outcome.Failure(str(path), str(err)))
    say = Words()
    listing.checked(found, say)
    outcome.tell(outcome.Outcome("check", found, say, failed=failed, is_looked_at=True), as_json)
    matters = any(one.weight != "form" for file in found for one in file["findings"])
    if failed or (strict and matters):
        sys.exit(1)
