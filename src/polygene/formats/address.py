"""Layer addresses: ``file.gpkg#rivers``, ``file.gpkg#*``, ``folder/``, ``'pattern*.geojson'``."""

from __future__ import annotations

import fnmatch
import glob
import re
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from polygene.classes import NamedTuple
from polygene.commit.together import settle
from polygene.errors import (
    DataError,
    FileError,
    UnknownLayerError,
    did_you_mean,
    listed,
    nearest_first,
)
from polygene.formats import once, origins, packed
from polygene.formats.base import is_beside
from polygene.formats.endings import ENDINGS, LINEAGE, may_hold_layers
from polygene.formats.registry import readable_format

if TYPE_CHECKING:
    from pyproj import CRS

    from polygene.geometry import Family
    from polygene.info import LayerInfo

_WILD = "*?["
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]+://")
TABLES = (".xlsx", ".dbf")  # what holds no layers with geometry
TOGETHER = "+"  # for a fragment: all files as one layer


class LayerRef(NamedTuple):
    """One layer of one file; of mixed dimensions, only the family named if one is.

    Or one layer in several files: ``pieces`` are those, ``path`` the folder or pattern of them.
    """

    path: Path
    name: str
    family: Family | None = None
    pieces: tuple[LayerRef, ...] = ()

    @property
    def words(self) -> str:
        """The address that names it."""
        if self.pieces:
            return f"{self.path}#{TOGETHER}"
        return f"{packed.outermost(self.path)}#{self.name}"


def split(address: str) -> tuple[str, str | None]:
    """Split an address at the last ``#``, unless a file is called so."""
    if "#" not in address or Path(address).exists():
        return address, None
    path, _, fragment = address.rpartition("#")
    return path, fragment


def files_of(address: str) -> list[Path]:
    """Return the files that the path of an address stands for, in order of name.

    Raises
    ------
    FileError
        If there are none, with the likeliest name.
    """
    path, _ = split(address)
    if not path:  # of a variable that was not set, perhaps: not this folder
        raise FileError(f"{address!r} names no file; for all in this folder say ./")
    place = Path(path)
    if path == packed.PIPE:
        return [packed.standard_input()]
    if is_remote(path):
        return [_fetched(path)[0]]
    settle(place if place.is_dir() else place.parent, place)
    if is_one_layer(place):
        return [place]
    if place.is_dir():
        found = _without_parts(p for p in place.iterdir() if may_hold_layers(p))
        if not found:
            raise FileError(f"{place} holds no files of a known format ({listed(list(ENDINGS))})")
        return found
    if place.exists():
        return [place]
    if any(sign in path for sign in _WILD):
        for folder in {found.parent for found in _matching(path)}:
            settle(folder, folder)
        found = _matching(path)
        if not found:
            raise FileError(f"no file matches {path!r}")
        return found
    raise FileError(_missing(place))


def is_remote(path: str) -> bool:
    """Whether a path is an address of the web, or of other storage that is not here."""
    return _SCHEME.match(path) is not None


def _fetched(path: str) -> tuple[Path, str | None]:
    from polygene.formats import web_places  # with all that asking a server needs

    return once.made_once(("web", path), lambda: web_places.file_of(path))


def crs_over_the_web(ref: LayerRef) -> CRS | None:
    """Return the CRS of a layer of the web of which a part can be fetched; None for any other."""
    if ref.path.suffix == ".features":
        from polygene.remote import features

        found = features.described(ref.path).collections
        return next((own.crs for own in found if own.id == ref.name), None)
    if not origins.is_partial(ref.path):
        return None
    return next((info.crs for info in readable_format(ref.path).list_layers(ref.path)), None)


def info_of(ref: LayerRef) -> LayerInfo | None:
    """Describe the layer that an address stands for; None if its file does not tell of it."""
    source = readable_format(ref.path)
    describe = getattr(source, "describe", None)  # where others would cost something
    infos = source.list_layers(ref.path) if describe is None else describe(ref.path, ref.name)
    return next((info for info in infos if info.name == ref.name), next(iter(infos), None))


def is_one_layer(place: Path) -> bool:
    """Whether a folder is one layer, as ``big.parquet/`` is."""
    return place.suffix.lower() == ".parquet" and place.is_dir()


def _matching(pattern: str) -> list[Path]:
    found = map(Path, glob.glob(pattern, recursive=True))
    return _without_parts(p for p in found if p.is_file() and not p.name.endswith(LINEAGE))


def _without_parts(paths: Iterable[Path]) -> list[Path]:
    """Return files in order of name, without those that are part of another."""
    found = sorted(paths)
    names: dict[Path, set[str]] = {}
    for path in found:
        names.setdefault(path.parent, set()).add(path.name)
    return [p for p in found if not is_beside(p, names[p.parent])]


def _missing(place: Path) -> str:
    folder = place.parent
    within = next((p for p in place.parents if packed.is_packed(p) and p.is_file()), None)
    if within is not None:
        return f"what is in {within} is called like its layers: {within}#{place.stem}"
    if folder.is_file():
        return f"there is no file {place}; a layer in {folder.name} is named {folder}#LAYER"
    if not folder.is_dir():
        return f"there is no file {place}: there is no folder {folder}"
    names = [p.name for p in folder.iterdir() if may_hold_layers(p)]
    # As a layer in a file is named elsewhere.
    shorter = [n for n in names if re.match(rf"{re.escape(n)}[^\w.]", place.name)]
    if shorter:
        name = max(shorter, key=len)
        return f"there is no file {place}; a layer in {name} is named {folder / name}#LAYER"
    return f"there is no file {place}{did_you_mean(place.name, sorted(names))}"


def resolve(address: str) -> list[LayerRef]:
    """Return the layers that an address stands for, in the order of their files.

    Raises
    ------
    FileError, UnknownLayerError
        If a file or layer is not there.
    DataError
        If a single file of several layers is named without saying which.
    """
    named, fragment = split(address)
    if is_remote(named):
        file, own = _fetched(named)
        with packed.own_names():
            return _layers_in(file, fragment if fragment is not None else own, True)
    files = files_of(address)
    if fragment == TOGETHER:
        return [_together(address, files)]
    place = Path(split(address)[0])
    is_folder = place.is_dir() and not is_one_layer(place)
    if is_folder:  # workbooks and tables lie about in folders of layers; they are meant if named
        files = [f for f in files if f.suffix.lower() not in TABLES] or files
    is_one = len(files) == 1 and not is_folder
    refs: list[LayerRef] = []
    for path in files:
        try:
            with packed.own_names():
                refs += _layers_in(path, fragment, is_one)
        except (FileError, DataError):
            if is_one:
                raise
            refs.append(LayerRef(path, path.stem))  # it will say why when it is read
    if not refs:
        names = [ref.name for path in files for ref in _layers_in(path, "*", False)]
        raise UnknownLayerError(fragment or "*", address, names)
    return refs


def _together(address: str, files: list[Path]) -> LayerRef:
    """Return the one layer that several files make up, called like their folder or pattern."""
    place = Path(split(address)[0])
    with packed.own_names():
        pieces = tuple(ref for path in files for ref in _layers_in(path, "*", False))
    plain = "".join(c for c in place.stem if c not in "*?[]").strip("_-. ")
    name = plain or place.resolve().parent.name
    return LayerRef(place, name, None, pieces)


def members(path: Path) -> list[Path]:
    """Return the files that hold the layers of one: itself, or those packed in it."""
    return packed.members(path) if packed.is_packed(path) else [path]


def _layers_in(path: Path, fragment: str | None, is_one: bool) -> list[LayerRef]:
    if packed.is_packed(path):
        inside = members(path)
        if len(inside) == 1:
            return _layers_in(inside[0], fragment, is_one)
        wanted = "*" if fragment is None else fragment
        found = [ref for file in inside for ref in _layers_in(file, wanted, False)]
        if is_one and (fragment is None or not found):
            names = [ref.name for file in inside for ref in _layers_in(file, "*", False)]
            if fragment is None:
                raise _several(packed.outermost(path), names)
            raise UnknownLayerError(fragment, str(path), nearest_first(fragment, names))
        return found
    source = readable_format(path)
    if not source.HOLDS_MANY and fragment in (None, "*"):
        return [LayerRef(path, path.stem)]
    names = source.layer_names(path)
    if fragment is None:
        tables: list[str] = getattr(source, "table_names", lambda _: [])(path)
        if is_one:  # what stands beside the only layer needs no asking
            names = [name for name in names if name not in tables] or names
        if is_one and len(names) > 1:
            raise _several(packed.outermost(path), names)
        if is_one and not names:
            raise DataError(f"{path} holds no layer")
        return [LayerRef(path, name) for name in names]
    if fragment in names:
        return [LayerRef(path, fragment)]
    if any(sign in fragment for sign in _WILD):
        return [LayerRef(path, n) for n in names if fnmatch.fnmatchcase(n, fragment)]
    own = _of_one_family(path, fragment, names)
    if own is not None:
        return [own]
    if is_one:
        raise UnknownLayerError(fragment, str(path), nearest_first(fragment, names))
    return []


def _of_one_family(path: Path, fragment: str, names: list[str]) -> LayerRef | None:
    """Return what ``rivers_lines`` stands for: of a layer ``rivers`` of mixed dimensions, one part."""
    from polygene.geometry import Family  # with NumPy, for which the shell need not wait

    for family in Family:
        base = fragment.removesuffix(f"_{family.words}")
        if base != fragment and base in names:
            return LayerRef(path, base, family)
    return None


def _several(path: str, names: list[str]) -> DataError:
    return DataError(
        f"{path} holds {len(names)} layers; say which: {path}#{names[0]}, or #* for all\n"
        f"  its layers: {listed(names)}"
    )
