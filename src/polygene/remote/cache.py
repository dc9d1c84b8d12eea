"""What was fetched, kept in a folder: asked for again, it is only looked whether it has changed.

One folder for each address, by its hash: ``body`` and ``about.json`` with the address, when it came,
and what the server tells its states by (ETag, Last-Modified: RFC 9110, sections 8.8 and 13). Without
a connection what is kept is used, and that is said.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import tempfile
from collections.abc import Iterator, Mapping
from contextvars import ContextVar
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import orjson

from polygene.clock import now
from polygene.errors import FileError, reason_of
from polygene.remote import http
from polygene.written import remark

_said: set[str] = set()
MOST = 2_000_000_000  # bytes of all that is kept, if the settings say nothing
SHAPE = 2


@dataclass(frozen=True)
class _Ways:
    is_fresh: bool = False
    most: int = MOST


_ways: ContextVar[_Ways | None] = ContextVar("polygene_cache", default=None)


@contextlib.contextmanager
def fetching_so(is_fresh: bool, most: int | None = None) -> Iterator[None]:
    """Say whether what is kept is fetched anew while this lasts, and how much is kept at most."""
    token = _ways.set(_Ways(is_fresh, MOST if most is None else most))
    try:
        yield
    finally:
        _ways.reset(token)


@dataclass(frozen=True)
class About:
    """What is known of something kept.

    url : as messages may show it; etag, modified : its validators, empty if there are none
    checksum : SHA-256 of the body; kind : its media type; crs : what a header says of its coordinates
    place : where it was found, if the address led elsewhere; relative links in it start there
    """

    url: str
    retrieved: str
    etag: str
    modified: str
    checksum: str
    kind: str
    crs: str = ""
    place: str = ""

    @property
    def validator(self) -> str:
        return self.etag or self.modified


@dataclass(frozen=True)
class Kept:
    """Something that was fetched: where it is, and whether the server said so just now."""

    place: Path
    about: About
    is_offline: bool = False


def folder() -> Path:
    """Return the folder of what is kept (XDG Base Directory Specification)."""
    base = os.environ.get("XDG_CACHE_HOME") or os.path.join(os.path.expanduser("~"), ".cache")
    return Path(base) / "polygene" / "web"


def place_of(url: str) -> Path:
    """Return the folder for one address."""
    return folder() / hashlib.sha256(url.encode()).hexdigest()[:32]


def fetched(url: str, name: str = "body", headers: Mapping[str, str] | None = None) -> Kept:
    """Return a document of the web as a local file, fetched only if it is not here as it is there.

    ``name`` is what the file is called.

    Raises
    ------
    FileError
        If it cannot be fetched, and none is kept.
    """
    own = place_of(url)
    about = None if is_fresh() else about_in(own, name)
    asked = dict(headers or {})
    if about is not None and about.etag:
        asked["If-None-Match"] = about.etag
    elif about is not None and about.modified:
        asked["If-Modified-Since"] = about.modified
    try:
        with http.streamed(url, asked) as (answer, blocks):
            if answer.status == 304 and about is not None:
                os.utime(own)
                return Kept(own / name, about)
            return _kept(url, own, name, answer, blocks)
    except http.OfflineError as err:
        about = about or about_in(own, name)
        if about is None:
            raise FileError(f"{err}; and no copy of it is kept here") from err
        say_offline(url, about.retrieved)
        return Kept(own / name, about, is_offline=True)


def is_fresh() -> bool:
    """Whether what is kept is to be fetched anew."""
    return (_ways.get() or _Ways()).is_fresh


def say_offline(url: str, retrieved: str) -> None:
    """Say, once of each server, that what is kept is used since it cannot be reached."""
    parts = urlsplit(http.shown(url))
    server = f"{parts.scheme}://{parts.netloc}"
    if server not in _said:
        _said.add(server)
        remark(f"{server} cannot be reached; what is kept of it is used, of {retrieved} or later")


def with_checksum(about: About, place: Path) -> About:
    """Return what is known of a file, with its checksum."""
    with place.open("rb") as file:
        return replace(about, checksum=hashlib.file_digest(file, "sha256").hexdigest())


def told(about: About, name: str) -> bytes:
    """Return what stands beside something kept."""
    return orjson.dumps({"polygene": SHAPE, "name": name, **asdict(about)})


def _kept(url: str, own: Path, name: str, answer: http.Answer, blocks: Iterator[bytes]) -> Kept:
    """Put an answer in its place, whole or not at all."""
    announced = answer.headers.get("content-length", "")
    is_plain = "content-encoding" not in answer.headers
    about = About(
        http.shown(url),
        now(),
        answer.headers.get("etag", ""),
        answer.headers.get("last-modified", ""),
        "",
        answer.headers.get("content-type", "").partition(";")[0].strip().lower(),
        answer.headers.get("content-crs", "").strip("<> "),
        answer.url if answer.url != url else "",
    )
    with new_in_place(own, about) as new:
        total, summed = 0, hashlib.sha256()
        with (new / name).open("wb") as file:
            for block in blocks:
                total += len(block)
                if is_plain and announced.isdigit() and total > int(announced):
                    break
                summed.update(block)
                file.write(block)
        if is_plain and announced.isdigit() and total != int(announced):
            raise FileError(
                f"{http.shown(url)} sends another number of bytes than the {int(announced):,} it "
                "announced; try again"
            )
        about = replace(about, checksum=summed.hexdigest())
        (new / "about.json").write_bytes(told(about, name))
    return Kept(own / name, about)


@contextlib.contextmanager
def new_in_place(own: Path, about: About) -> Iterator[Path]:
    """Give a new folder to fill, which takes the place of one that is kept if all goes well.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    try:
        folder().mkdir(parents=True, exist_ok=True, mode=0o700)
        new = Path(tempfile.mkdtemp(prefix=".new", dir=folder()))
        try:
            yield new
            _swap(new, own)
        finally:
            shutil.rmtree(new, ignore_errors=True)
    except OSError as err:
        raise FileError(f"cannot keep {about.url} in {folder()}: {reason_of(err)}") from err
    make_room(own)


def _swap(new: Path, own: Path) -> None:
    """Put a folder in the place of another; who reads the old one goes on with its open files."""
    if own.exists():
        old = Path(tempfile.mkdtemp(prefix=".old", dir=folder()))
        with contextlib.suppress(FileNotFoundError):  # another run was quicker
            own.rename(old / "it")
        shutil.rmtree(old, ignore_errors=True)
    with contextlib.suppress(OSError):  # likewise; what that run fetched is as good
        new.rename(own)


def about_in(own: Path, name: str) -> About | None:
    """Return what is known of something kept; None if it is not there, or not whole."""
    try:
        found: dict[str, Any] = orjson.loads((own / "about.json").read_bytes())
        if found.pop("polygene") != SHAPE or found.pop("name") != name:
            return None
        return About(**found) if (own / name).exists() else None
    except (OSError, orjson.JSONDecodeError, KeyError, TypeError):
        return None


def make_room(new: Path) -> None:
    """Remove what was not asked for longest until no more is kept than may be."""
    most, found = (_ways.get() or _Ways()).most, []
    for own in folder().iterdir():
        with contextlib.suppress(OSError):
            size = sum(p.stat().st_blocks * 512 for p in own.iterdir())
            found.append((own.stat().st_mtime, size, own))
    total = sum(size for _, size, _ in found)
    for _, size, own in sorted(found):
        if total <= most:
            break
        if own != new:
            shutil.rmtree(own, ignore_errors=True)
            total -= size
