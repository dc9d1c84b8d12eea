"""Shapefile, by the technical description of July 1998, and its dBASE table."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from polygene import proj
from polygene.arrays import I64Array
from polygene.errors import PolygeneError
from polygene.formats import shapefile
from polygene.formats.clauses.finding import Finding, Judged, rows_of, rows_with
from polygene.geometry import Family
from polygene.measures import ring_areas

_KINDS = (0, 1, 3, 5, 8, 11, 13, 15, 18, 21, 23, 25, 28, 31)
_MAIN, _INDEX, _TABLE = "main file", "index file", "dBASE file"


def judge(path: Path) -> Judged:
    """Hold a shapefile, with the files beside it, to its description."""
    findings: list[Finding] = []
    data = path.read_bytes()
    if len(data) < 100:
        words = "it is shorter than its header, 100 bytes"
        return Judged("Shapefile", "", [Finding(_MAIN, path.name, words, "refused")])
    findings += _of_header(data, path.name, _MAIN)
    places, kinds, contents = _walked(data)
    findings += _of_records(data, places, kinds, contents, path.name)
    beside = {ending: _beside(path, ending) for ending in (".shx", ".dbf", ".prj", ".cpg")}
    for ending, clause in ((".shx", _INDEX), (".dbf", _TABLE)):
        if beside[ending] is None:
            weight = "refused" if ending == ".dbf" else "misread"
            words = f"there is no {path.stem}{ending}"
            findings.append(Finding(clause, path.stem, words, weight))  # type: ignore[arg-type]
    if (index := beside[".shx"]) is not None:
        findings += _of_index(index.read_bytes(), places, contents, index.name)
    if (table := beside[".dbf"]) is not None:
        findings += _of_table(table.read_bytes(), len(places), table.name)
    if (system := beside[".prj"]) is not None:
        findings += _of_prj(system)
    if not any(finding.weight == "refused" for finding in findings):
        findings += _of_rings(path)
    return Judged("Shapefile", "", findings)


def _beside(path: Path, ending: str) -> Path | None:
    for own in (ending, ending.upper()):
        if path.with_suffix(own).is_file():
            return path.with_suffix(own)
    return None


def _of_header(data: bytes, name: str, clause: str) -> Iterator[Finding]:
    code, length = (int.from_bytes(data[at : at + 4], "big") for at in (0, 24))
    version, kind = (int.from_bytes(data[at : at + 4], "little") for at in (28, 32))
    if code != 9994:
        yield Finding(clause, name, f"its file code is {code}, not 9994", "refused")
    if 2 * length != len(data):
        words = f"its header states {2 * length:,} bytes, and there are {len(data):,}"
        yield Finding(clause, name, words, "misread")
    if version != 1000:
        yield Finding(clause, name, f"its version is {version}, not 1000", "form")
    if kind not in _KINDS:
        yield Finding(clause, name, f"{kind} is no type of shape", "refused")


def _walked(data: bytes) -> tuple[I64Array, I64Array, I64Array]:
    """Return where records begin, the type of each and the bytes of its content."""
    at, end = 100, len(data)
    places, kinds, contents = [], [], []
    while at + 12 <= end:
        size = 2 * int.from_bytes(data[at + 4 : at + 8], "big")
        places.append(at)
        kinds.append(int.from_bytes(data[at + 8 : at + 12], "little"))
        contents.append(size)
        at += 8 + max(size, 4)
    return np.array(places, np.int64), np.array(kinds, np.int64), np.array(contents, np.int64)


def _of_records(
    data: bytes, places: I64Array, kinds: I64Array, contents: I64Array, name: str
) -> Iterator[Finding]:
    stated = int.from_bytes(data[32:36], "little")
    if not len(places):
        return
    words = np.frombuffer(data, np.uint8)
    numbers = np.ascontiguousarray(words[places[:, None] + np.arange(4)]).view(">u4")[:, 0]
    is_odd = numbers != np.arange(1, len(places) + 1)
    if is_odd.any():
        said = "their numbers do not count up from 1"
        yield Finding(_MAIN, f"{name}, {rows_of(is_odd)}", said, "form")
    is_other = (kinds != 0) & (kinds != stated)
    if is_other.any():
        said = f"their type of shape is not the file's, {stated}"
        yield Finding(_MAIN, f"{name}, {rows_of(is_other)}", said, "refused")
    is_long = places + 8 + contents > len(data)
    if is_long.any():
        yield Finding(_MAIN, f"{name}, {rows_of(is_long)}", "it goes beyond the end", "refused")


def _of_index(data: bytes, places: I64Array, contents: I64Array, name: str) -> Iterator[Finding]:
    if len(data) < 100:
        yield Finding(_INDEX, name, "it is shorter than its header, 100 bytes", "misread")
        return
    yield from _of_header(data, name, _INDEX)
    pairs = np.frombuffer(data, ">u4", (len(data) - 100) // 8 * 2, 100).reshape(-1, 2)
    if len(pairs) != len(places):
        words = f"it has {len(pairs):,} records, the main file {len(places):,}"
        yield Finding(_INDEX, name, words, "misread")
        return
    is_other = (2 * pairs[:, 0].astype(np.int64) != places) | (
        2 * pairs[:, 1].astype(np.int64) != contents
    )
    if is_other.any():
        words = "they do not lead to the records of the main file"
        yield Finding(_INDEX, f"{name}, {rows_of(is_other)}", words, "misread")


def _of_table(data: bytes, n_shapes: int, name: str) -> Iterator[Finding]:
    if len(data) < 33:
        yield Finding(_TABLE, name, "it has no header", "refused")
        return
    n_records = int.from_bytes(data[4:8], "little")
    head, width = int.from_bytes(data[8:10], "little"), int.from_bytes(data[10:12], "little")
    if n_records != n_shapes:
        words = f"it has {n_records:,} records, and there are {n_shapes:,} shapes"
        yield Finding(_TABLE, name, words, "misread")
    if len(data) < head + n_records * width:
        yield Finding(_TABLE, name, "it ends before its last record", "refused")
        return
    names, total, at = [], 1, 32
    while at + 32 <= head and data[at] != 0x0D:
        one = data[at : at + 32]
        names.append(one[:11].split(b"\0")[0])
        total += one[16]
        if chr(one[11]) not in "CNFDLMBIT@O+":
            words = f"it is of type {chr(one[11])!r}"
            yield Finding(_TABLE, f"{name}, field {len(names)}", words, "misread")
        at += 32
    if at >= head or data[at] != 0x0D:
        yield Finding(_TABLE, name, "its fields are not ended by 0D", "misread")
    if total != width:
        words = f"its fields take {total:,} bytes, its records {width:,}"
        yield Finding(_TABLE, name, words, "misread")
    if len({own.upper() for own in names}) < len(names):
        yield Finding(_TABLE, name, "two fields have one name", "misread")
    if not names:
        yield Finding(_TABLE, name, "it has no field", "misread")
    marks = np.frombuffer(data, np.uint8)[head : head + n_records * width : max(width, 1)]
    is_odd = (marks != 0x20) & (marks != 0x2A)
    if is_odd.any():
        words = "they begin with neither a blank nor the mark of what is deleted"
        yield Finding(_TABLE, f"{name}, {rows_of(is_odd)}", words, "misread")


def _of_prj(path: Path) -> Iterator[Finding]:
    text = path.read_bytes().decode("utf-8", "replace").strip()
    try:
        proj.CRS.from_wkt(text)
    except proj.CRSError:
        yield Finding(".prj", path.name, "it is no WKT of a CRS that is known", "misread")


def _of_rings(path: Path) -> Iterator[Finding]:
    """Look whether rings are closed and run as they are to, from the file as it is."""
    try:
        (layer,) = shapefile.read(path, path.stem).layers
    except PolygeneError:
        return  # `clauses.judged` tells of it
    column = layer.geometry
    if column.family != Family.POLYGONS or not column.n_rings:
        return
    first, last = column.ring_offsets[:-1], column.ring_offsets[1:] - 1
    is_open = (column.xy[first] != column.xy[last]).any(axis=1)
    if is_open.any():
        place = f"{path.name}, {rows_of(rows_with(column.ring_offsets_of_rows, is_open))}"
        yield Finding("polygon", place, "a ring is not closed", "misread")
    is_flat = ring_areas(column.xy, column.ring_offsets) == 0
    if is_flat.any():
        place = f"{path.name}, {rows_of(rows_with(column.ring_offsets_of_rows, is_flat))}"
        yield Finding(
            "polygon", place, "a ring encloses nothing, so it has no direction", "misread"
        )
