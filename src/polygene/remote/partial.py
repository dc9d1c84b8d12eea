"""Large files of the web of which only what is needed comes over: a local file with holes.

It has the size of the one that it stands for; bytes come in blocks when a reader asks for them (RFC
9110, section 14). Every answer must be of the same state of the file, which what has come is kept
for; a server that does not tell states apart, or answers with the whole file, is asked for all of it.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from dataclasses import replace
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import IO

import numpy as np

from polygene.arrays import I64Array, distinct, spans
from polygene.clock import now
from polygene.errors import FileError, reason_of
from polygene.remote import cache, http
from polygene.remote.cache import About, Kept

BLOCK = 1 << 12  # bytes that come together
GAP = 8  # blocks between two that are wanted which it is cheaper to fetch too
FIRST = 1 << 14  # bytes asked for first, which tell what server and file are like
MOST_AT_ONCE = 1 << 23  # bytes of one request


class Partial:
    """A file with holes, and what fills them."""

    def __init__(
        self,
        url: str,
        place: Path,
        size: int,
        validator: str,
        ranged: Callable[[int, int], bytes] | None = None,
    ) -> None:
        self.url, self.place, self.size, self.validator = url, place, size, validator
        self._ranged = ranged or self._over_http
        self._has = np.zeros(-(-size // BLOCK), bool)
        self._blocks = place.parent / "blocks"
        if self._blocks.exists():
            found = np.frombuffer(self._blocks.read_bytes(), np.uint8)
            if len(found) * 8 >= len(self._has):
                self._has = np.unpackbits(found)[: len(self._has)].astype(bool)

    def fill(self, starts: I64Array, stops: I64Array) -> None:
        """Fetch bytes from, to (n,) that are not here yet.

        Raises
        ------
        FileError
            If they cannot be fetched, or the file there is another one now.
        """
        first = np.clip(starts, 0, self.size) // BLOCK
        last = -(-np.clip(stops, 0, self.size) // BLOCK)
        wanted = distinct(spans(first, np.maximum(last - first, 0)))
        wanted = wanted[~self._has[wanted]]
        if not len(wanted):
            return
        breaks = np.flatnonzero(np.diff(wanted) > GAP + 1) + 1
        try:
            with self.place.open("r+b") as file:
                for run in np.split(wanted, breaks):
                    self._fetch(file, int(run[0]), int(run[-1]) + 1)
                file.flush()
                os.fsync(file.fileno())  # before it is said that they are there
            self._blocks.write_bytes(np.packbits(self._has).tobytes())
            os.utime(self.place.parent)
        except OSError as err:
            shown = http.shown(self.url)
            raise FileError(
                f"cannot keep {shown} in {self.place.parent}: {reason_of(err)}"
            ) from err
        cache.make_room(self.place.parent)

    def _fetch(self, file: IO[bytes], first: int, last: int) -> None:
        """Fetch blocks in a row."""
        at, stop = first * BLOCK, min(self.size, last * BLOCK)
        while at < stop:
            end = min(stop, at + MOST_AT_ONCE)
            body = self._ranged(at, end)
            if len(body) != end - at:
                raise FileError(
                    f"{http.shown(self.url)} sends {len(body):,} bytes where {end - at:,} were asked "
                    "for; fetch the file by other means"
                )
            file.seek(at)
            file.write(body)
            at = end
        self._has[first:last] = True

    def _over_http(self, start: int, stop: int) -> bytes:
        answer = http.get(self.url, {"Range": f"bytes={start}-{stop - 1}"}, most=MOST_AT_ONCE + 1)
        if answer.status != 206 or _size_of(answer) != self.size or not self._is_same(answer):
            raise FileError(f"{http.shown(self.url)} was changed while it was read; start again")
        return answer.body

    def _is_same(self, answer: http.Answer) -> bool:
        return _validator(answer) == self.validator


def opened(url: str, name: str) -> tuple[Kept, Partial | None]:
    """Return a file of the web as a local one, with holes if the server sends parts of it.

    Raises
    ------
    FileError
        If it cannot be reached and none is kept, or is refused.
    """
    own = cache.place_of(f"parts of {url}")
    kept = None if cache.is_fresh() else cache.kept_in(own, name)
    try:
        answer = http.get(url, {"Range": f"bytes=0-{FIRST - 1}"}, most=None)
    except http.OfflineError:
        if kept is None:
            return cache.fetched(url, name), None  # kept whole, perhaps; else it says so
        cache.say_offline(url, kept.about.retrieved)
        place, about = kept.place, kept.about
        partial = Partial(url, place, place.stat().st_size, about.validator)
        return replace(kept, is_offline=True), partial
    size, validator = _size_of(answer), _validator(answer)
    if answer.status != 206 or size is None or not validator:
        return cache.fetched(url, name), None
    kept = kept_in_parts(url, name, size, validator)
    kept = kept or begun(url, name, size, validator, answer.body)
    return kept, Partial(url, kept.place, size, validator)


def kept_in_parts(url: str, name: str, size: int, validator: str) -> Kept | None:
    """Return what is kept of a file, if it is of this state and not to be fetched anew."""
    own = cache.place_of(f"parts of {url}")
    kept = None if cache.is_fresh() else cache.kept_in(own, name)
    if kept is None or kept.about.validator != validator or kept.place.stat().st_size != size:
        return None
    cache.used(kept)
    return kept


def begun(url: str, name: str, size: int, validator: str, first: bytes) -> Kept:
    """Keep a new file beside what was kept: who reads that goes on with it as it was."""
    own = cache.place_of(f"parts of {url}")
    about = About(http.shown(url), now(), validator, "", "", "")
    has = np.zeros(-(-size // BLOCK), bool)
    has[: len(first) // BLOCK] = True
    with cache.new_state(own, about) as new:
        (new / "blocks").write_bytes(np.packbits(has).tobytes())
        with (new / name).open("wb") as file:
            file.write(first[:size])
            os.truncate(file.fileno(), size)
        return cache.tell(new / name, about)


def _size_of(answer: http.Answer) -> int | None:
    found = re.fullmatch(r"bytes \d+-\d+/(\d+)", answer.headers.get("content-range", ""))
    return int(found[1]) if found else None


def _validator(answer: http.Answer) -> str:
    """Return what tells states of a file apart to the byte (RFC 9110, 8.8.1 and 8.8.2.2).

    A weak tag does not, nor a time of change of less than a minute before the answer.
    """
    tag = answer.headers.get("etag", "")
    if tag and not tag.startswith("W/"):
        return tag
    modified = answer.headers.get("last-modified", "")
    try:
        age = parsedate_to_datetime(answer.headers["date"]) - parsedate_to_datetime(modified)
    except (KeyError, ValueError, TypeError):
        return ""
    return modified if age.total_seconds() >= 60 else ""
