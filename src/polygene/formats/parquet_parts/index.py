"""The index of a folder of GeoParquet: which parts there are, and where the features of each lie.

``_parts.json`` says so for every group of rows, so that work on a layer of any size is planned without
reading it. Readers of folders pass over what begins with an underscore. A folder of others has none:
then the same is told by the statistics in the files, or by a look at all rows.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from polygene.arrays import F64Array, I64Array, offsets_from
from polygene.classes import dataclass
from polygene.errors import FileError, listed, reason_of
from polygene.geometry import Extent, extent_of

NAME = "_parts.json"
SHAPE = 1  # of the file; a larger number where a program that reads it must change
ENDING = ".parquet"


@dataclass(frozen=True)
class PartFacts:
    """One file of a folder.

    checksum : SHA-256 of the file
    rows, vertices : (n_groups,) of its groups of rows
    boxes : (n_groups, 4) x, y minimum and maximum, NaN for a group without geometry
    """

    file: str
    size: int
    checksum: str
    rows: I64Array
    vertices: I64Array
    boxes: F64Array

    @property
    def n_rows(self) -> int:
        return int(self.rows.sum())

    def to_json(self) -> dict[str, Any]:
        groups = [
            [n, v, *(None if np.isnan(b) else b for b in box)]
            for n, v, box in zip(
                self.rows.tolist(), self.vertices.tolist(), self.boxes.tolist(), strict=True
            )
        ]
        extent = extent_of_boxes(self.boxes)
        return {
            "file": self.file,
            "rows": self.n_rows,
            "bytes": self.size,
            "sha256": self.checksum,
            "extent": None if extent is None else list(extent),
            "groups": groups,
        }

    @staticmethod
    def of_json(found: dict[str, Any]) -> PartFacts:
        groups = found["groups"]
        boxes = np.array([g[2:6] for g in groups], np.float64).reshape(-1, 4)
        return PartFacts(
            str(found["file"]),
            int(found["bytes"]),
            str(found["sha256"]),
            np.array([g[0] for g in groups], np.int64),
            np.array([g[1] for g in groups], np.int64),
            boxes,
        )


@dataclass(frozen=True)
class Index:
    """All parts of a folder, in their order; what is true of the whole layer.

    is_multi : whether any feature has several parts; heights : ``""``, ``"Z"``, ``"M"`` or ``"ZM"``
    lineage : how the layer came about, as JSON
    """

    parts: Sequence[PartFacts]
    family: str
    is_multi: bool = False
    heights: str = ""
    lineage: str = ""

    @property
    def n_rows(self) -> int:
        return sum(part.n_rows for part in self.parts)

    @property
    def extent(self) -> Extent | None:
        boxes = [part.boxes for part in self.parts]
        return extent_of_boxes(np.concatenate(boxes)) if boxes else None

    @property
    def n_vertices(self) -> int:
        return sum(int(part.vertices.sum()) for part in self.parts)

    def checksum(self) -> str:
        """Return one checksum of all parts."""
        told = "".join(f"{part.file} {part.checksum}\n" for part in self.parts)
        return hashlib.sha256(told.encode()).hexdigest()

    def to_json(self) -> bytes:
        extent = self.extent
        return orjson.dumps(
            {
                "polygene": SHAPE,
                "rows": self.n_rows,
                "vertices": self.n_vertices,
                "extent": None if extent is None else list(extent),
                "geometry": self.family,
                "multi": self.is_multi,
                "heights": self.heights,
                "parts": [part.to_json() for part in self.parts],
                "lineage": orjson.loads(self.lineage) if self.lineage else None,
            }
        )


@dataclass(frozen=True)
class Groups:
    """The groups of rows of all parts side by side.

    part, number : (n,) the part of each, and which of its groups it is
    first : (n + 1,) the first row of each within the layer
    """

    part: I64Array
    number: I64Array
    first: I64Array
    vertices: I64Array
    boxes: F64Array

    @staticmethod
    def of(index: Index) -> Groups:
        counts = [len(part.rows) for part in index.parts]
        nothing = np.zeros(0, np.int64)
        rows = np.concatenate([nothing, *(part.rows for part in index.parts)])
        return Groups(
            np.repeat(np.arange(len(counts)), counts),
            np.concatenate([nothing, *(np.arange(n) for n in counts)]),
            offsets_from(rows),
            np.concatenate([nothing, *(part.vertices for part in index.parts)]),
            np.concatenate([np.zeros((0, 4)), *(part.boxes for part in index.parts)]),
        )


def extent_of_boxes(boxes: F64Array) -> Extent | None:
    """Return the extent of boxes, of which those without anything are NaN."""
    has = ~np.isnan(boxes[:, 0])
    return extent_of(boxes[has]) if has.any() else None


def files_in(folder: Path) -> list[Path]:
    """Return the Parquet files of a folder, in order of name.

    Raises
    ------
    FileError
        If it cannot be looked into, or is parted by folders of values.
    """
    try:
        found = sorted(folder.iterdir())
    except OSError as err:
        raise FileError(f"cannot read {folder}: {reason_of(err)}") from err
    by_value = [p.name for p in found if p.is_dir() and "=" in p.name]
    if by_value:
        raise FileError(
            f"{folder} is parted by folders of values ({listed(by_value[:3])}), whose fields its files "
            "lack; write it anew with the fields inside"
        )
    own = [p for p in found if p.is_file() and p.suffix.lower() == ENDING]
    return [p for p in own if not p.name.startswith((".", "_"))]


def read_index(folder: Path) -> Index | None:
    """Return the index of a folder, None if it has none, after a look at which files there are.

    Raises
    ------
    FileError
        If it cannot be read, or the files are not those that it names.
    """
    place = folder / NAME
    try:
        text = place.read_bytes()
    except FileNotFoundError:
        return None
    except OSError as err:
        raise FileError(f"cannot read {place}: {reason_of(err)}") from err
    try:
        found = orjson.loads(text)
        if found["polygene"] > SHAPE:
            raise FileError(f"{place} was written by a later version of polygene than this")
        index = Index(
            [PartFacts.of_json(part) for part in found["parts"]],
            str(found["geometry"]),
            bool(found["multi"]),
            str(found["heights"]),
            orjson.dumps(found["lineage"]).decode() if found.get("lineage") else "",
        )
    except (orjson.JSONDecodeError, KeyError, TypeError, ValueError, IndexError) as err:
        raise FileError(
            f"{place} is no index of parts; remove it, and the files are read without"
        ) from err
    _check_files(folder, index)
    return index


def _check_files(folder: Path, index: Index) -> None:
    named = {part.file: part for part in index.parts}
    there = {path.name: path for path in files_in(folder)}
    missing = [name for name in named if name not in there]
    if missing:
        raise FileError(
            f"{folder}: {len(missing):,} of its {len(named):,} parts are missing, {missing[0]} first; "
            f"take the layer from its source again, or remove {NAME} to read what is there"
        )
    strange = [name for name in there if name not in named]
    if strange:
        raise FileError(
            f"{folder}: {listed(strange[:3])} is none of the parts that {NAME} names; remove it, or "
            f"{NAME} to read all that is there"
        )
    for name, part in named.items():
        size = there[name].stat().st_size
        if size != part.size:
            raise FileError(
                f"{folder / name} has {size:,} bytes and not the {part.size:,} that {NAME} says: it "
                f"was cut short or changed; remove {NAME} to read what is there"
            )
