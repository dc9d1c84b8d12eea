"""Which module reads and writes a file, by its ending and its first bytes."""

from __future__ import annotations

import contextlib
import importlib
import os
from collections.abc import Iterator
from contextvars import ContextVar
from pathlib import Path
from typing import cast

from polygene.commit.together import settle
from polygene.errors import FileError, listed, reason_of
from polygene.formats import wide_texts
from polygene.formats.base import Format
from polygene.formats.endings import ENDINGS, KMZ, MODULES, PACKED

PIPED = {"geojson": "sequences", "arrow": "arrow_ipc"}  # what standard output may be
_piped: ContextVar[str] = ContextVar("polygene_piped", default="geojson")


@contextlib.contextmanager
def piped_as(kind: str) -> Iterator[None]:
    """Write to standard output in this form while it lasts: one of `PIPED`."""
    token = _piped.set(kind)
    try:
        yield
    finally:
        _piped.reset(token)


class FolderPath(type(Path())):  # type: ignore[misc]
    """A path that was written with a slash at its end: it is to be a folder."""


def is_meant_as_folder(path: Path) -> bool:
    """Whether a path is to be a folder that holds one layer."""
    return isinstance(path, FolderPath) and path.suffix.lower() == ".parquet"


def format_of(path: Path) -> Format:
    """Return the format that a file's ending stands for.

    Raises
    ------
    FileError
        If the ending is none that is known.
    """
    module = MODULES.get(path.suffix.lower()) if str(path) != "-" else PIPED[_piped.get()]
    if module == "geoparquet" and (is_meant_as_folder(path) or path.is_dir()):
        module = "parquet_parts"
    if path.suffix == ".features":  # the description of a service, which nobody names so
        module = "web_features"
    if path.suffix.lower() in PACKED:
        stem = f"{path.stem}.kml" if path.suffix.lower() == KMZ else path.stem
        own = stem if Path(stem).suffix.lower() in ENDINGS else "a .gpkg or .geojson"
        raise FileError(f"{path}: what is packed is only read here; write {own} and pack that")
    if module is None:
        ending = f"ending {path.suffix!r} is not known" if path.suffix else "it has no ending"
        raise FileError(
            f"{path}: {ending}, so the format is unclear; known are {listed(list(ENDINGS))}"
        )
    return cast(Format, importlib.import_module(f"polygene.formats.{module}"))


def readable_format(path: Path) -> Format:
    """Return the format of an existing file after a look at its first bytes.

    Raises
    ------
    FileError
        If the file cannot be read, is empty, or is not what its ending says.
    """
    chosen = format_of(path)
    if path.is_dir():
        return chosen
    settle(Path(os.path.realpath(path)).parent, path)  # where a link leads
    try:
        with path.open("rb") as file:
            head = file.read(64)
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    if not head and not getattr(chosen, "MAY_BE_EMPTY", False):
        raise FileError(f"{path} is empty: it holds not a single byte")
    if not head or chosen.is_like(head):
        return chosen
    if wide_texts.begins_wide(head):
        raise FileError(f"{path} is text in UTF-16, which {chosen.NAME} is not; write it as UTF-8")
    for ending in ENDINGS:
        other = format_of(Path(f"x{ending}"))
        if getattr(other, "is_plainly", other.is_like)(head):
            raise FileError(
                f"{path} is no {chosen.NAME}, whatever its ending says: it looks like "
                f"{other.NAME}; give it the ending {ending}"
            )
    raise FileError(
        f"{path} is no {chosen.NAME}, whatever its ending says; its beginning is {head[:12]!r}"
    )
