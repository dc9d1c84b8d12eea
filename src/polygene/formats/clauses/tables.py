"""Tables: RFC 4180 for the rows, OGC 06-103r4 for the geometry as WKT."""

from __future__ import annotations

import csv
import io
import itertools
from pathlib import Path

import numpy as np

from polygene.errors import GeometryError, PolygeneError
from polygene.formats import csv_tables, wide_texts
from polygene.formats.clauses.finding import Finding, Judged, some_of
from polygene.formats.parting import layout_of


def judge(path: Path) -> Judged:
    """Hold a table to its RFC; its WKT is looked at by reading it."""
    if (wide := wide_texts.mark_of(path)) is None:
        return _judged(path, path, [])
    words = "it is in UTF-16, and a table has no place to say what it is"
    with wide_texts.in_utf8(path, wide) as place:
        return _judged(path, place, [Finding("RFC 4180, 3", "the file", words, "misread")])


def _judged(path: Path, place: Path, findings: list[Finding]) -> Judged:
    """Go through a table, of which ``place`` has the bytes in one encoding of a byte a sign."""
    data = place.read_bytes()
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as err:
        words = f"byte {err.start:,} is no UTF-8, and a table has no place to say what it is"
        findings.append(Finding("RFC 4180, 3", "the file", words, "misread"))
        text = data.decode("cp1252", "replace")
    if text.startswith("\ufeff"):
        words = "it begins with a byte order mark"
        findings.append(Finding("RFC 4180, 2", "the file", words, "form"))
    sign, above = layout_of(place)
    if above:
        words = f"it says what parts the fields, {sign!r}, and is no row"
        findings.append(Finding("RFC 4180, 2.1", "line 1", words, "misread"))
    if sign == ";":
        findings.append(
            Finding(
                "RFC 4180, 2.4", "the file", "a semicolon parts its fields, no comma", "misread"
            )
        )
    rows = csv.reader(io.StringIO(text.removeprefix("\ufeff"), newline=""), delimiter=sign)
    try:
        head = next(itertools.islice(rows, above, None), [])
        widths = np.fromiter(map(len, rows), np.int64)
    except csv.Error as err:
        findings.append(Finding("RFC 4180, 2", f"line {rows.line_num}", str(err), "refused"))
        return Judged("CSV", "RFC 4180", findings)
    odd = np.flatnonzero((widths != len(head)) & (widths > 0)) + 1
    if len(odd):
        words = f"not {len(head)} fields as in the first line"
        findings.append(Finding("RFC 4180, 2.4", some_of(odd.tolist(), "row"), words, "refused"))
    if len(set(head)) < len(head):
        twice = next(name for k, name in enumerate(head) if name in head[:k])
        words = f"two columns are called {twice!r}"
        findings.append(Finding("RFC 4180, 2.3", "line 1", words, "misread"))
    if len(head) and not any(name.strip() for name in head):
        findings.append(Finding("RFC 4180, 2.3", "line 1", "it has no names", "misread"))
    if not findings or all(one.weight != "refused" for one in findings):
        try:
            csv_tables.read(path, path.stem)
        except GeometryError as err:
            findings.append(Finding("OGC 06-103r4, 7.2", "the file", str(err), "refused"))
        except PolygeneError:
            pass  # a table without geometry is no layer, and may be as its RFC has it
    return Judged("CSV", "RFC 4180", findings)
