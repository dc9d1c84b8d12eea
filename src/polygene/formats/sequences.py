"""GeoJSON text sequences (RFC 8142) and newline-delimited GeoJSON: a feature a line."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, Any

import orjson

from polygene import kernels
from polygene.commit.together import replacing
from polygene.errors import FileError, PolygeneError, reason_of
from polygene.formats.base import Reading, Written, collecting_no_garbage
from polygene.formats.columns import ADVICE, info_of, named
from polygene.formats.geojson import reading, writing
from polygene.formats.geojson.lifting import lift
from polygene.info import LayerInfo
from polygene.layer import Layer
from polygene.text.lifted import OddError

NAME = "GeoJSON sequence"
ENDINGS = (".geojsons", ".geojsonl", ".ndjson")
KEEPS_LINEAGE = False
HOLDS_MANY = False
HOLDS_TABLES = False
READS_PART = False
MAY_BE_EMPTY = True  # a sequence of no texts (RFC 8142, section 2.1)
MARK = b"\x1e"  # RFC 8142: in front of each text


def is_like(head: bytes) -> bool:
    """Whether a file begins with a record mark or a JSON object."""
    return head.lstrip(b"\xef\xbb\xbf \t\r\n\x1e").startswith(b"{") and b"\0" not in head


def layer_names(path: Path) -> list[str]:
    return [layer.name for layer in _read(path).layers]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers; the file is read for it."""
    return [info_of(layer) for layer in _read(path).layers]


def read(path: Path, name: str) -> Reading:
    """Read the layer of that name; all of them if it is the file's own name."""
    return named(_read(path), path, name)


@collecting_no_garbage()
def _read(path: Path) -> Reading:
    try:
        data = path.read_bytes().removeprefix(b"\xef\xbb\xbf")
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    emptied = lift(data) if kernels.IS_COMPILED else None
    # A list of coordinates over several lines would make one line of them, and of two halves a whole.
    if emptied is not None and _n_lines(bytes(emptied.rest)) == _n_lines(data):
        # What is odd the other way takes, or says what is wrong with it.
        with contextlib.suppress(OddError, PolygeneError):
            features = _features(path, bytes(emptied.rest))
            return reading.taken(features, {}, path, emptied.lists)
    return reading.taken(_features(path, data), {}, path, None)


def _n_lines(data: bytes) -> tuple[int, int]:
    return data.count(b"\n"), data.count(b"\r")


def _features(path: Path, data: bytes) -> list[dict[str, Any]]:
    texts = data.split(MARK) if MARK in data[:64] else data.splitlines()
    features: list[dict[str, Any]] = []
    for line, text in enumerate(texts, 1):
        text = text.strip()
        if not text:
            continue
        try:
            document = orjson.loads(text)
        except orjson.JSONDecodeError as err:
            if not features and reading.is_document(data):
                raise FileError(
                    f"{path} is one text of JSON over several lines, and no sequence; give it the "
                    "ending .geojson"
                ) from err
            raise FileError(f"{path}, line {line}: it is not valid JSON; {ADVICE}") from err
        if not isinstance(document, dict) or "type" not in document:
            raise FileError(f"{path}, line {line}: it is JSON but not GeoJSON; {ADVICE}")
        own = reading.features_of(document, path)
        if own[:1] != [document] and "crs" in document:  # of a collection, or of a geometry alone
            own = [{**feature, "crs": document["crs"]} for feature in own]
        features += own
    return features


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer, with record marks if the ending is .geojsons; ``-`` is standard output.

    Raises
    ------
    DataError
        If there are several layers, or it has no CRS.
    FileError
        If it cannot be written.
    """
    written, chunks = writing.chunks_of(path, layers)
    mark = MARK if path.suffix.lower() == ".geojsons" else b""
    with _opened(path) as file, collecting_no_garbage():
        for features in chunks:
            file.write(b"".join(mark + feature + b"\n" for feature in features))
    return written


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[IO[bytes]]:
    if str(path) == "-":
        yield sys.stdout.buffer
        sys.stdout.buffer.flush()
        return
    with replacing(path) as temporary, temporary.open("wb") as file:
        yield file
