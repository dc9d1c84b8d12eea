"""Merge: several layers into one, their fields brought together."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.classes import dataclass
from polygene.crs import label, turn_of
from polygene.errors import DataError, LossError, SheetError, UsageError, check_choice
from polygene.geometry import concatenate
from polygene.layer import Layer, named_apart
from polygene.longitudes import goes_beyond
from polygene.notes import Warned, counted
from polygene.ops.fields import fields as with_changed
from polygene.ops.given import Names, names
from polygene.ops.match_sheet import Sheet, Source, TargetField, read_sheet, sheet_by_name
from polygene.ops.places.bringing import brought
from polygene.ops.subset import matching, with_fields
from polygene.ops.summary import Bridge
from polygene.table.casting import as_text, fitted, rounded_by
from polygene.table.types import kind_of, type_words
from polygene.units import Length, true_metres

SAMPLES = 5
OUTSIDE = ("refuse", "bring", "leave-out")


@dataclass(frozen=True)
class MergedField:
    """A field of the result: what fed it, by layer, and how many values of each did not fit."""

    name: str
    type: str
    sources: dict[str, str]
    lost: dict[str, int]


@dataclass(frozen=True)
class MergeSummary:
    """What a merge did.

    sources : features taken and in all, by layer; unused : fields that feed nothing, by layer
    brought : how layers came from another CRS
    """

    sources: dict[str, tuple[int, int]]
    out: int
    fields: list[MergedField]
    unused: dict[str, list[str]]
    crs: str
    notes: list[str]
    brought: list[Bridge] = field(default_factory=list)


@dataclass(frozen=True)
class MergeResult:
    layer: Layer
    summary: MergeSummary


def merge(
    layers: Sequence[Layer],
    sheet: Sheet | str | os.PathLike[str] | None = None,
    *,
    source: str | None = None,
    rename: Mapping[str, str] | None = None,
    keep: Names = (),
    drop: Names = (),
    name: str = "merged",
    outside_use: str = "refuse",
    follow: Length | None = None,
) -> MergeResult:
    """Put the features of several layers into one layer.

    Parameters
    ----------
    layers : of one family; all are brought to the CRS of the first
    sheet : which fields feed which, or the file that says so; by name if none is given
    source : a field to add that says which layer each feature came from
    rename : old name → new name of fields, in whichever layers have them, before they are matched by
        name; without a sheet
    keep, drop : fields of the result, one of the two
    outside_use : what becomes of features outside the area that the first CRS is meant for:
        ``refuse``, ``bring`` or ``leave-out``
    follow : how closely edges from another CRS follow their course, numbers in metres; 0.01 if not
        given

    Raises
    ------
    DataError
        If the layers are of several families.
    LossError
        If values would be lost, and the sheet does not say what to do with them.
    SheetError
        If a value is not in a map of the sheet.
    """
    check_choice("outside_use", outside_use, OUTSIDE)
    if not layers:
        raise UsageError("there is nothing to merge: no layer was given")
    layers = named_apart(layers)
    if rename:
        if sheet is not None:
            raise UsageError("a match sheet names the fields; `rename` is for merging without one")
        layers = _renamed(layers, rename)
    tables = [y for y in layers if y.is_table]
    if tables and len(tables) < len(layers):
        raise DataError(
            f"{tables[0].name} has no geometry and others have; join carries its fields to a layer by "
            "`key`"
        )
    known = [y for y in layers if not y.geometry.is_null.all()] or layers[:1]
    families = {y.geometry.family for y in known}
    if len(families) == 1:
        layers = [y.without_geometry_as(next(iter(families))) for y in layers]
    if len(families) > 1:
        words = "; ".join(f"{y.name} holds {y.geometry.family.words}" for y in layers)
        raise DataError(f"only layers of one kind can be merged: {words}")
    layers, bridges = all_brought(layers, outside_use, true_metres(follow))
    if sheet is None:
        sheet = sheet_by_name(layers)
    elif not isinstance(sheet, Sheet):
        sheet = read_sheet(Path(sheet), layers)
    chosen = [matching(y, sheet.where[y.name]) if y.name in sheet.where else y for y in layers]
    columns, fields, merged = [], [], []
    for target in sheet.fields:
        data, lost = _column(target, chosen, sheet)
        columns.append(data)
        fields.append(target.field)
        merged.append(_account(target, lost))
    if source is not None:
        if not source.strip():
            raise UsageError("the field for the `source` needs a name that is not empty")
        if source.casefold() in {f.name.casefold() for f in fields}:
            raise DataError(f"there is a field {source!r} already; name the source otherwise")
        sources = [pa.repeat(pa.scalar(y.name, pa.string()), y.n_rows) for y in chosen]
        columns.append(pa.chunked_array(sources, pa.string()))
        fields.append(pa.field(source, pa.string()))
    geometry = concatenate([y.geometry for y in chosen])
    result = Layer(
        name,
        geometry,
        pa.table(columns, pa.schema(fields)),
        layers[0].crs,
        no_geometry=tables[0].no_geometry if tables else "",
    )
    kept = with_fields(result, names(keep), names(drop))
    there = set(kept.table.column_names)
    merged = [one for one in merged if one.name in there]
    result = kept
    notes = list(sheet.notes)
    notes += _rounded(sheet, chosen) + _told_of_turns(chosen)
    for axis in ("z", "m"):
        has = [getattr(y.geometry, axis) is not None for y in chosen]
        if any(has) and not all(has):
            without = ", ".join(y.name for y, h in zip(chosen, has, strict=True) if not h)
            notes.append(Warned(f"{without} has no {axis.upper()} values: not a number there"))
    return MergeResult(
        result,
        MergeSummary(
            sources={y.name: (y.n_rows, y.n_total) for y in chosen},
            out=result.n_rows,
            fields=merged,
            unused=_unused(sheet, layers),
            crs=label(layers[0].crs),
            notes=notes,
            brought=bridges,
        ),
    )


def _told_of_turns(layers: Sequence[Layer]) -> list[str]:
    """Say so if longitudes of some layers count on beyond 180 degrees where others' begin anew."""
    crs = layers[0].crs
    extents = [e for y in layers if turn_of(crs) and (e := y.geometry.extent()) is not None]
    west = [goes_beyond((e[0], 0.0, 0.0, 0.0), crs) for e in extents]
    east = [goes_beyond((0.0, 0.0, e[2], 0.0), crs) for e in extents]
    has_west = any(e[0] < 0 and not is_so for e, is_so in zip(extents, east, strict=True))
    has_east = any(e[2] > 0 and not is_so for e, is_so in zip(extents, west, strict=True))
    if not (any(east) and has_west or any(west) and has_east):
        return []
    return [
        Warned(
            "longitudes of some layers count on beyond the 180th meridian, where those of others begin "
            f"anew; reproject the result to {label(crs).split()[0]} to have all within"
        )
    ]


def _renamed(layers: Sequence[Layer], new_names: Mapping[str, str]) -> list[Layer]:
    """Return layers whose fields have other names, all at once; each must be in one of them.

    Raises
    ------
    UnknownFieldError, UsageError
        If none has a field, or two fields of one layer would be called alike.
    """
    for name in new_names:
        if not any(name in y.table.column_names for y in layers):
            layers[0].check_field(name)
    found = []
    for layer in layers:
        own = {old: new for old, new in new_names.items() if old in layer.table.column_names}
        found.append(with_changed(layer, rename=own).layer if own else layer)
    return found


def _rounded(sheet: Sheet, layers: Sequence[Layer]) -> list[str]:
    """Say which values a real of fewer bits holds as others."""
    notes: list[str] = []
    for target in sheet.fields:
        n = 0
        for layer in layers:
            source = target.sources.get(layer.name)
            if source is not None and len(source.fields) == 1:
                n += rounded_by(layer.table.column(source.fields[0]), target.field.type)
        if n:
            notes.append(
                Warned(f"{target.field.name}: {counted(n, 'value')} rounded to reals of 32 bits")
            )
    return notes


def all_brought(
    layers: Sequence[Layer], outside: str, follow: float | None
) -> tuple[list[Layer], list[Bridge]]:
    """Bring all of layers to the CRS of the first; what is left out is left out as rows.

    Raises
    ------
    DataError
        If features have no place there, or lie outside its area of use and that is refused.
    """
    onto, *others = layers
    found, facts = [onto], []
    for layer in others:
        there = brought(layer, onto, whole=True, outside=outside, follow=follow, invalid="keep")
        taken = there.layer
        if there.facts is not None:
            facts.append(there.facts)
            gone = layer.geometry.is_empty != taken.geometry.is_empty
            if gone.any():
                taken = replace(taken.take(~gone), total=layer.n_total)
        found.append(taken)
    return found, facts


def _account(target: TargetField, lost: dict[str, int]) -> MergedField:
    words = {
        layer: " + ".join(source.fields) or f"constant {source.constant!r}"
        for layer, source in target.sources.items()
    }
    return MergedField(target.field.name, type_words(target.field), words, lost)


def _unused(sheet: Sheet, layers: Sequence[Layer]) -> dict[str, list[str]]:
    used = {
        (layer, name)
        for target in sheet.fields
        for layer, source in target.sources.items()
        for name in source.fields
    }
    unused = {y.name: [n for n in y.table.column_names if (y.name, n) not in used] for y in layers}
    return {name: fields for name, fields in unused.items() if fields}


def _column(
    target: TargetField, layers: Sequence[Layer], sheet: Sheet
) -> tuple[pa.ChunkedArray, dict[str, int]]:
    """Return a field of the result, and how many values of each layer were lost."""
    pieces: list[pa.Array] = []
    lost: dict[str, int] = {}
    for layer in layers:
        source = target.sources.get(layer.name)
        if source is None:
            pieces.append(pa.nulls(layer.n_rows, target.field.type))
            continue
        column = _fed(source, layer, target, sheet)
        data, n_lost = fitted(column, target.field, target.on_loss, layer, source.dates)
        if n_lost:
            lost[layer.name] = n_lost
        if source.if_null is not None:
            data = pc.fill_null(data, _scalar(source.if_null, target, layer, (sheet, source)))
        pieces += data.chunks if isinstance(data, pa.ChunkedArray) else [data]
    return pa.chunked_array(pieces, target.field.type), lost


def _fed(source: Source, layer: Layer, target: TargetField, sheet: Sheet) -> pa.ChunkedArray:
    """Return what a source gives, before it is brought to the field's type."""
    if not source.fields:
        value = _scalar(source.constant, target, layer, (sheet, source))
        return pa.chunked_array([pa.repeat(value, layer.n_rows)])
    column = layer.table.column(source.fields[0])
    if len(source.fields) > 1:
        column = as_text(column)
        for name in source.fields[1:]:
            # Null where either is null; then the one that is there, so that no blank joins are left.
            text = as_text(layer.table.column(name))
            both = pc.binary_join_element_wise(column, text, source.between)
            column = pc.coalesce(both, column, text)
    if source.pad is not None:
        text = pc.utf8_trim_whitespace(as_text(column))
        is_code = pc.match_substring_regex(text, r"^[0-9]+$")
        column = pc.if_else(is_code, pc.utf8_lpad(text, source.pad, "0"), text)
    if source.without:
        text = as_text(column)
        column = pc.replace_substring(text, source.without, "")
        if kind_of(target.field.type) != "text":
            # Where nothing else was there it is no value, and does not vanish as a blank one does.
            is_blank = pc.equal(pc.utf8_trim_whitespace(column), "")
            column = pc.if_else(is_blank, text, column)
    if source.values is not None:
        column = _mapped(column, source, layer, target, sheet)
    return column


def _mapped(
    column: pa.ChunkedArray, source: Source, layer: Layer, target: TargetField, sheet: Sheet
) -> pa.ChunkedArray:
    """Put other values for those in a map; one that is not in it stops, becomes null or stays."""
    assert source.values is not None
    texts = as_text(column)
    keys = pa.array(list(source.values), pa.string())
    place = pc.index_in(texts, keys)
    new = pa.array([None if v is None else str(v) for v in source.values.values()], pa.string())
    found = pc.take(new, place.combine_chunks() if isinstance(place, pa.ChunkedArray) else place)
    if isinstance(found, pa.ChunkedArray):
        found = found.combine_chunks()
    is_missing = pc.and_(pc.is_null(place), pc.is_valid(texts))
    n_missing = int(pc.sum(is_missing).as_py() or 0)
    if n_missing and target.on_loss == "refuse":
        rows = np.flatnonzero(np.asarray(is_missing))
        values = list(dict.fromkeys(pc.take(texts, pc.column(rows)).to_pylist()))
        first = ", ".join(map(repr, values[:SAMPLES]))
        raise SheetError(
            sheet.path,
            source.line,
            f"{counted(n_missing, 'value')} of field {source.fields[0]!r} of layer {layer.name!r} "
            f"{'is' if n_missing == 1 else 'are'} not in "
            f"the map, first {layer.row_label(int(rows[0]))}: {first}; add them, or say on-loss: null, "
            "or cut to keep them as they are",
        )
    if target.on_loss == "cut":
        found = pc.if_else(is_missing, texts, found)
    return found if isinstance(found, pa.ChunkedArray) else pa.chunked_array([found])


def _scalar(
    value: object, target: TargetField, layer: Layer, place: tuple[Sheet, Source]
) -> pa.Scalar:
    """Return a value of the sheet, and where it stands there, in the type of the field."""
    if value is None:
        return pa.scalar(None, target.field.type)
    column = pa.chunked_array(
        [pa.array([value if kind_of(pa.scalar(value).type) != "null" else None])]
    )
    try:
        data, _ = fitted(column, target.field, "refuse", replace(layer, ids=None))
    except LossError as err:
        sheet, source = place
        what = f"field {target.field.name!r}: {value!r} is no {type_words(target.field)}"
        raise SheetError(sheet.path, source.line, what) from err
    return data[0]
