"""What was fetched, kept in a folder: asked for again, it is only looked whether it has changed.

One folder for each address, by its hash: ``about.json`` with the address, when it came, and what the
server tells its states by (ETag, Last-Modified: RFC 9110, sections 8.8 and 13), and a folder of its own
for each state that came, which does not change. What comes anew is put beside the old state and told
of in one step: another run goes on with the state that it found. Without a connection what is kept is
used, and that is said.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextvars import ContextVar
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import orjson

from polygene.classes import dataclass
from polygene.clock import now
from polygene.errors import FileError, reason_of
from polygene.remote import http
from polygene.written import remark

_said: set[str] = set()
MOST = 2_000_000_000  # bytes of all that is kept, if the settings say nothing
SHAPE = 3
GRACE = 3600  # seconds that a state which another took the place of is still there for who reads it


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
    kept = None if is_fresh() else kept_in(own, name)
    asked = dict(headers or {})
    if kept is not None and kept.about.etag:
        asked["If-None-Match"] = kept.about.etag
    elif kept is not None and kept.about.modified:
        asked["If-Modified-Since"] = kept.about.modified
    try:
        with http.streamed(url, asked) as (answer, blocks):
            if answer.status == 304 and kept is not None:
                used(kept)
                return kept
            return _kept(url, own, name, answer, blocks)
    except http.OfflineError as err:
        return kept_offline(url, own, name, err)


def used(kept: Kept) -> None:
    """Note that something kept is used, so that it is not removed first."""
    with contextlib.suppress(OSError):  # it was removed just now: reading it says so
        os.utime(kept.place.parent)


def kept_offline(url: str, own: Path, name: str, err: http.OfflineError) -> Kept:
    """Return what is kept of an address that cannot be reached, and say so.

    Raises
    ------
    FileError
        If nothing is.
    """
    kept = kept_in(own, name)
    if kept is None:
        raise FileError(f"{err}; and no copy of it is kept here") from err
    say_offline(url, kept.about.retrieved)
    return replace(kept, is_offline=True)


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
    with new_state(own, about) as new:
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
        return tell(new / name, about)


@contextlib.contextmanager
def new_state(own: Path, about: About) -> Iterator[Path]:
    """Give a new folder to fill, of which `tell` tells at the end; it goes away if anything fails.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    try:
        folder().mkdir(parents=True, exist_ok=True, mode=0o700)
        own.mkdir(exist_ok=True, mode=0o700)
        new = Path(tempfile.mkdtemp(prefix="state", dir=own))
        try:
            yield new
        except BaseException:
            shutil.rmtree(new, ignore_errors=True)
            with contextlib.suppress(OSError):  # where an earlier state is
                own.rmdir()
            raise
    except OSError as err:
        raise FileError(f"cannot keep {about.url} in {folder()}: {reason_of(err)}") from err


def tell(place: Path, about: About) -> Kept:
    """Tell of a state that came, from now on the one that is kept of its address."""
    state, own = place.parent, place.parent.parent
    facts = {"polygene": SHAPE, "name": place.name, "state": state.name, **asdict(about)}
    new = state / "about.json"
    new.write_bytes(orjson.dumps(facts))
    new.replace(own / new.name)
    for other in own.iterdir():
        with contextlib.suppress(OSError):
            if other not in (state, own / new.name) and time.time() - other.stat().st_mtime > GRACE:
                _remove(other)
    make_room(state)
    return Kept(place, about)


def _remove(place: Path) -> None:
    if place.is_dir():
        shutil.rmtree(place, ignore_errors=True)
    else:
        place.unlink(missing_ok=True)


def kept_in(own: Path, name: str) -> Kept | None:
    """Return what is kept of an address; None if it is not there, or not whole."""
    try:
        found: dict[str, Any] = orjson.loads((own / "about.json").read_bytes())
        if found.pop("polygene") != SHAPE or found.pop("name") != name:
            return None
        place = own / Path(found.pop("state")).name / name
        return Kept(place, About(**found)) if place.exists() else None
    except (OSError, orjson.JSONDecodeError, KeyError, TypeError):
        return None


def make_room(new: Path) -> None:
    """Remove what was not asked for longest, but ``new``, until no more is kept than may be."""
    most, found = (_ways.get() or _Ways()).most, []
    for own in folder().iterdir():
        with contextlib.suppress(OSError):
            for state in [inner for inner in own.iterdir() if inner.is_dir()] or [own]:
                size = sum(p.stat().st_blocks * 512 for p in state.iterdir())
                found.append((state.stat().st_mtime, size, state))
    total = sum(size for _, size, _ in found)
    for _, size, state in sorted(found):
        if total <= most:
            break
        if state != new:
            shutil.rmtree(state, ignore_errors=True)
            total -= size
            with contextlib.suppress(OSError):  # another run removes them too
                if state.parent != folder() and not any(p.is_dir() for p in state.parent.iterdir()):
                    shutil.rmtree(state.parent)
