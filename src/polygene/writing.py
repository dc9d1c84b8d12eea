"""From results to files: under their names, each with its lineage, all or none."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from polygene import computing as pc
from polygene import record
from polygene.arrays import bucket
from polygene.errors import (
    DataError,
    FileError,
    PolygeneError,
    TableError,
    UnknownFieldError,
    UsageError,
)
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.formats.destination import OnExisting, Target
from polygene.formats.naming import Values, fields_in
from polygene.formats.packed import PIPE
from polygene.formats.parking import park
from polygene.formats.proof import ChangedError
from polygene.layer import Layer
from polygene.notes import Warned

MOST_PARTS = 1000  # layers made of one by the values of a field: more are a field not meant


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
            layer = noted.of_result(layer, target.words, own, target.part)
        named.append((target, layer))
    try:
        return destination.write_all(named)
    except (ChangedError, TableError):  # a format that cannot hold it will not later
        raise
    except PolygeneError as err:
        if any(str(target.path) == PIPE for target, _ in named):
            raise
        try:
            kept = park(named)
        except FileError as full:
            raise FileError(f"{err}\n{full}") from err
        raise FileError(f"{err}\n{kept}") from err


def placed(
    results: Sequence[tuple[LayerRef, Layer]],
    out: str,
    on_existing: OnExisting,
    keeps_names: bool = False,
) -> list[list[tuple[Target, Layer]]]:
    """Say where each result goes; it is parted by the values of the fields that ``out`` names.

    Raises
    ------
    PolygeneError
        If one cannot go there, has no such field, or its field has too many values.
    """
    fields = fields_in(out)
    parted = [_parted(layer, fields, out) for _, layer in results]
    sources = [
        (source, [v for v, _ in parts]) for (source, _), parts in zip(results, parted, strict=True)
    ]
    planned = destination.plan_parts(out, sources, on_existing, keeps_names)
    return [
        [(target, layer) for target, (_, layer) in zip(targets, parts, strict=True)]
        for targets, parts in zip(planned, parted, strict=True)
    ]


def nothing_to_part(layer: Layer, out: str) -> list[str]:
    """Say that a result of no features has no values that it could be parted by."""
    if layer.n_rows or not fields_in(out):
        return []
    return [Warned(f"{layer.name}: there is no feature, so nothing is written to {out}")]


def _parted(layer: Layer, fields: Sequence[str], out: str) -> list[tuple[Values, Layer]]:
    """Return a layer as several, one for each combination of values of some fields."""
    if not fields:
        return [({}, layer)]
    from polygene.table.groups import group_rows, texts_of

    for name in fields:
        try:
            layer.check_field(name)
        except UnknownFieldError as err:
            raise DataError(f"{out}: {err}") from err
    groups = group_rows(layer.table, fields, layer.n_rows)
    if groups.n_groups > MOST_PARTS:
        named = " and ".join(f"{{{name}}}" for name in fields)
        raise UsageError(
            f"{out}: {named} would make {groups.n_groups:,} layers of {layer.name}, and "
            f"{MOST_PARTS:,} are the most; is it the field that was meant?"
        )
    texts = {n: texts_of(pc.take(layer.table.column(n), pc.column(groups.firsts))) for n in fields}
    rows = bucket(groups.group, groups.n_groups)
    return [
        (
            {name: texts[name][k] for name in fields},
            layer.take(rows.order[rows.offsets[k] : rows.offsets[k + 1]]),
        )
        for k in range(groups.n_groups)
    ]


def write_named(out: str, layers: Sequence[Layer], replaces: bool) -> list[str]:
    """Write layers, several under their own names; return what there is to say about it.

    Raises
    ------
    PolygeneError
        If they cannot be written there.
    """
    path = Path(address.split(out)[0])
    refs = [LayerRef(path, layer.name) for layer in layers]
    results = list(zip(refs, layers, strict=True))
    planned = placed(results, out, "replace" if replaces else "refuse")
    return write([pair for own in planned for pair in own])


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
