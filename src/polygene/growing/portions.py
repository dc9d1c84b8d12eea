"""A layer of a file in portions of its rows, which are copied one by one."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import pyarrow as pa

from polygene import reading
from polygene.errors import ExpressionError
from polygene.formats import addressed
from polygene.formats.address import LayerRef
from polygene.formats.parquet_parts import parts_of
from polygene.formats.registry import readable_format
from polygene.formats.wanted import LOOSE, PORTIONED, Wanted
from polygene.geometry import Family
from polygene.growing.work import Done, Portion

ROWS = 200_000  # of a portion


def cut(ref: LayerRef, choice: reading.Choice, place: Path) -> list[Portion]:
    """Cut a layer of a file in portions that are copied one by one, if its format lets some be read."""
    ref = ref._replace(
        path=ref.path.absolute(),
        pieces=tuple(piece._replace(path=piece.path.absolute()) for piece in ref.pieces),
    )
    if ref.pieces or ref.family is not None:
        return [Portion(0, ref, choice, None, 0, place)]
    if ref.path.is_dir():
        files, _ = parts_of(ref.path)
        found: list[Portion] = []
        n_before = 0
        for file in files:
            own = LayerRef(file, file.stem)
            for portion in cut(own, choice, place):
                first = n_before + portion.first
                found.append(replace(portion, number=len(found), first=first))
            n_before += _n_rows(own)
        return found
    if readable_format(ref.path).NAME not in PORTIONED:
        return [Portion(0, ref, choice, None, 0, place)]
    n_rows = _n_rows(ref)
    starts = range(0, max(1, n_rows), ROWS)
    return [
        Portion(k, ref, choice, (first, min(n_rows, first + ROWS)), 0, place)
        for k, first in enumerate(starts)
    ]


def _n_rows(ref: LayerRef) -> int:
    source = readable_format(ref.path)
    return next(y.n_rows for y in source.list_layers(ref.path) if y.name == ref.name)


def copied(
    portions: Sequence[Portion], copy: Callable[[Sequence[Portion], str], list[Done]], words: str
) -> list[Done]:
    """Copy portions; once more if it comes out that they are not of one kind in all of a file.

    Fields may have values of another type in some, and geometry be missing in all rows of others.

    Parameters
    ----------
    copy : callable
        Copies portions, and tells that by some words.
    words : str
        What the layer is called.
    """
    said = f"copying {words}: portion"
    family = None
    try:
        done = copy(portions, said)
    except ExpressionError:  # perhaps of a field that looks like another in some of them
        types = _types_in_all(portions) if _may_differ(portions) else {}
        if not types:
            raise
    else:
        if not _are_of_one_file(portions):
            return done
        family = _family_in_all(done)
        types = {} if _are_alike(done) else _types_in_all(portions)
        if family is None and not types:
            return done
    shutil.rmtree(portions[0].folder)
    portions[0].folder.mkdir()
    again = [replace(portion, types=types, family=family) for portion in portions]
    return copy(again, f"{said}, once more")


def _are_of_one_file(portions: Sequence[Portion]) -> bool:
    return len(portions) > 1 and len({portion.ref.path for portion in portions}) == 1


def _may_differ(portions: Sequence[Portion]) -> bool:
    """Whether fields may look otherwise in some portions, and a filter names none that is not there."""
    ref, where = portions[0].ref, portions[0].choice.where
    if not _are_of_one_file(portions):
        return False
    source = readable_format(ref.path)
    info = next(y for y in source.list_layers(ref.path) if y.name == ref.name)
    if source.NAME not in LOOSE and not any(_is_seen(kind) for _, kind in info.fields):
        return False
    return where is None or set(where.fields) <= {name for name, _ in info.fields}


def _is_seen(kind: str) -> bool:
    """Whether a field is read as its values are: numbers beyond 64 bits and no moments as texts."""
    return kind == "uint64" or kind.startswith("timestamp")


def _family_in_all(done: Sequence[Done]) -> Family | None:
    """Return the family of geometry that all have, if some have none and were taken for another."""
    made = [one.made for one in done if one.made.facts is not None]
    words = {own.kind[0] for own in made if own.facts is not None and own.facts.vertices.any()}
    if len(words) != 1 or all(own.kind[0] in words for own in made):
        return None
    return next(family for family in Family if family.words in words)


def _are_alike(done: Sequence[Done]) -> bool:
    first, *others = (one.made.like.table.schema for one in done)
    return all(first.equals(other) for other in others)


def _types_in_all(portions: Sequence[Portion]) -> dict[str, pa.DataType]:
    """Return the types of fields that have more than one in the portions of a file.

    What has values that are none of its type is text to a reader; what has more digits, a double; and
    nulls alone say nothing of it.
    """
    found: dict[str, set[pa.DataType]] = {}
    telling: dict[str, set[pa.DataType]] = {}
    for portion in portions:
        table = addressed.read(portion.ref, Wanted(span=portion.span)).layers[0].table
        for field, column in zip(table.schema, table.columns, strict=True):
            found.setdefault(field.name, set()).add(field.type)
            if column.null_count < len(column):
                telling.setdefault(field.name, set()).add(field.type)
    several = [name for name, own in found.items() if len(own) > 1]
    return {name: _common(telling.get(name) or found[name]) for name in several}


def _common(kinds: set[pa.DataType]) -> pa.DataType:
    if len(kinds) == 1:
        return next(iter(kinds))
    is_number = all(pa.types.is_integer(kind) or pa.types.is_floating(kind) for kind in kinds)
    return pa.float64() if is_number else pa.string()
