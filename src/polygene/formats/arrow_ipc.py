"""Arrow IPC: a table as it is in memory, as a file or a stream (.arrows), with GeoArrow types.

A file is an .arrow, or a .feather of version 2. Columns keep their types, the CRS is there, and so is a
layer without features: for pipes as for files.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa

from polygene.arrow import table_of
from polygene.commit.together import replacing
from polygene.errors import FileError, reason_of
from polygene.formats.arrow_tables import layers_from
from polygene.formats.base import Reading, Written, only_one
from polygene.formats.columns import ADVICE, info_of, named
from polygene.formats.packed import PIPE
from polygene.info import LayerInfo
from polygene.layer import Layer

NAME = "Arrow"
ENDINGS = (".arrow", ".arrows", ".feather")
KEEPS_LINEAGE = True
HOLDS_MANY = False
HOLDS_TABLES = True
READS_PART = False
FILE, STREAM = b"ARROW1", b"\xff\xff\xff\xff"  # how each begins


def is_like(head: bytes) -> bool:
    """Whether a file begins as an IPC file or stream does."""
    return head.startswith((FILE, STREAM))


def layer_names(path: Path) -> list[str]:
    return [layer.name for layer in _read(path).layers]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers; the file is read for it."""
    return [info_of(layer) for layer in _read(path).layers]


def read(path: Path, name: str) -> Reading:
    """Read the layer of that name; all of them if it is the file's own name."""
    return named(_read(path), path, name)


def table_in(path: Path) -> tuple[pa.Table, bool]:
    """Return the table in a file, looked at whole, and whether it is a file rather than a stream.

    Raises
    ------
    OSError, EOFError, pyarrow.ArrowException
        If there is none, or it is damaged.
    """
    with pa.memory_map(str(path)) as source:
        is_file = source.read(len(FILE)) == FILE
        source.seek(0)
        opened = pa.ipc.open_file(source) if is_file else pa.ipc.open_stream(source)
        table = opened.read_all()
        table.validate(full=True)
    return table, is_file


def _read(path: Path) -> Reading:
    # Names are decoded when they are asked for, as in looking at the table whole.
    try:
        return layers_from(_table_read(path), path)
    except UnicodeDecodeError as err:
        raise FileError(f"{path}: a name in its schema is not UTF-8; {ADVICE}") from err


def _table_read(path: Path) -> pa.Table:
    try:
        return table_in(path)[0]
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, EOFError) as err:
        said = str(err).splitlines()[0] if str(err) else "it ends too soon"
        raise FileError(f"{path} is damaged or cut short: {said}; {ADVICE}") from err
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer, whole or not at all; ``-`` is standard output.

    Raises
    ------
    DataError
        If there are several.
    FileError
        If it cannot be written.
    """
    layer = only_one(path, layers, "an Arrow file")
    lineage = None if layer.lineage is None else {"lineage": layer.lineage.to_json()}
    if layer.is_table:
        table = layer.table.replace_schema_metadata(lineage)
    else:
        table = table_of(layer.geometry, layer.table, layer.crs, lineage)
    if str(path) == PIPE:
        with pa.ipc.new_stream(pa.PythonFile(sys.stdout.buffer, "w"), table.schema) as stream:
            stream.write_table(table)
        sys.stdout.buffer.flush()
        return Written([], [layer])
    opens = pa.ipc.new_stream if path.suffix.lower() == ".arrows" else pa.ipc.new_file
    with replacing(path) as temporary, opens(str(temporary), table.schema) as writer:
        writer.write_table(table)
    return Written([], [layer])
