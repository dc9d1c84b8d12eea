"""How a layer that was read back differs from what was written: by the format's way, or by a fault."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import crs
from polygene.arrays import BoolArray, I64Array, owners, present
from polygene.classes import NamedTuple
from polygene.formats import moments
from polygene.formats.base import Way
from polygene.geometry import GeometryColumn
from polygene.glimpse import geometry_words
from polygene.layer import Layer
from polygene.notes import Changed, Lost, counted
from polygene.table.types import (
    in_milliseconds,
    is_blob,
    is_whole,
    kind_of,
    rounded_as_real,
    type_words,
)

_NEAR = 1e-14  # of a number, as much as digits that a format leaves out make
_NEAR_IF_SAID = 1e-6  # where the writer has said that numbers are rounded


class FaultError(Exception):
    """What was read is not what was written, and no format's way explains it."""


def changes_read(meant: Layer, found: Sequence[Layer], way: Way) -> list[str]:
    """Return what there is to say about what was read back of a layer, which is to be one.

    Raises
    ------
    FaultError
        As of `changes`, or if it is none or several.
    """
    if len(found) != 1:
        raise FaultError(f"{len(found)} layers instead of one")
    return changes(meant, found[0], way)


def check_count(n_rows: int, meant: int) -> None:
    """Raise FaultError unless there are as many features as there are to be."""
    if n_rows != meant:
        raise FaultError(f"{counted(n_rows, 'feature')} instead of {meant:,}")


def changes(meant: Layer, back: Layer, way: Way) -> list[str]:
    """Return what there is to say about a layer that was read back.

    Raises
    ------
    FaultError
        If something differs that the format's way does not explain: rows, geometry or values.
    """
    check_count(back.n_rows, meant.n_rows)
    notes = _of_geometry(meant, back, way)
    if not crs.is_same(meant.crs, back.crs):
        notes.append(
            Changed(
                f"{meant.name}: the CRS is {crs.label(back.crs)} there, {crs.label(meant.crs)} here"
            )
        )
    return [*notes, *_of_fields(meant, back, way)]


def _of_geometry(meant: Layer, back: Layer, way: Way) -> list[str]:
    one, other = meant.geometry, back.geometry
    if not np.array_equal(one.is_null, other.is_null):
        row = int(np.flatnonzero(one.is_null != other.is_null)[0])
        raise FaultError(f"{_null_words(one, row)} instead of {_null_words(other, row)}")
    if not one.n_vertices and not other.n_vertices:
        return []
    if one.family != other.family:
        raise FaultError(f"it is {geometry_words(other)} instead of {geometry_words(one)}")
    notes: list[str] = []
    for name in ("z", "m"):
        a, b = getattr(one, name), getattr(other, name)
        if (a is None) == (b is None):
            continue
        if not np.isnan(b if a is None else a).all():
            raise FaultError(f"it is {geometry_words(other)} instead of {geometry_words(one)}")
        notes.append(
            Changed(f"{meant.name}: no {name.upper()} value is known, so there are none there")
        )
        if name == "z":
            one, other = replace(one, z=None), replace(other, z=None)
        else:
            one, other = replace(one, m=None), replace(other, m=None)
    rows = _other_rows(one, other)
    if not len(rows):
        return notes
    if not (way.has_loose_rings and _has_same_vertices(one.take(rows), other.take(rows))):
        raise FaultError(f"the geometry of {meant.row_label(int(rows[0]))} is another")
    return [
        *notes,
        Lost(
            f"{meant.name}: {counted(len(rows), 'feature')} ({meant.row_label(int(rows[0]))}"
            f"{' …' if len(rows) > 1 else ''}) will be read with rings grouped otherwise; they are "
            "invalid, and mending makes them plain"
        ),
    ]


def _null_words(column: GeometryColumn, row: int) -> str:
    return f"{'no' if column.is_null[row] else 'a'} geometry in row {row + 1}"


def _other_rows(one: GeometryColumn, other: GeometryColumn) -> I64Array:
    """Return the rows whose rings or coordinates differ, to the bit."""
    names = ("ring_offsets", "part_offsets", "row_offsets")
    arrays = [(getattr(one, name), getattr(other, name)) for name in ("xy", "z", "m")]
    if all(np.array_equal(getattr(one, name), getattr(other, name)) for name in names):
        differs: BoolArray = np.zeros(one.n_vertices, bool)
        for a, b in arrays:
            if a is not None and a is not b and not np.array_equal(_bits(a), _bits(b)):
                is_other = _bits(a) != _bits(b)
                if a is not one.xy:  # what is no number has many forms
                    is_other &= ~(np.isnan(a) & np.isnan(b))
                differs |= is_other if is_other.ndim == 1 else is_other.any(axis=1)
        return present(owners(one.vertex_offsets_of_rows)[differs], one.n_rows)
    rows = np.arange(one.n_rows)
    is_same = np.ones(one.n_rows, bool)
    for level in ("row_offsets", "ring_offsets_of_rows", "vertex_offsets_of_rows"):
        is_same &= np.diff(getattr(one, level)) == np.diff(getattr(other, level))
    kept = rows[is_same]
    if len(kept) in (0, one.n_rows):
        return rows
    within = _other_rows(one.take(kept), other.take(kept))
    return np.sort(np.concatenate([rows[~is_same], kept[within]]))


def _bits(values: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(values, np.float64).view(np.int64)


def _has_same_vertices(one: GeometryColumn, other: GeometryColumn) -> bool:
    """Whether each row has the same vertices in both, in whatever order."""

    def ordered(column: GeometryColumn) -> np.ndarray:
        keys = [owners(column.vertex_offsets_of_rows), *_bits(column.xy).T]
        keys += [_bits(own) for own in (column.z, column.m) if own is not None]
        return np.array(keys)[:, np.lexsort(keys)]

    return np.array_equal(ordered(one), ordered(other))


def _of_fields(meant: Layer, back: Layer, way: Way) -> list[str]:
    names, found = meant.table.column_names, back.table.column_names
    if not meant.n_rows and not way.keeps_types:
        lost = sorted(set(names) - set(found))
        what = "are no fields" if len(lost) == len(names) else f"is no field {', '.join(lost)}"
        return [Lost(f"{meant.name}: without features there {what} there")] if lost else []
    if set(names) != set(found):
        odd = sorted(set(names) ^ set(found))
        raise FaultError(f"field {odd[0]!r} is {'missing' if odd[0] in names else 'one too many'}")
    notes: list[str] = []
    for name in names:
        try:
            said = _of_field(meant, back, name, name in way.declared)
        except FaultError as err:
            raise FaultError(f"field {name!r}: {err}") from err
        if said and name not in way.declared:
            kind = Lost if said.is_lost else Changed
            notes.append(kind(f"{meant.name}: field {name}: {said.words}"))
    return notes


class _Said(NamedTuple):
    words: str
    is_lost: bool


def _of_field(meant: Layer, back: Layer, name: str, is_declared: bool) -> _Said | None:
    """Return how the values of a field have changed, None if they have not."""
    given, found = _plain(meant.table.column(name)), _plain(back.table.column(name))
    if given.type == found.type and given.equals(found):
        return None
    said = []
    one, other = _type_of(given.type), _type_of(found.type)
    n_values = len(given) - given.null_count
    if one != other:
        said.append(f"{one} → {other}, {counted(n_values, 'value')}")
    n_retyped = len(said)
    n_rounded = rounded_as_real(given) if other == "real" else 0
    if n_rounded:
        said.append(f"{counted(n_rounded, 'value')} rounded")
    n_cut = 0 if pa.types.is_timestamp(found.type) else moments.finer_than_kept(given)
    if n_cut:
        said.append(f"{counted(n_cut, 'value')} cut to milliseconds")
    a, b = _alike(given, found)
    left = _differs(a, b)
    for words, test in _WAYS:
        if not left.any():
            break
        rows = np.flatnonzero(left)
        own = np.asarray(test(a.take(rows), b.take(rows), is_declared), bool)
        if own.any():
            said.append(f"{counted(int(own.sum()), 'value')} {words}")
            left[rows[own]] = False
    if left.any():
        row = int(np.flatnonzero(left)[0])
        raise FaultError(
            f"{found[row].as_py()!r} instead of {given[row].as_py()!r} in {meant.row_label(row)}"
        )
    return _Said("; ".join(said), len(said) > n_retyped) if said else None


def _plain(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return a column of one of the types that differ by more than how they lie in memory."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        column, kind = pc.cast(column, kind.value_type), kind.value_type
    for test, wanted in (
        (pa.types.is_large_string, pa.string()),
        (pa.types.is_large_binary, pa.binary()),
        (pa.types.is_date64, pa.date32()),
        (pa.types.is_float16, pa.float64()),
        (pa.types.is_float32, pa.float64()),
        (lambda t: pa.types.is_integer(t) and not pa.types.is_uint64(t), pa.int64()),
    ):
        if test(kind):
            return pc.cast(column, wanted)
    return column


def _type_of(kind: pa.DataType) -> str:
    words = {"time": "date and time", "number": "integer" if is_whole(kind) else "real"}
    known = words.get(kind_of(kind))
    return known or type_words(pa.field("", kind))


def _alike(given: pa.ChunkedArray, found: pa.ChunkedArray) -> tuple[pa.Array, pa.Array]:
    """Return two columns as arrays of one type in which they can be compared."""
    if given.type != found.type:
        kinds = {_type_of(given.type), _type_of(found.type)}
        if is_blob(given.type):
            from polygene.table.casting import as_text

            given = as_text(given)
        elif kinds == {"integer", "real"} or pa.types.is_decimal(given.type):
            given, found = (
                pc.cast(given, pa.float64(), safe=False),
                pc.cast(found, pa.float64(), safe=False),
            )
        elif "date and time" in kinds and kinds <= {"date and time", "date"}:
            given, found = (
                pc.cast(c, pa.timestamp("us", tz="UTC"), safe=False) for c in (given, found)
            )
        elif pa.types.is_null(given.type) or pa.types.is_null(found.type):
            given = pc.cast(given, found.type) if given.null_count == len(given) else given
            found = pc.cast(found, given.type)
        if given.type != found.type:
            given, found = _cast_alike(given, found)
    return _whole(given), _whole(found)


def _cast_alike(
    given: pa.ChunkedArray, found: pa.ChunkedArray
) -> tuple[pa.ChunkedArray, pa.ChunkedArray]:
    """Return two columns in the type of that which is no text, if the text is so, else as texts."""
    try:
        if pa.types.is_string(given.type):
            return _read_as(pc.utf8_trim_whitespace(given), found.type), found
        if pa.types.is_string(found.type):
            texts = pc.utf8_trim_whitespace(found)
            if pa.types.is_timestamp(given.type):  # without a zone it is one of UTC
                given = pc.cast(given, pa.timestamp(given.type.unit, tz="UTC"))
            return given, pc.cast(texts, given.type)
        return pc.cast(given, found.type), found
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return _text(given), _text(found)


def _read_as(texts: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    """Cast texts; moments that say no zone are those of UTC, as readers take them."""
    try:
        return pc.cast(texts, kind)
    except pa.ArrowInvalid:
        if not pa.types.is_timestamp(kind):
            raise
        return pc.cast(pc.cast(texts, pa.timestamp(kind.unit)), kind)


def _text(column: pa.ChunkedArray) -> pa.ChunkedArray:
    from polygene.table.casting import as_text

    try:
        return as_text(moments.as_text(column))
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        texts = [None if v is None else str(v) for v in column.to_pylist()]
        return pa.chunked_array([pa.array(texts, pa.string())])


def _whole(column: pa.ChunkedArray) -> pa.Array:
    array = column.combine_chunks()
    if isinstance(array, pa.ChunkedArray):
        array = pa.concat_arrays(array.chunks) if array.num_chunks else pa.array([], array.type)
    return array


def _differs(a: pa.Array, b: pa.Array) -> BoolArray:
    if pa.types.is_floating(a.type):
        x, y = (np.asarray(pc.fill_null(v, 0.0)) for v in (a, b))
        is_other = ~((x == y) | (np.isnan(x) & np.isnan(y)))
    elif pa.types.is_null(a.type):
        return np.zeros(len(a), bool)
    else:
        try:
            is_other = np.asarray(pc.fill_null(pc.not_equal(a, b), False))
        except pa.ArrowNotImplementedError:
            pairs = zip(a.to_pylist(), b.to_pylist(), strict=True)
            is_other = np.array([x != y for x, y in pairs], bool)
    has_a, has_b = np.asarray(pc.is_valid(a)), np.asarray(pc.is_valid(b))
    found: BoolArray = (has_a != has_b) | (has_a & has_b & is_other)
    return found


Test = Callable[[pa.Array, pa.Array, bool], pa.Array | np.ndarray]


def _are_null_now(a: pa.Array, b: pa.Array, is_declared: bool) -> np.ndarray:
    is_gone = np.asarray(pc.is_null(b)) & np.asarray(pc.is_valid(a))
    if is_declared or pa.types.is_null(b.type):
        return is_gone
    if pa.types.is_floating(a.type):
        return is_gone & ~np.isfinite(np.asarray(pc.fill_null(a, 0.0)))
    return np.zeros(len(a), bool)


def _are_empty_and_null(a: pa.Array, b: pa.Array, is_declared: bool) -> np.ndarray:
    """Texts of no letters, which some formats do not tell from none at all."""
    if not pa.types.is_string(a.type):
        return np.zeros(len(a), bool)
    has = np.asarray(pc.is_valid(a)) != np.asarray(pc.is_valid(b))
    texts = pc.utf8_trim_whitespace(pc.coalesce(a, b))
    return has & np.asarray(pc.fill_null(pc.equal(texts, ""), False))


def _are_cut_moments(a: pa.Array, b: pa.Array, is_declared: bool) -> np.ndarray:
    if not pa.types.is_timestamp(a.type):
        return np.zeros(len(a), bool)
    cut = in_milliseconds(a)
    return np.asarray(pc.fill_null(pc.equal(cut, pc.cast(in_milliseconds(b), cut.type)), False))


def _are_near(a: pa.Array, b: pa.Array, is_declared: bool) -> np.ndarray:
    if not pa.types.is_floating(a.type):
        return np.zeros(len(a), bool)
    x, y = (np.asarray(pc.fill_null(v, np.nan)) for v in (a, b))
    with np.errstate(invalid="ignore"):
        return np.abs(x - y) <= (
            _NEAR_IF_SAID * np.maximum(np.abs(x), 1.0) if is_declared else _NEAR * np.abs(x)
        )


def _in_texts(change: Callable[[pa.Array, pa.Array], pa.Array], if_declared: bool = False) -> Test:
    def test(a: pa.Array, b: pa.Array, is_declared: bool) -> pa.Array | np.ndarray:
        if not pa.types.is_string(a.type) or (if_declared and not is_declared):
            return np.zeros(len(a), bool)
        return pc.fill_null(change(a, b), False)

    return test


def _begin_so(a: pa.Array, b: pa.Array) -> pa.Array:
    whole, cut = (np.asarray(pc.fill_null(v, "")).astype(str) for v in (a, b))
    return pc.column(np.char.startswith(whole, cut))


# What formats are known to do to values, in words and as a test of those that differ.
_WAYS: tuple[tuple[str, Test], ...] = (
    ("empty or null, which are the same there", _are_empty_and_null),
    ("null there", _are_null_now),
    ("cut to milliseconds", _are_cut_moments),
    ("rounded", _are_near),
    (
        "without spaces around",
        _in_texts(lambda a, b: pc.equal(pc.utf8_trim_whitespace(a), pc.utf8_trim_whitespace(b))),
    ),
    (
        "with an apostrophe in front",
        _in_texts(lambda a, b: pc.equal(pc.binary_join_element_wise("'", a, ""), b)),
    ),
    ("cut", _in_texts(_begin_so, if_declared=True)),
)
