"""CSV and TSV with geometry as WKT (OGC 06-103r4, 7.2), or as points in two columns of numbers."""

from __future__ import annotations

import contextlib
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.commit.together import replacing
from polygene.crs import label
from polygene.errors import FileError, listed, reason_of
from polygene.formats import (
    codepages,
    formulas,
    hex_columns,
    moments,
    sheets,
    table_geometry,
    wide_texts,
)
from polygene.formats.base import Reading, Way, Written, collecting_no_garbage, only_one
from polygene.formats.columns import (
    ADVICE,
    check_finite,
    distinct_columns,
    info_of,
    layers_of,
    named,
    table_of,
    with_rows_told,
    without_zero_signs,
)
from polygene.formats.decimal_commas import with_decimals
from polygene.formats.parting import Layout, layout_of
from polygene.formats.wkt_columns import from_wkt
from polygene.info import LayerInfo
from polygene.layer import Layer, distinct_name
from polygene.notes import Changed, Lost, Warned, counted
from polygene.table.casting import as_text
from polygene.table.types import dates_beyond, is_blob
from polygene.table.written import numbers_in
from polygene.text import wkt
from polygene.text.assemble import OfFamily

NAME = "CSV"
# What of numbers may be codes: 007, +49, 1E5, 0x1F
_IS_CODE = r"^\s*(0[0-9]+|\+[0-9]+|[0-9]+[eE][0-9]+|[+-]?0[xX][0-9a-fA-F]+)\s*$"
# Both begin with what is rare, to go through a file fast; what must come before is asked after it.
# The quote before a number: to put a mark behind each is quick as long as nothing of the match is kept.
_QUOTED_NUMBER = re.compile(
    rb'"(?<![^,;|\t\n]")(?=\s*[+-]?[0-9.][0-9.eE+-]*\s*"(?:[,;|\t\r\n]|\Z))'
)
# Where values are parted otherwise, numbers have commas in them too.
_QUOTED_WITH_COMMA = re.compile(_QUOTED_NUMBER.pattern.replace(rb"eE+-]*", rb",eE+-]*"))
_MARK = "\x02"  # put in front of numbers in quotes, so that they are text
_EMPTY_TEXT = re.compile(rb'""(?<![^,;|\t\n]"")(?=[,;|\t\r\n]|\Z)')
ENDINGS = (".csv", ".tsv")
KEEPS_LINEAGE = False
HOLDS_MANY = False
HOLDS_TABLES = True
READS_PART = False
_BLOCK, _LARGEST_BLOCK = 1 << 20, (1 << 31) - 1  # bytes that are parsed at a time


def is_like(head: bytes) -> bool:
    """Whether a file begins with text: any does that has no zero bytes, or is in UTF-16."""
    return b"\0" not in head or wide_texts.begins_wide(head) or codepages.asked_wide() is not None


def is_plainly(head: bytes) -> bool:
    """Whether a file begins as a table does: with names and signs between them, and no mark of another
    sort of text."""
    first = head.lstrip().split(b"\n")[0]
    is_other = first[:1] in (b"{", b"[", b"<", b"/", b"#", b"%")
    return is_like(head) and not is_other and any(sign in first for sign in b",;\t|")


def layer_names(path: Path) -> list[str]:
    return [layer.name for layer in _read(path).layers]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers; the file is read for it."""
    return [info_of(layer) for layer in _read(path).layers]


def read(path: Path, name: str) -> Reading:
    """Read the layer of that name; all of them if it is the file's own name."""
    return named(_read(path), path, name)


def _encoding(path: Path, notes: list[str]) -> str:
    """Return UTF-8 if a file is that, else the one that is guessed."""
    try:
        path.read_bytes().decode("utf-8")
        return "utf-8"
    except UnicodeDecodeError:
        words = f"{path.name} is not UTF-8; read as Windows-1252. If it looks wrong, say `encoding`"
        notes.append(Warned(words))
        return codepages.DEFAULT


def _parsed(
    source: Path | pa.Buffer, encoding: str, laid: Layout, as_text: Sequence[str] = ()
) -> pa.Table:
    """Parse a table; some columns as text, whatever they look like, and then no others.

    Nothing between two signs is null, and so is nothing in quotes where it is not asked for as text.
    """
    n_bytes = source.stat().st_size if isinstance(source, Path) else source.size
    largest = max(
        _BLOCK, min(n_bytes + 1, _LARGEST_BLOCK)
    )  # room for more would be asked for in vain
    block = _BLOCK
    while True:
        try:
            return _parsed_by_blocks(source, encoding, laid, as_text, block)
        except pa.ArrowInvalid as err:
            # No row may reach over more than two blocks, and that of a coast has megabytes.
            if "straddl" not in str(err) or block == largest:
                raise
        block = min(16 * block, largest)


def _parsed_by_blocks(
    source: Path | pa.Buffer, encoding: str, laid: Layout, as_text: Sequence[str], block: int
) -> pa.Table:
    return pacsv.read_csv(
        source if isinstance(source, Path) else pa.BufferReader(source),
        read_options=pacsv.ReadOptions(encoding=encoding, skip_rows=laid.above, block_size=block),
        parse_options=pacsv.ParseOptions(delimiter=laid.sign, newlines_in_values=True),
        convert_options=pacsv.ConvertOptions(
            strings_can_be_null=True,
            quoted_strings_can_be_null=not as_text,
            null_values=[""],
            include_columns=list(as_text),
            column_types=dict.fromkeys(as_text, pa.string()),
        ),
    )


def _with_texts(table: pa.Table, path: Path, encoding: str, laid: Layout) -> pa.Table:
    """Return a table in which texts of no letters, in quotes, are not null, and times are texts."""
    times = [f.name for f in table.schema if pa.types.is_time(f.type)]  # which stay as written
    names = [f.name for f in table.schema if pa.types.is_string(f.type)]
    if not names or not _EMPTY_TEXT.search(path.read_bytes()):
        names = []
    names = _there_once(table, [*names, *times])
    if not names:
        return table
    texts = _parsed(path, encoding, laid, names)
    place = {name: k for k, name in enumerate(table.column_names)}
    for name in names:
        table = table.set_column(place[name], pa.field(name, pa.string()), texts.column(name))
    return table


def _there_once(table: pa.Table, names: Iterable[str]) -> list[str]:
    """Return those of some names that only one column has."""
    counts = Counter(table.column_names)
    return [name for name in names if counts[name] == 1]


def _with_codes(
    table: pa.Table, path: Path, encoding: str, laid: Layout, notes: list[str]
) -> pa.Table:
    """Return a table in which numbers written as codes, such as 007 or 1E5, are text as they stand.

    So are those with whole ones of so many digits that they would become others.
    """
    numbers = (pa.types.is_integer, pa.types.is_floating)
    names = [f.name for f in table.schema if any(test(f.type) for test in numbers)]
    names = _there_once(table, names)
    if not names:
        return table
    texts = _parsed(path, encoding, laid, names)
    for name in names:
        own = texts.column(name)
        is_code = pc.match_substring_regex(own, _IS_CODE)
        has_point = pc.any(pc.match_substring(own, ".")).as_py()  # a measured number, not a code
        if pc.any(is_code).as_py() and not has_point:
            what = "codes such as"
        elif (is_code := _no_reals(table.column(name), own)).any():
            what = "whole numbers that no real number is, such as"
        else:
            continue
        first = pc.filter(own, is_code)[0].as_py().strip()
        notes.append(f"{path.name}: {name} has {what} {first}; read as text")
        k = table.column_names.index(name)
        table = table.set_column(k, pa.field(name, pa.string()), pc.utf8_trim_whitespace(own))
    return table


def _no_reals(column: pa.ChunkedArray, texts: pa.ChunkedArray) -> BoolArray:
    """Return (n,) where texts are whole numbers that the real ones read from them are not."""
    if not pa.types.is_floating(column.type):
        return np.zeros(len(texts), bool)
    is_large = pc.any(pc.greater_equal(pc.abs(column), 2.0**53)).as_py()
    return numbers_in(texts).is_between if is_large else np.zeros(len(texts), bool)


def _marked(path: Path, sign: str) -> Path | pa.Buffer:
    """Return a file, or its bytes with a mark in front of each number that stands in quotes."""
    data, quoted = path.read_bytes(), _QUOTED_NUMBER if sign == "," else _QUOTED_WITH_COMMA
    if not quoted.search(data):
        return path
    return pa.py_buffer(quoted.sub(b'"' + _MARK.encode(), data))


def _unmarked(table: pa.Table, path: Path, notes: list[str]) -> pa.Table:
    """Return a table without the marks; what has nothing but numbers in quotes is told."""
    found = []
    names = [n.removeprefix(_MARK) for n in table.column_names]
    table = table.rename_columns(names)
    for k, field in enumerate(table.schema):
        if pa.types.is_string(field.type):
            column = table.column(k)
            is_marked = pc.fill_null(pc.starts_with(column, _MARK), False)
            if pc.any(is_marked).as_py():
                if pc.all(pc.or_(is_marked, pc.is_null(column))).as_py():
                    found.append(field.name)
                table = table.set_column(k, field, pc.utf8_ltrim(column, _MARK))
    if found:
        which = listed(found, 5)
        notes.append(
            f"{path.name}: numbers in quotes are text: {which}; fields changes it by `type`"
        )
    return table


@contextlib.contextmanager
def _in_bytes(path: Path, notes: list[str]) -> Iterator[tuple[Path, str]]:
    """Give where the bytes of a table are, in which signs are one byte each, and their encoding."""
    wide = codepages.asked_wide()
    if (
        wide is None
        and codepages.asked() is None
        and (wide := wide_texts.mark_of(path)) is not None
    ):
        notes.append(f"{path.name} is in UTF-16")
    if wide is None:
        yield path, codepages.asked() or _encoding(path, notes)
        return
    with wide_texts.in_utf8(path, wide) as place:
        yield place, "utf-8"


def _table(path: Path, encoding: str, notes: list[str]) -> pa.Table:
    """Return what a file holds, as it is written there: the types are those that its texts allow."""
    laid = layout_of(path)
    source = _marked(path, laid.sign)
    table = _parsed(source, encoding, laid)
    if laid.sign != ",":
        table = with_decimals(table, path, notes)
    if source is not path:
        table = _unmarked(table, path, notes)
    table = _with_texts(table, path, encoding, laid)
    return _with_codes(table, path, encoding, laid, notes)


@collecting_no_garbage()
def _read(path: Path) -> Reading:
    notes: list[str] = []
    try:
        with _in_bytes(path, notes) as (place, encoding):
            table = _table(place, encoding, notes)
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, UnicodeDecodeError) as err:
        raise FileError(f"{path} is no table: {str(err).splitlines()[0]}; {ADVICE}") from err
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    table = distinct_columns(_plain(table, path, notes), path, notes)
    texts = [] if sheets.asked().is_plain else table_geometry.columns_of_wkt(table)
    if texts:
        found = texts[0]
        if len(texts) > 1:
            others = ", ".join(texts[1:])
            notes.append(
                Warned(f"{path.name}: geometry is its column {found}; {others} stays a text of WKT")
            )
        geometries, crs = from_wkt(table.column(found), path, notes)
        rest = table.drop_columns([found])
        return layers_of(
            path=path, geometries=geometries, table=rest, crs=crs, ids=None, notes=notes
        )
    of_hex = [] if sheets.asked().is_plain else table_geometry.columns_of_digits(table)
    if of_hex:
        geometries, crs = hex_columns.from_hex(table.column(of_hex[0]), path, notes)
        notes.append(
            f"{path.name}: geometry taken from the digits of WKB in its column {of_hex[0]}"
        )
        rest = table.drop_columns(of_hex[:1])
        return layers_of(
            path=path, geometries=geometries, table=rest, crs=crs, ids=None, notes=notes
        )
    pair = None if sheets.asked().is_plain else table_geometry.pair_of(table)
    if pair:
        column = table_geometry.from_numbers(table, *pair, path)
        chosen = [OfFamily(np.arange(table.num_rows), column)]
        notes.append(f"{path.name}: points taken from its columns {' and '.join(pair)}")
        return layers_of(path=path, geometries=chosen, table=table, crs=None, ids=None, notes=notes)
    why = "neither a column of WKT, as POINT (30 10), nor two of numbers such as x and y or lon and lat"
    return table_of(path, table, why, notes)


def _plain(table: pa.Table, path: Path, notes: list[str]) -> pa.Table:
    for k, field in enumerate(table.schema):
        column, said = table.column(k), ""
        if pa.types.is_timestamp(field.type):
            column, said = moments.in_kept_form(column)
        elif pa.types.is_null(field.type) or pa.types.is_time(field.type):
            column = pc.cast(column, pa.string(), safe=False)
        if column.type != field.type:
            table = table.set_column(k, pa.field(field.name, column.type), column)
        notes += [Warned(f"{path.name}: {field.name} {said}")] if said else []
    return table


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer: its fields, and the geometry as WKT in the column ``wkt``.

    Raises
    ------
    DataError
        If there are several layers.
    FileError
        If it cannot be written.
    """
    layer = only_one(path, layers, "a table")
    if layer.is_table:
        return _write_table(path, layer)
    if (
        not layer.table.num_columns
    ):  # a line of a null geometry alone would be empty, and passed over
        layer = replace(layer, table=pa.table({"row": np.arange(1, layer.n_rows + 1)}))
    layer, notes = without_zero_signs(layer)
    layer, renamed = _with_free_name(layer)
    notes += renamed
    if layer.geometry.is_null.all() and table_geometry.columns_of_wkt(layer.table):
        why = "none of its rows has any"
        written = _write_table(path, replace(layer, no_geometry=why, crs=None))
        said = Changed(f"{layer.name}: written without geometry, of which {why}")
        return written._replace(notes=[*notes, said, *written.notes])
    check_finite(layer, "WKT")
    column, n_partly = wkt.with_all_heights_or_none(layer.geometry)
    if n_partly:
        what = f"heights of {counted(n_partly, 'feature')} that some vertices have none of"
        notes.append(Lost(f"{layer.name}: {what} left out, for WKT has them of all"))
    layer = replace(layer, geometry=column)
    texts = wkt.column_to_text(column)
    columns = [*(_writable(c) for c in layer.table.columns), texts]
    table, n_formulas = formulas.defused(
        pa.table(columns, [*layer.table.column_names, table_geometry.GEOMETRY])
    )
    options = pacsv.WriteOptions(delimiter="\t" if path.suffix.lower() == ".tsv" else ",")
    with replacing(path) as temporary:
        pacsv.write_csv(table, temporary, options)
    notes += formulas.said(layer.name, n_formulas)
    if layer.crs is not None:
        notes.append(
            Changed(
                f"{layer.name}: a table has no place for the CRS, {label(layer.crs)}; say it with "
                "`crs` when you read it"
            )
        )
    if layer.geometry.m is not None:
        notes.append(Lost(f"{layer.name}: M values dropped"))
    geometry = replace(layer.geometry, m=None)
    named = layer.table.rename_columns(table.column_names[:-1])  # formulas are none any more
    meant = replace(layer, geometry=geometry, table=named, crs=None)
    return Written(notes, [meant], Way(keeps_types=False))


def _write_table(path: Path, layer: Layer) -> Written:
    """Write a table without geometry."""
    layer, notes = without_zero_signs(layer)
    if layer.table.num_columns == 1:  # a line of nothing is passed over
        layer, said = with_rows_told(layer)
        notes += said
    columns = [_writable(c) for c in layer.table.columns]
    table = pa.table(columns, layer.table.column_names)
    own, said = _names_of_a_table(layer.name, table, path)
    notes += said
    table, n_formulas = formulas.defused(table.rename_columns(own))
    options = pacsv.WriteOptions(delimiter="\t" if path.suffix.lower() == ".tsv" else ",")
    with replacing(path) as temporary:
        pacsv.write_csv(table, temporary, options)
    notes += formulas.said(layer.name, n_formulas)
    named = layer.table.rename_columns(table.column_names)
    return Written(notes, [replace(layer, table=named)], Way(keeps_types=False))


def _names_of_a_table(name: str, table: pa.Table, path: Path) -> tuple[list[str], list[str]]:
    """Return names of fields under which what is no geometry is not taken for it, and what to say."""
    names, notes = list(table.column_names), list[str]()
    if not table.num_rows:
        return names, notes
    odd = {
        own
        for own in table_geometry.columns_of_wkt(table)
        if not table_geometry.WKT.match(table_geometry.first_text(table.column(own)))
    }
    pair = table_geometry.pair_of(table)
    if pair:
        try:
            table_geometry.from_numbers(table, *pair, path)
        except FileError:
            odd.add(pair[1])
    taken = {own.strip().casefold() for own in names}
    for k, own in enumerate(names):
        if own in odd:
            names[k] = distinct_name(own.strip(), taken, folds=True)
            words = f"field {own} is called {names[k]} in a table, where it would be geometry"
            notes.append(Changed(f"{name}: {words}"))
    named = table.rename_columns(names)
    found = (
        table_geometry.columns_of_wkt(named)[:1]
        or table_geometry.columns_of_digits(named)[:1]
        or table_geometry.pair_of(named)
    )
    if found:
        notes.append(Changed(f"{name}: {' and '.join(found)} will be read as geometry"))
    return names, notes


def _with_free_name(layer: Layer) -> tuple[Layer, list[str]]:
    """Return a layer of which no field has the name that geometry has in a table; that is said."""
    names = layer.table.column_names
    taken = {name.strip().casefold() for name in names}
    new = [
        distinct_name(own.name.strip(), taken, folds=True)
        if own.name.strip().casefold()
        in (table_geometry.WKT_NAMES if _may_be_text(own.type) else (table_geometry.GEOMETRY,))
        else own.name
        for own in layer.table.schema
    ]
    notes: list[str] = [
        Changed(
            f"{layer.name}: field {a} is called {b} in a table, where geometry is "
            f"{table_geometry.GEOMETRY}"
        )
        for a, b in zip(names, new, strict=True)
        if a != b
    ]
    return (replace(layer, table=layer.table.rename_columns(new)), notes) if notes else (layer, [])


def _may_be_text(kind: pa.DataType) -> bool:
    return not (pa.types.is_integer(kind) or pa.types.is_floating(kind))


def _writable(column: pa.ChunkedArray) -> pa.ChunkedArray:
    kind = column.type
    if pa.types.is_timestamp(kind) or pa.types.is_boolean(kind) or dates_beyond(column):
        return as_text(column)
    if pa.types.is_float32(kind) or pa.types.is_float16(kind):
        return pc.cast(column, pa.float64())  # the shortest text of 32 bits is another number in 64
    if is_blob(kind):
        return as_text(column)
    return column
