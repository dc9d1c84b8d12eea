"""The table of a shapefile, by the description of dBASE III: records of fixed width."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.classes import dataclass
from polygene.errors import FileError, UsageError
from polygene.formats import codepages
from polygene.notes import Warned, counted
from polygene.table.written import numbers_in

LONGEST_NAME = 10  # bytes of the name of a field
_BLANKS = " \x00"
_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eEdD][+-]?[0-9]+)?$"
_WHOLE = r"^-?[0-9]+$"


@dataclass(frozen=True)
class _Field:
    name: bytes
    kind: str
    start: int
    width: int
    decimals: int


@dataclass(frozen=True)
class Table:
    """What is in a .dbf: (n,) whether a record is marked as deleted, and the fields of all records."""

    is_deleted: BoolArray
    columns: pa.Table


def read(data: bytes, name: str, beside: tuple[str, str | None], notes: list[str]) -> Table:
    """Read a table; ``beside`` is what a file beside it says of its encoding.

    Raises
    ------
    FileError
        If it is cut short or no such table.
    """
    if len(data) < 33:
        raise FileError(f"{name} is cut short: it has no header")
    n_records = int.from_bytes(data[4:8], "little")
    head, width = int.from_bytes(data[8:10], "little"), int.from_bytes(data[10:12], "little")
    fields = _fields(data, head, width, name)
    if len(data) < head + n_records * width:
        there = max(0, len(data) - head) // max(width, 1)
        raise FileError(
            f"{name} is cut short: it has {there:,} of the {n_records:,} records that it states"
        )
    records = np.frombuffer(data, np.uint8, n_records * width, head).reshape(n_records, width)
    encoding = _encoding(records, fields, data[29], name, beside, notes)
    arrays, found = [], []
    for field in fields:
        array = _column(records, field, encoding, name, notes, _is_level_7(data))
        if array is not None:
            arrays.append(array)
            text = {"width": str(field.width)} if field.kind == "C" else None
            own = _decoded(_whole(field.name, encoding), encoding)
            found.append(pa.field(own, array.type, metadata=text))
    is_deleted = records[:, 0] == ord("*")
    return Table(is_deleted, pa.table(arrays, pa.schema(found)))


def _fields(data: bytes, head: int, width: int, name: str) -> list[_Field]:
    fields: list[_Field] = []
    # Where the fields are described, how long that is, and where in it the type and the width are.
    at, step, at_kind, at_width = (68, 48, 32, 33) if _is_level_7(data) else (32, 32, 11, 16)
    start = 1
    while at + step <= min(head, len(data)) and data[at] not in (0x0D, 0x00):
        one = data[at : at + step]
        own, kind = one[:at_kind].split(b"\x00")[0].strip(), chr(one[at_kind]).upper()
        size, decimals = one[at_width], one[at_width + 1]
        fields.append(_Field(own, kind, start, size, decimals))
        start += size
        at += step
    if start < width:  # texts of over 255 bytes have the rest of their width where decimals are
        fields = _widened(fields)
        start = 1 + sum(field.width for field in fields)
    if start > width or not head:
        raise FileError(f"{name} is damaged: its fields are wider than its records")
    return fields


def _is_level_7(data: bytes) -> bool:
    return data[0] & 7 == 4


def _widened(fields: list[_Field]) -> list[_Field]:
    found, start = [], 1
    for field in fields:
        is_text = field.kind == "C"
        width = field.width + 256 * field.decimals if is_text else field.width
        found.append(_Field(field.name, field.kind, start, width, 0 if is_text else field.decimals))
        start += width
    return found


def _bytes(records: npt.NDArray[np.uint8], field: _Field) -> pa.Array:
    """Return a field of all records as bytes, without the blanks that fill it up behind."""
    own = np.ascontiguousarray(records[:, field.start : field.start + field.width])
    fixed = pa.FixedSizeBinaryArray.from_buffers(
        pa.binary(field.width), len(own), [None, pa.py_buffer(own)]
    )
    return pc.cast(fixed, pa.binary())


def _encoding(
    records: npt.NDArray[np.uint8],
    fields: list[_Field],
    mark: int,
    name: str,
    beside: tuple[str, str | None],
    notes: list[str],
) -> str:
    """Return how texts are written: as asked, as a file beside says, by the mark, or as they allow."""
    if codepages.asked_wide() is not None:
        raise UsageError(f"{name}: no table of dBASE is in UTF-16; say another `encoding`")
    texts = [field for field in fields if field.kind == "C"]
    is_other = any(
        bool((records[:, f.start : f.start + f.width] > 127).any()) for f in texts
    ) or any(not f.name.isascii() for f in fields)
    said, known = beside
    if said and known is None:
        notes.append(Warned(f"{name}: the code page {said!r} of its .cpg is not known"))
    for encoding in (codepages.asked(), known, codepages.by_mark(mark)):
        if encoding is not None:
            return encoding
    names = pa.array([field.name for field in fields], pa.binary())
    is_cut = any(len(own) < LONGEST_NAME and _ends_within(own) for own in names.to_pylist())
    columns = (names, *(_bytes(records, field) for field in texts))
    if not is_other or not is_cut and all(map(_is_utf8, columns)):
        return "utf-8"
    notes.append(
        Warned(
            f"{name}: nothing says how its texts are written; read as Windows-1252. If they look "
            "wrong, say `encoding`"
        )
    )
    return codepages.DEFAULT


def _is_utf8(raw: pa.Array) -> bool:
    """Whether all texts are UTF-8; one that was cut to its width within a character counts."""
    try:
        pc.cast(raw, pa.string())
        return True
    except pa.ArrowInvalid:
        pass
    return all(_ends_within(one) is not None for one in pc.unique(raw).to_pylist())


def _ends_within(raw: bytes | None) -> bool | None:
    """Whether UTF-8 ends within a character; None for what is none."""
    try:
        (raw or b"").decode("utf-8")
    except UnicodeDecodeError as err:
        return True if err.reason == "unexpected end of data" else None
    return False


def _decoded(raw: bytes, encoding: str) -> str:
    return raw.decode(encoding, "replace")


def _texts(raw: pa.Array, encoding: str) -> pa.Array:
    """Return texts; the few bytes of a character that was cut off at the end are left out."""
    try:
        if encoding.replace("-", "").casefold() != "utf8":
            pc.cast(raw, pa.string())  # ASCII is the same in nearly all of them
            if pc.all(pc.string_is_ascii(pc.cast(raw, pa.string()))).as_py() is False:
                raise pa.ArrowInvalid("other signs")
        texts = pc.cast(raw, pa.string())
    except pa.ArrowInvalid:
        coded = pc.dictionary_encode(raw)
        known = pa.array(
            [_decoded(_whole(v, encoding), encoding) for v in coded.dictionary.to_pylist()]
        )
        texts = pc.take(known, coded.indices)
    return pc.utf8_rtrim(texts, _BLANKS)


def _whole(raw: bytes, encoding: str) -> bytes:
    """Return bytes without a character of UTF-8 that is cut off at their end."""
    if encoding.replace("-", "").casefold() == "utf8":
        for k in range(1, 4):
            if len(raw) >= k and raw[-k] >= 0xC0:
                needed = 2 if raw[-k] < 0xE0 else 3 if raw[-k] < 0xF0 else 4
                return raw[:-k] if needed > k else raw
            if len(raw) < k or raw[-k] < 0x80:
                break
    return raw


def _column(
    records: npt.NDArray[np.uint8],
    field: _Field,
    encoding: str,
    name: str,
    notes: list[str],
    is_level_7: bool,
) -> pa.Array | None:
    where = f"{name}: field {_decoded(field.name, encoding)}"
    if field.kind == "C":
        texts = _texts(_bytes(records, field), encoding)
        return pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)
    own = records[:, field.start : field.start + field.width]
    if field.kind == "L":
        is_true, is_false = np.isin(own[:, 0], list(b"TtYy")), np.isin(own[:, 0], list(b"FfNn"))
        is_odd = ~(is_true | is_false | np.isin(own[:, 0], list(b"? \0")))
        if is_odd.any():
            what = f"{counted(int(is_odd.sum()), 'value')} neither true nor false; null there"
            notes.append(Warned(f"{where}: {what}"))
        return pc.with_nulls(is_true, ~(is_true | is_false))
    if field.kind in "NF":
        return _numbers(_texts(_bytes(records, field), "latin-1"), field, where, notes)
    if field.kind == "D":
        return _dates(_texts(_bytes(records, field), "latin-1"), where, notes)
    held, kind = np.ascontiguousarray(own), (field.kind, field.width)
    if is_level_7 and kind in (("I", 4), ("+", 4)):
        return pc.column((held.view(">u4")[:, 0].astype(np.int64) - (1 << 31)).astype(np.int32))
    binary = {("I", 4): "<i4", ("B", 8): "<f8"}
    if not is_level_7 and kind in binary:
        return pc.column(held.view(binary[kind])[:, 0])
    notes.append(Warned(f"{where} is of the type {field.kind!r}, which is not read; left out"))
    return None


def _numbers(texts: pa.Array, field: _Field, where: str, notes: list[str]) -> pa.Array:
    texts = pc.utf8_trim(texts, _BLANKS)
    is_blank = pc.or_(pc.equal(texts, ""), pc.match_substring_regex(texts, r"^\*+$"))
    if pc.any(pc.match_substring(texts, ",")).as_py():
        texts = pc.replace_substring(texts, ",", ".")
    is_number = pc.match_substring_regex(texts, _NUMBER)
    odd = pc.and_not(pc.invert(is_number), is_blank)
    n_odd = pc.sum(odd).as_py() or 0
    if n_odd:
        first = pc.filter(texts, odd)[0].as_py()
        notes.append(
            Warned(f"{where}: {counted(n_odd, 'value')} no number, as {first[:20]!r}; null there")
        )
    texts = pc.if_else(is_number, texts, pa.scalar(None, pa.string()))
    if field.kind == "N" and field.decimals == 0:
        is_whole = pc.all(pc.match_substring_regex(pc.drop_null(texts), _WHOLE)).as_py()
        if is_whole is not False:
            width = field.width
            narrow = pa.int16() if width <= 4 else pa.int32() if width <= 9 else pa.int64()
            try:
                return pc.cast(pc.cast(texts, pa.int64()), narrow)
            except pa.ArrowInvalid:
                as_text = bool(numbers_in(texts).is_between.any())
                what = "text" if as_text else "real numbers"
                notes.append(Warned(f"{where} holds numbers beyond 64 bits; read as {what}"))
                if as_text:  # as real numbers some would be others, and they may be keys
                    return texts
    plain = pc.replace_substring_regex(pc.utf8_ltrim(texts, "+"), "[dD]", "e")
    return pc.cast(plain, pa.float64())


def _dates(texts: pa.Array, where: str, notes: list[str]) -> pa.Array:
    texts = pc.utf8_trim(texts, _BLANKS)
    is_blank = pc.or_(pc.equal(texts, ""), pc.match_substring_regex(texts, "^0+$"))
    digits = pc.if_else(
        pc.match_substring_regex(texts, "^[0-9]{8}$"), texts, pa.scalar(None, pa.string())
    )
    number = np.array(pc.fill_null(pc.cast(digits, pa.int64()), 0))
    year, month, day = number // 10000, number // 100 % 100, number % 100
    is_one = (year > 0) & (month >= 1) & (month <= 12) & (day >= 1)
    months = (np.maximum(year, 1) - 1970) * 12 + np.clip(month, 1, 12) - 1
    days = months.astype("datetime64[M]").astype("datetime64[D]") + (day - 1)
    is_one &= days.astype("datetime64[M]").astype(np.int64) == months
    n_odd = int((~is_one & ~np.array(is_blank)).sum())
    if n_odd:
        notes.append(Warned(f"{where}: {counted(n_odd, 'value')} no date; null there"))
    return pc.with_nulls(days, ~is_one, pa.date32())
