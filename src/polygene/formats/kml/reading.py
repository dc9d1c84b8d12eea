"""Reading KML: each folder that has placemarks of its own is a layer."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from polygene import crs as crs_module
from polygene.arrays import I64Array
from polygene.classes import NamedTuple
from polygene.errors import UnknownLayerError
from polygene.formats import once
from polygene.formats.base import Reading, collecting_no_garbage
from polygene.formats.columns import info_of, layers_of
from polygene.formats.kml import fields, shapes
from polygene.formats.markup import parsing
from polygene.formats.markup.parsing import get_parent, get_tag, local
from polygene.geometry import Family, GeometryColumn
from polygene.info import LayerInfo
from polygene.layer import distinct_name
from polygene.notes import Warned, counted
from polygene.text.assemble import columns_of

# What is no placemark, and not read: what it shows has another place, or is a picture.
_UNREAD = {
    "NetworkLink": "link",
    "GroundOverlay": "overlay",
    "ScreenOverlay": "overlay",
    "PhotoOverlay": "photograph",
}


class _Document(NamedTuple):
    """What a file holds.

    folders : the elements that have placemarks, by the names of their layers
    folder_of : (n,) the number of the folder of each placemark
    """

    root: Any
    folders: dict[str, Any]
    folder_of: I64Array


def _document(path: Path) -> _Document:
    """Return what is in a file, looked through once a run."""
    root = parsing.root_of(path, "KML", ("kml", "Document", "Folder", "Placemark"))
    return once.made_once(("kml", str(path), id(root)), lambda: _looked_through(root, path))


def _looked_through(root: Any, path: Path) -> _Document:
    placemarks = list(root.iter("{*}Placemark"))
    parents = list(map(get_parent, placemarks))
    places = {parent: k for k, parent in enumerate(dict.fromkeys(parents))}
    folder_of = np.fromiter(map(places.__getitem__, parents), np.int64, len(parents))
    folders: dict[str, Any] = {}
    for parent in places:
        own = None if parent is None else parent.findtext("{*}name")
        name = (own or "").strip() or path.stem
        folders[distinct_name(name, folders)] = parent
    if not folders:  # one that was written of no features has an empty folder
        for folder in root.iter("{*}Folder"):
            name = (folder.findtext("{*}name") or "").strip()
            if name and next(folder.iter("{*}Folder", "{*}NetworkLink"), folder) is folder:
                folders[distinct_name(name, folders)] = folder
    return _Document(root, folders, folder_of)


@collecting_no_garbage()
def layer_names(path: Path) -> list[str]:
    """Return the names of the layers, in the order of the file."""
    return list(_document(path).folders)


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers; the file is read for it."""
    return [info for name in layer_names(path) for info in describe(path, name)]


def describe(path: Path, name: str) -> list[LayerInfo]:
    """Describe one layer; of several dimensions each."""
    return [info_of(layer) for layer in read(path, name).layers]


@collecting_no_garbage()
def read(path: Path, name: str) -> Reading:
    """Read a layer; several come back if its geometry has several dimensions.

    Raises
    ------
    UnknownLayerError, FileError, GeometryError
    """
    document = _document(path)
    if name not in document.folders:
        raise UnknownLayerError(name, str(path), list(document.folders))
    own = list(document.folders).index(name)
    rows = np.flatnonzero(document.folder_of == own)
    notes: list[str] = []
    found = once.made_once(
        ("kml shapes", str(path), id(document.root)), lambda: shapes.found_in(document.root, path)
    )
    chosen = shapes.of_rows(found, rows)
    if chosen.n_models:
        what = counted(chosen.n_models, "model")
        notes.append(Warned(f"{name}: {what} in three dimensions left out"))
    geometries = columns_of(chosen.parts, len(rows), chosen.is_null, chosen.is_multi, Family.POINTS)
    geometries = [one._replace(geometry=_without_zeros(one.geometry)) for one in geometries]
    table = fields.table_of(document.root, rows, len(document.folder_of), name, notes)
    crs = crs_module.parse(crs_module.LONGITUDE_LATITUDE)
    notes += _unread(document.folders[name], name)
    return layers_of(path, geometries, table, crs, None, notes, name)


def _without_zeros(column: GeometryColumn) -> GeometryColumn:
    """Return a column without heights if all are 0, as is written where heights do not count."""
    is_flat = column.z is not None and not np.nan_to_num(column.z).any()
    return replace(column, z=None) if is_flat else column


def _unread(folder: Any, name: str) -> list[str]:
    if folder is None:
        return []
    tags = [local(tag) for tag in map(get_tag, folder)]
    counts = Counter(_UNREAD[tag] for tag in tags if tag in _UNREAD)
    found = [counted(n, words) for words, n in counts.items()]
    return [Warned(f"{name}: left out: {', '.join(found)}")] if found else []
