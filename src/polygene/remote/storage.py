"""Files in storage that is no web server, as ``s3://`` or ``gs://``, by fsspec and a package for each.

Who may read is what that package finds in the environment. What came is kept as files of the web are.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator
from typing import Any

from polygene.clock import now
from polygene.errors import FileError
from polygene.remote import cache, http
from polygene.remote.cache import About, Kept
from polygene.remote.partial import FIRST, Partial, begun, kept_in_parts

_SCHEME = re.compile(r"([a-z][a-z0-9+]+)://", re.IGNORECASE)
SCHEMES = (
    "s3", "s3a", "gs", "gcs", "az", "abfs", "abfss", "adl", "oss", "oci", "hdfs", "webhdfs", "sftp",
    "ssh", "ftp", "smb", "webdav", "memory",
)  # fmt: skip


def is_storage(text: str) -> bool:
    """Whether an address is one of storage that is known."""
    found = _SCHEME.match(text)
    return found is not None and found[1].lower() in SCHEMES


def fetched(url: str, name: str) -> Kept:
    """Return a file as a local one, fetched only if it is not here as it is there.

    Raises
    ------
    FileError
        If it cannot be fetched, and none is kept.
    """
    own = cache.place_of(url)
    kept = None if cache.is_fresh() else cache.kept_in(own, name)
    try:
        with _told(url):
            files, path = _opened(url)
            validator, size = _state(files, path)
            if kept is not None and validator and kept.about.validator == validator:
                return kept
            new_about = About(http.shown(url), now(), validator, "", "", "")
            with cache.new_state(own, new_about) as new:
                files.get_file(path, str(new / name))
                if (new / name).stat().st_size != size or _state(files, path)[0] != validator:
                    raise FileError(f"{http.shown(url)} was changed while it was read; start again")
                new_about = cache.with_checksum(new_about, new / name)
                return cache.tell(new / name, new_about)
    except http.OfflineError as err:
        return cache.kept_offline(url, own, name, err)


def opened(url: str, name: str) -> tuple[Kept, Partial | None]:
    """Return a file as a local one with holes, which are filled from where it is.

    Raises
    ------
    FileError
        If it cannot be reached and none is kept.
    """
    try:
        with _told(url):
            files, path = _opened(url)
            validator, size = _state(files, path)
    except http.OfflineError:
        return fetched(url, name), None
    if not validator:
        return fetched(url, name), None

    def ranged(start: int, stop: int) -> bytes:
        with _told(url):
            found: bytes = files.cat_file(path, start=start, end=stop)
            if _state(files, path) != (validator, size):
                raise FileError(f"{http.shown(url)} was changed while it was read; start again")
        return found

    kept = kept_in_parts(url, name, size, validator)
    # Its beginning tells whether it is what its ending says.
    kept = kept or begun(url, name, size, validator, ranged(0, min(size, FIRST)))
    return kept, Partial(url, kept.place, size, validator, ranged)


def _opened(url: str) -> tuple[Any, str]:
    """Return the file system of an address, and the path in it."""
    try:
        import fsspec
    except ImportError as err:
        raise FileError(
            f"{http.shown(url)} needs the package fsspec: pip install 'polygene[storage]'"
        ) from err
    try:
        files, path = fsspec.core.url_to_fs(url)
    except (ImportError, ValueError) as err:
        raise FileError(f"{http.shown(url)} cannot be read here: {err}") from err
    return files, path


def _state(files: Any, path: str) -> tuple[str, int]:
    """Return what tells the states of a file apart, and its size."""
    files.invalidate_cache()
    about = files.info(path)
    if about.get("type") == "directory":
        raise IsADirectoryError("it is a folder")
    told = next(
        (about[key] for key in ("ETag", "etag", "md5Hash", "generation") if about.get(key)), ""
    )
    if not told:
        with contextlib.suppress(NotImplementedError):
            told = files.modified(path).isoformat()
    return str(told), int(about["size"])


@contextlib.contextmanager
def _told(url: str) -> Iterator[None]:
    """Turn the errors of a file system into ours: those of its package are of all kinds."""
    shown = http.shown(url)
    try:
        yield
    except FileError:
        raise
    except FileNotFoundError as err:
        raise FileError(f"{shown} is not there; look at the address") from err
    except PermissionError as err:
        raise FileError(
            f"{shown} does not let everybody in; say who asks in the environment, as its package has it"
        ) from err
    except IsADirectoryError as err:
        raise FileError(f"{shown} is a folder; give the address of a file in it") from err
    except Exception as err:
        words = (str(err).strip().splitlines() or [type(err).__name__])[0]
        if isinstance(err, (OSError, TimeoutError)) or "Connect" in type(err).__name__:
            raise http.OfflineError(f"{shown} cannot be reached: {words}") from err
        raise FileError(f"{shown} cannot be fetched: {words}") from err
