"""Addresses of the web as local files: fetched whole, in parts, or as the description of a service."""

from __future__ import annotations

from pathlib import Path, PurePosixPath
from urllib.parse import unquote, urlsplit, urlunsplit

from polygene.errors import FileError, listed
from polygene.formats import origins, packed
from polygene.formats.endings import ENDINGS, PACKED
from polygene.formats.file_names import file_name
from polygene.formats.origins import Origin
from polygene.formats.web_features import ENDING
from polygene.remote import cache, features, http, partial, storage
from polygene.remote.cache import Kept

IN_PARTS = (".fgb", ".parquet")
_COLLECTIONS = "/collections/"


def file_of(url: str) -> tuple[Path, str | None]:
    """Return the local file for an address of the web, and the layer that the address is of by itself.

    Raises
    ------
    FileError
        If it cannot be fetched.
    """
    if not (http.is_remote(url) or storage.is_storage(url)):
        known = listed([*http.SCHEMES, *(f"{scheme}://" for scheme in storage.SCHEMES)], 8)
        raise FileError(f"{http.shown(url)}: what it begins with is not known; there are {known}")
    parts = urlsplit(url)
    name = PurePosixPath(unquote(parts.path)).name
    ending = Path(name).suffix.lower()
    if ending in ENDINGS or ending in PACKED:
        return _file(url, file_name(Path(name).stem) + ending), None
    if storage.is_storage(url):
        raise FileError(
            f"{http.shown(url)}: its ending does not tell a format; known are {listed(list(ENDINGS))}"
        )
    base, collection = url, None
    if _COLLECTIONS in parts.path:
        before, _, after = parts.path.rpartition(_COLLECTIONS)
        base = urlunsplit(parts._replace(path=before))
        collection = unquote(after.split("/")[0]) or None
    service = features.service_at(base)
    host = file_name(parts.hostname or "service")
    place = features.descriptor(service, cache.place_of(f"service {base}") / f"{host}{ENDING}")
    packed.stands_for(place, http.shown(base))
    return place, collection


def _file(url: str, name: str) -> Path:
    fill = None
    is_storage = storage.is_storage(url)
    if Path(name).suffix.lower() in IN_PARTS:
        kept, own = (storage if is_storage else partial).opened(url, name)
        fill = None if own is None else own.fill
    else:
        kept = (storage if is_storage else cache).fetched(url, name)
    _note(url, kept, fill)
    return kept.place


def _note(url: str, kept: Kept, fill: origins.Fill | None) -> None:
    about = kept.about
    packed.stands_for(kept.place, http.shown(url))
    origin = Origin(about.url, about.retrieved, about.validator, about.checksum, fill=fill)
    origins.note(kept.place, origin)
