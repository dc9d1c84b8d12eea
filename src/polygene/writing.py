"""From results to files: under their names, each with its lineage, all or none."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from polygene import record
from polygene.errors import FileError, PolygeneError
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.formats.destination import OnExisting, Target
from polygene.formats.packed import PIPE
from polygene.formats.parking import park
from polygene.layer import Layer


def write(results: Sequence[tuple[Target, Layer]], made_of: Sequence[Layer] = ()) -> list[str]:
    """Write results under their names, each with its lineage; return what there is to say about it.

    ``made_of`` is the INPUT that each was made of; without it, each is made of all that was read.

    Raises
    ------
    FileError
        If one cannot be written. Then all are kept elsewhere if there is room, and it says where.
    """
    noted = record.current()
    named = []
    for k, (target, layer) in enumerate(results):
        layer = replace(layer, name=target.name, lineage=None)
        if noted is not None:
            own = made_of[k].lineage if made_of else None
            layer = noted.of_result(layer, target.words, own)
        named.append((target, layer))
    try:
        return destination.write_all(named)
    except PolygeneError as err:
        if any(str(target.path) == PIPE for target, _ in named):
            raise
        try:
            kept = park(named)
        except FileError as full:
            raise FileError(f"{err}\n{full}") from err
        raise FileError(f"{err}\n{kept}") from err


def write_named(out: str, layers: Sequence[Layer], replaces: bool) -> None:
    """Write layers under their own names.

    Raises
    ------
    PolygeneError
        If they cannot be written there.
    """
    path = Path(address.split(out)[0])
    refs = [LayerRef(path, layer.name) for layer in layers]
    targets = destination.plan(out, refs, "replace" if replaces else "refuse")
    write(list(zip(targets, layers, strict=True)))


def single_target(out: str, on_existing: OnExisting) -> Target:
    """Return where a single result goes; its layer is called like the file if nothing else is said.

    Raises
    ------
    PolygeneError
        If it cannot go there.
    """
    path = Path(address.split(out)[0])
    return destination.plan(out, [LayerRef(path, path.stem)], on_existing)[0]


def dump(folder: str, layers: Sequence[Layer], words: Sequence[str]) -> Path:
    """Keep the layers of a work that went wrong, and how it was asked for; return the folder.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    place = Path(folder)
    try:
        place.mkdir(parents=True, exist_ok=True)
        (place / "command.txt").write_text(shlex.join(words) + "\n", encoding="utf-8")
    except OSError as err:
        raise FileError(f"cannot keep a dump in {place}: {err.strerror}") from err
    target = place / "layers.gpkg"
    target.unlink(missing_ok=True)
    roles = ["input", *(f"other_{k}" for k in range(1, len(layers)))]
    named = [replace(layer, name=role) for layer, role in zip(layers, roles, strict=True)]
    destination.write_all([(Target(target, y.name), y) for y in named])
    return place
