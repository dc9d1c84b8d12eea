"""FlatGeobuf 3: the magic bytes, the header, the packed index and the features it leads to."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from polygene.arrays import I64Array, U8Array
from polygene.errors import PolygeneError
from polygene.formats import flatgeobuf
from polygene.formats.clauses.finding import Finding, Judged, rows_of
from polygene.formats.flatgeobuf import index
from polygene.formats.flatgeobuf.header import Header, read_header


def judge(path: Path) -> Judged:
    """Hold a FlatGeobuf to its description."""
    raw = np.fromfile(path, np.uint8)
    head = raw[:8].tobytes()
    version = str(head[3]) if len(head) == 8 else ""
    if head[:3] != b"fgb" or head[4:7] != b"fgb":
        words = f"they are {head!r}, not fgb, the version, fgb, the patch"
        return Judged("FlatGeobuf", "", [Finding("magic bytes", "the file", words, "refused")])
    findings = []
    if head[3] != 3:
        words = f"the version is {head[3]}, not 3"
        findings.append(Finding("magic bytes", "the file", words, "refused"))
    try:
        header = read_header(path)
        findings += [*_of_header(header), *_of_features(raw, header, path)]
    except PolygeneError as err:
        findings.append(Finding("header", "the file", str(err), "refused"))
    return Judged("FlatGeobuf", version, findings)


def _of_header(header: Header) -> Iterator[Finding]:
    names = [own.name for own in header.fields]
    if len(set(names)) < len(names):
        yield Finding("columns", "the header", "two fields have one name", "misread")
    odd = [own for own in header.fields if not 0 <= own.number <= 14]
    if odd:
        words = f"it is of type {odd[0].number}, none of 0 to 14"
        yield Finding("columns", f"field {odd[0].name}", words, "refused")
    if header.node_size == 1:
        yield Finding(
            "index_node_size", "the header", "it is 1; at least 2, or 0 for none", "refused"
        )
    if len(header.envelope) not in (0, 4):
        words = f"it has {len(header.envelope)} numbers, not four"
        yield Finding("envelope", "the header", words, "misread")


def _of_features(raw: U8Array, header: Header, path: Path) -> Iterator[Finding]:
    n_index = index.index_bytes(header.features, header.node_size)
    start = header.start + n_index
    if start > len(raw):
        yield Finding("index", "the file", "it ends within the index", "refused")
        return
    places, end = _walked(raw, start)
    if end != len(raw):
        words = f"byte {end:,}: the size of a feature leads beyond the end of the file"
        yield Finding("features", "the file", words, "refused")
    if header.features and header.features != len(places):
        words = f"it states {header.features:,} features, and there are {len(places):,}"
        yield Finding("features_count", "the header", words, "refused")
        return
    try:
        layers = flatgeobuf.read(path, path.stem).layers
    except PolygeneError:
        return  # `clauses.judged` tells of it
    if len(layers) != 1:
        if header.geometry_type != 0:
            words = "there is geometry of other kinds than the one it states"
            yield Finding("geometry_type", "the header", words, "misread")
        return
    column = layers[0].geometry
    if header.geometry_type and column.n_parts:
        stated = header.geometry_type
        if (stated - 1) % 3 != column.family or (column.is_multi and stated < 4):
            words = f"it states type {stated}, which the features are not"
            yield Finding("geometry_type", "the header", words, "misread")
    extent = column.extent()
    if len(header.envelope) == 4 and extent is not None:
        x0, y0, x1, y1 = header.envelope
        if extent[0] < x0 or extent[1] < y0 or extent[2] > x1 or extent[3] > y1:
            yield Finding("envelope", "the header", "there is geometry outside of it", "misread")
    if n_index:
        nodes = raw[header.start : start].view(index.NODE)
        yield from _of_index(nodes, header, places - start, column.row_bounds())


def _walked(raw: U8Array, start: int) -> tuple[I64Array, int]:
    """Return where each feature begins, by the size in front of each, and where the last one ends."""
    data, at, end = raw.tobytes(), start, len(raw)
    places = []
    while at + 4 <= end:
        size = int.from_bytes(data[at : at + 4], "little")
        if at + 4 + size > end:
            break
        places.append(at)
        at += 4 + size
    return np.array(places, np.int64), at


def _of_index(
    nodes: np.ndarray, header: Header, places: I64Array, bounds: np.ndarray
) -> Iterator[Finding]:
    leaves = nodes[len(nodes) - header.features :]
    order = np.argsort(leaves["offset"], kind="stable")
    if not np.array_equal(leaves["offset"][order].astype(np.int64), places):
        words = "its leaves do not lead to the beginnings of the features"
        yield Finding("index", "the index", words, "refused")
        return
    box = leaves["box"][order]
    has = np.isfinite(bounds).all(axis=1)
    with np.errstate(invalid="ignore"):
        is_in = (box[:, :2] <= bounds[:, :2]).all(axis=1) & (box[:, 2:] >= bounds[:, 2:]).all(
            axis=1
        )
    if (has & ~is_in).any():
        words = "their boxes do not hold the geometry"
        yield Finding("index", f"the index, {rows_of(has & ~is_in)}", words, "misread")
    sizes = index.level_sizes(header.features, header.node_size)[::-1]
    first = 0
    for size, below in zip(sizes, sizes[1:], strict=False):
        own = nodes[first : first + size]
        children = own["offset"].astype(np.int64)
        if (children < first + size).any() or (children >= first + size + below).any():
            yield Finding("index", "the index", "a node leads astray", "refused")
            return
        first += size
