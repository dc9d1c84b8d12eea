"""Reading shapefiles: several files that are one layer."""

from __future__ import annotations

import functools
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import crs as crs_module
from polygene import proj
from polygene.errors import DataError, FileError, reason_of
from polygene.formats import codepages, definitions
from polygene.formats.base import Reading
from polygene.formats.columns import ADVICE, info_of, layers_of, named
from polygene.formats.shapefile import dbase, shapes
from polygene.geometry import GeometryColumn
from polygene.info import LayerInfo
from polygene.notes import Warned, counted
from polygene.text.assemble import OfFamily


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layer; the file is read for it."""
    return [info_of(layer) for layer in read(path, path.stem).layers]


def read(path: Path, name: str) -> Reading:
    """Read the layer; without a .dbf there are no fields, without a .prj no CRS, and that is said.

    Features whose record is marked as deleted are left out.
    """
    notes: list[str] = []
    try:
        column = shapes.read(np.fromfile(path, np.uint8), _bytes(path, ".shx"), path)
        column, table = _with_attributes(column, path, notes)
        crs = _crs(path, notes)
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    reading = layers_of(
        path=path,
        geometries=[OfFamily(np.arange(column.n_rows), column)],
        table=table,
        crs=crs,
        ids=None,
        notes=notes,
    )
    return named(reading, path, name)


def _sibling(path: Path, ending: str) -> Path | None:
    """Return the file beside the .shp with some ending, in whatever case."""
    for candidate in (path.with_suffix(ending), path.with_suffix(ending.upper())):
        if candidate.exists():
            return candidate
    return None


def _bytes(path: Path, ending: str) -> bytes | None:
    place = _sibling(path, ending)
    return None if place is None else place.read_bytes()


def _with_attributes(
    column: GeometryColumn, path: Path, notes: list[str]
) -> tuple[GeometryColumn, pa.Table]:
    """Return the geometry of the features that are not deleted, and their attributes."""
    data = _bytes(path, ".dbf")
    if data is None:
        notes.append(Warned(f"{path.name} has no .dbf beside it, so no fields"))
        return column, pa.table({})
    beside = codepages.of_file(_sibling(path, ".cpg"))
    try:
        found = dbase.read(data, path.with_suffix(".dbf").name, beside, notes)
    except FileError as err:
        raise FileError(f"{path}: {err}; {ADVICE}") from err
    n_rows, n_records = column.n_rows, len(found.is_deleted)
    rows, records = np.arange(n_rows), np.arange(n_rows)
    is_deleted = np.zeros(n_rows, bool)
    both = min(n_rows, n_records)
    is_deleted[:both] = found.is_deleted[:both]
    if n_records != n_rows:
        notes.append(
            Warned(
                f"{path.name}: {n_rows:,} geometries and {n_records:,} records; what has no geometry "
                "is left out, what has no record has nulls"
            )
        )
    if is_deleted.any():
        n = counted(int(is_deleted.sum()), "feature")
        notes.append(Warned(f"{path.name}: {n} marked as deleted in its table left out"))
        rows, records = rows[~is_deleted], records[~is_deleted]
        column = column.take(rows)
    table = found.columns
    if table.num_columns:
        table = pc.take(table, pc.with_nulls(records, records >= n_records))
    return column, table


def _crs(path: Path, notes: list[str]) -> proj.CRS | None:
    prj = _sibling(path, ".prj")
    if prj is None:
        notes.append(Warned(f"{path.name} has no .prj beside it, so no CRS"))
        return None
    text = prj.read_text(encoding="utf-8-sig", errors="replace").strip("\0 \t\r\n")
    if not text:
        notes.append(Warned(f"{path.name} has a .prj beside it that is empty, so no CRS"))
        return None
    found = _known(text)
    if found is None:
        short = text if len(text) <= 40 else text[:37] + "..."
        words = f"its .prj says no CRS that is known here, {short!r}; read without one"
        notes.append(Warned(f"{path.name}: {words}"))
    return found


@functools.lru_cache(maxsize=64)
def _known(text: str) -> proj.CRS | None:
    """Return the CRS of a .prj, the one of the registry where it is that; None if it is none.

    Kept too where it is none: PROJ looks for it among all names, which takes half a second.
    """
    if (coded := definitions.coded_in_prj(text)) is not None:
        return coded
    try:
        found = crs_module.parse(text)
    except DataError:
        return None
    known = found.to_epsg(min_confidence=definitions.SURE_PRJ)
    return proj.CRS.from_epsg(known) if known else found
