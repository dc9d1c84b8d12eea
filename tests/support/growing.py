"""A work at once and in tasks, compared byte for byte."""

from __future__ import annotations

import contextlib
import dataclasses
import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from polygene.formats.address import LayerRef
from polygene.formats.destination import Target, write_all
from polygene.formats.parquet_parts import order
from polygene.formats.registry import FolderPath
from polygene.growing.calls import Call
from polygene.growing.running import Grounds, Whole, run
from polygene.layer import Layer
from polygene.progress import SILENT
from polygene.reading import Choice


@contextlib.contextmanager
def small_groups(n_bytes: int = 300) -> Iterator[None]:
    """Let groups of rows be so small that there are many in little data."""
    with mock.patch.object(order, "GROUP_BYTES", n_bytes):
        yield


def put(folder: Path, layer: Layer, n_bytes: int = 300) -> LayerRef:
    """Write a layer as a folder of small groups of rows, to be cut into many tasks."""
    place = FolderPath(folder / f"{layer.name}.parquet")
    with small_groups(n_bytes):
        write_all([(Target(place, layer.name), replace(layer, lineage=None))])
    return LayerRef(place, layer.name)


def sums(folder: Path) -> list[str]:
    """Return the checksums of the parts of a folder."""
    return [
        hashlib.sha256(file.read_bytes()).hexdigest() for file in sorted(folder.glob("p*.parquet"))
    ]


def call_of(command: str, **arguments: Any) -> Call:
    """Return an operation with its arguments as commands give it."""
    tells = command not in ("measure", "hull", "parts", "fields", "reproject", "copied")
    as_ = "other" if command == "subset" else ""
    return Call(command, f"polygene.ops.{command}", command, arguments, tells, as_)


def in_tasks(call: Call, refs: Sequence[LayerRef], folder: Path, grounds: Grounds) -> Whole:
    return run(call, refs, [Choice()] * len(refs), folder / ".work", grounds, SILENT)


def differences(one: Any, other: Any, at: str = "") -> list[str]:
    """Return where two summaries differ, numbers by more than adding them up in another order does."""
    if dataclasses.is_dataclass(one):
        names = [f.name for f in dataclasses.fields(one) if f.name != "difference"]
        return [
            d for n in names for d in differences(getattr(one, n), getattr(other, n), f"{at}.{n}")
        ]
    if isinstance(one, dict) and isinstance(other, dict) and one.keys() == other.keys():
        names = [n for n in one if n != "difference"]
        return [d for n in names for d in differences(one[n], other[n], f"{at}.{n}")]
    if isinstance(one, float) and isinstance(other, float):
        near = abs(one - other) <= 1e-6 + 1e-9 * abs(one)
        return [] if near else [f"{at}: {one} and {other}"]
    if isinstance(one, list) and isinstance(other, list) and len(one) == len(other):
        pairs = enumerate(zip(one, other, strict=True))
        return [d for k, (a, b) in pairs for d in differences(a, b, f"{at}[{k}]")]
    return [] if one == other else [f"{at}: {one} and {other}"]
