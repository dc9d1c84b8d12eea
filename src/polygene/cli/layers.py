"""``polygene layers``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import click

from polygene.cli import options, outcome, recording
from polygene.errors import PolygeneError

if TYPE_CHECKING:
    from polygene.cli.facts import FileListed
    from polygene.info import LayerInfo


@recording.command()
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@options.layout
@options.json
def layers(files: tuple[str, ...], as_json: bool) -> None:
    """List what is in files: layers, geometry, features, CRS and extent.

    FILE may be a folder or a pattern.

    \b
    Example:
      polygene layers tolva.gpkg
    """
    from polygene.cli.words import listing
    from polygene.cli.words.blocks import Words
    from polygene.formats import packed
    from polygene.formats.address import files_of, members
    from polygene.formats.registry import readable_format

    found: list[FileListed] = []
    failed: list[outcome.Failure] = []
    paths = list(dict.fromkeys(path for text in files for path in files_of(text)))
    for path in paths:
        try:
            with packed.own_names():
                for file in members(path):
                    source = readable_format(file)
                    infos = source.list_layers(file)
                    found.append(_facts(packed.shown(file), source.NAME, infos))
        except PolygeneError as err:
            if len(paths) == 1:
                raise
            failed.append(outcome.Failure(str(path), str(err)))
    say = Words()
    listing.listed(found, say)
    outcome.tell(outcome.Outcome("layers", found, say, failed=failed, is_looked_at=True), as_json)
    if failed:
        sys.exit(1)


def _facts(path: str, name: str, infos: list[LayerInfo]) -> FileListed:
    from polygene.crs import label

    return {
        "file": path,
        "format": name,
        "layers": [
            {
                "name": info.name,
                "geometry": info.geometry,
                "features": info.n_rows,
                "crs": label(info.crs),
                "geographic": info.crs is not None and info.crs.is_geographic,
                "extent": info.extent,
                "fields": dict(info.fields),
                "title": info.title,
                "problem": info.problem,
            }
            for info in infos
        ],
    }
