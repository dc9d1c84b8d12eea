"""``polygene layers``."""

from __future__ import annotations

import math
import sys
from typing import TYPE_CHECKING

import click

from polygene.cli import options, show
from polygene.errors import PolygeneError

if TYPE_CHECKING:
    from polygene.layer import LayerInfo


@options.command()
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@options.json
def layers(files: tuple[str, ...], as_json: bool) -> None:
    """List what is in files: layers, geometry, features, CRS and extent.

    FILE may be a folder or a pattern.

    \b
    Example:
      polygene layers tolva.gpkg
    """
    from polygene.formats import packed
    from polygene.formats.address import files_of, members
    from polygene.formats.registry import readable_format

    found: list[tuple[str, str, list[LayerInfo]]] = []
    failed: list[dict[str, str]] = []
    paths = list(dict.fromkeys(path for text in files for path in files_of(text)))
    for path in paths:
        try:
            with packed.own_names():
                for file in members(path):
                    source = readable_format(file)
                    found.append((packed.shown(file), source.NAME, source.list_layers(file)))
        except PolygeneError as err:
            if len(paths) == 1:
                raise
            failed.append({"source": str(path), "reason": str(err)})
    show.facts("layers", lambda: [_facts(*one) for one in found], as_json, failed=failed)
    if not as_json:
        for k, (words, name, infos) in enumerate(found):
            if k:
                click.echo()
            _print(words, name, infos)
    for one in failed:
        show.line("failed", one["reason"], sys.stderr)
    if failed:
        sys.exit(1)


def _facts(path: str, name: str, infos: list[LayerInfo]) -> dict[str, object]:
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
                "extent": info.extent,
                "fields": dict(info.fields),
                "title": info.title,
                "problem": info.problem,
            }
            for info in infos
        ],
    }


def _print(path: str, name: str, infos: list[LayerInfo]) -> None:
    from polygene.crs import label
    from polygene.layer import NO_GEOMETRY

    tables = [info for info in infos if info.geometry == NO_GEOMETRY]
    infos = [info for info in infos if info.geometry != NO_GEOMETRY]
    count = show.counted(len(infos), "layer")
    show.title(path, f"{name}, {count}")
    systems = list(dict.fromkeys(label(info.crs) for info in infos))
    is_shared = len(systems) == 1
    head = ["layer", "geometry", "features", "fields", "extent"]
    rows = [
        [info.name, info.geometry, f"{info.n_rows:,}", str(len(info.fields)), _extent(info)]
        for info in infos
    ]
    if not is_shared:
        head.insert(3, "CRS")
        for row, info in zip(rows, infos, strict=True):
            row.insert(3, label(info.crs).split(" ")[0] if info.crs else "none")
    if infos:
        number_columns = [2, len(head) - 2]
        show.table(head, rows, right=number_columns, flexible=[1, 0])
        click.echo()
    for system in systems:
        show.line("CRS", system)
    if tables:
        names = ", ".join(f"{info.name} ({show.counted(info.n_rows, 'row')})" for info in tables)
        show.line("no layers", f"{names}: without geometry")
    for info in infos:
        if info.problem:
            show.note(f"{info.name} cannot be read: {info.problem}")


def _extent(info: LayerInfo) -> str:
    if info.extent is None:
        return "none" if info.n_rows == 0 else "not stated"
    x0, y0, x1, y1 = info.extent
    is_degrees = info.crs is not None and info.crs.is_geographic
    # Three figures of what it spans, so that a small thing is not all zeroes.
    span = max(x1 - x0, y1 - y0, 1e-9)
    decimals = 2 - math.floor(math.log10(span))
    decimals = min(max(decimals, 4 if is_degrees else 0), 9)
    return " ".join(f"{value:.{decimals}f}" for value in info.extent)
