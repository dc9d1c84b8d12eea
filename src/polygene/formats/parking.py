"""Results that cannot go where they were to: kept beside, with the command that puts them there."""

from __future__ import annotations

import contextlib
import shlex
import tempfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from polygene.errors import FileError, PolygeneError
from polygene.formats.destination import Target
from polygene.formats.file_names import file_name
from polygene.layer import Layer, distinct_name

ENDING = ".kept.parquet"


def park(results: Sequence[tuple[Target, Layer]]) -> str:
    """Keep results beside their destinations, or in the temporary folder; return what to do then.

    Each becomes a GeoParquet file, which holds every kind of field and has room for the lineage.

    Raises
    ------
    FileError
        If there is no room for them either.
    """
    places: list[Path] = []
    try:
        for target, layer in results:
            places.append(_park(target, layer))
    except FileError:
        for place in places:
            place.unlink(missing_ok=True)
        raise
    lines = ["What was computed is kept; to put it in its place:"]
    for place, (target, _) in zip(places, results, strict=True):
        words = ["polygene", "convert", str(place), "--out", target.words]
        lines.append(f"  {shlex.join(words)}" + ("" if target.is_new else " --replace"))
    return "\n".join(lines)


def _park(target: Target, layer: Layer) -> Path:
    from polygene.formats import geoparquet  # which takes a while, and is rarely needed

    said = None
    for folder in (target.path.parent, Path(tempfile.gettempdir())):
        with contextlib.suppress(OSError):
            there = {
                path.name.removesuffix(ENDING).casefold() for path in folder.glob(f"*{ENDING}")
            }
            place = folder / (distinct_name(file_name(target.name), there, folds=True) + ENDING)
            try:
                geoparquet.write(place, [replace(layer, name=target.name)])
                return place
            except PolygeneError as err:
                said = err
    raise FileError(f"there is no room for {target.name} beside it either: {said}")
