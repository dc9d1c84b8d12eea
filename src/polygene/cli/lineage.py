"""``polygene lineage``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from polygene.cli import options, outcome, recording
from polygene.cli.asked import Asked, asks

if TYPE_CHECKING:
    from polygene.provenance import Lineage


@recording.command()
@options.inputs
@click.option("--sources", is_flag=True, help="A table of what it was made of, and whom to credit.")
@click.option("--diagram", metavar="FILE", help="Draw it: an .svg file.")
@options.replace
@click.option("--json", "as_json", is_flag=True, help="Print it as W3C PROV in JSON, in results.")
@asks(Asked, options.dry_run)
def lineage(asked: Asked, sources: bool, diagram: str | None) -> None:
    """Tell how a layer came about: its sources, the steps with their options, the credits.

    \b
    Examples:
      polygene lineage result.gpkg#quiet_zones
      polygene lineage result.gpkg#quiet_zones --sources
    """
    from polygene.cli.words import lineages
    from polygene.cli.words.blocks import Words

    found = _read(asked.inputs)
    say = Words()
    if diagram is not None:
        if len(found) > 1:
            raise click.UsageError("--diagram draws one layer")
        _draw(found[0], Path(diagram), asked)
    else:
        for k, own in enumerate(found):
            if k:
                say.gap()
            (lineages.sources if sources else lineages.story)(own, say)
    told = outcome.Outcome(
        "lineage",
        [dict(own.document) for own in found],
        say,
        diagram or "",
        is_dry=asked.dry_run,
        is_looked_at=True,
    )
    asked.tell(told)


def _read(inputs: tuple[str, ...]) -> list[Lineage]:
    """Return the lineage of each layer; of those that keep none, that they are sources."""
    from polygene.formats import address, addressed
    from polygene.record import INPUT, Record

    record = Record("lineage", {})
    for ref in dict.fromkeys(ref for text in inputs for ref in address.resolve(text)):
        record.note(ref, addressed.read(ref), INPUT)
    return [own for _, own in record.used]


def _draw(own: Lineage, path: Path, asked: Asked) -> None:
    from polygene.commit.together import replacing
    from polygene.errors import UsageError
    from polygene.formats.base import check_free
    from polygene.pictures.diagram import diagram
    from polygene.pictures.lineages import parts_of_diagram

    if path.suffix.lower() != ".svg":
        raise UsageError(f"{path} is no .svg file")
    check_free(path, asked.replace)
    if not asked.dry_run:
        with replacing(path) as temporary:
            temporary.write_text(diagram(*parts_of_diagram(own)) + "\n", encoding="utf-8")
