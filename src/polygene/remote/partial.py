"""Large files of the web of which only what is needed comes over: a local file with holes.

It has the size of the one that it stands for; bytes come in blocks when a reader asks for them (RFC
9110, section 14). Every answer must be of the same state of the file, which what has come is kept
for; a server that does not tell states apart, or answers with the whole file, is asked for all of it.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

import numpy as np

from polygene.arrays import I64Array, spans
from polygene.clock import now
from polygene.errors import FileError, reason_of
from polygene.remote import cache, http
from polygene.remote.cache import About, Kept

BLOCK = 1 << 14  # bytes that come together
GAP = 2  # blocks between two that are wanted which it is cheaper to fetch too
MOST_AT_ONCE = 1 << 23  # bytes of one request


class Partial:
    """A file with holes, and what fills them."""

    def __init__(self, url: str, place: Path, size: int, validator: str) -> None:
        self.url, self.place, self.size, self.validator = url, place, size, validator
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
        wanted = np.unique(spans(first, np.maximum(last - first, 0)))
        wanted = wanted[~self._has[wanted]]
        if not len(wanted):
            return
        breaks = np.flatnonzero(np.diff(wanted) > GAP + 1) + 1
        with self.place.open("r+b") as file:
            for run in np.split(wanted, breaks):
                at, stop = int(run[0]) * BLOCK, min(self.size, (int(run[-1]) + 1) * BLOCK)
                while at < stop:
                    end = min(stop, at + MOST_AT_ONCE)
                    body = self._range(at, end)
                    file.seek(at)
                    file.write(body)
                    at = end
                self._has[int(run[0]) : int(run[-1]) + 1] = True
        self._blocks.write_bytes(np.packbits(self._has).tobytes())

    def _range(self, start: int, stop: int) -> bytes:
        answer = http.get(self.url, {"Range": f"bytes={start}-{stop - 1}"}, most=MOST_AT_ONCE + 1)
        if answer.status != 206 or _size_of(answer) != self.size or not self._is_same(answer):
            raise FileError(f"{http.shown(self.url)} was changed while it was read; start again")
        if len(answer.body) != stop - start:
            raise FileError(
                f"{http.shown(self.url)} sends {len(answer.body):,} bytes where {stop - start:,} were "
                "asked for; fetch the file by other means"
            )
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
    about = None if cache.is_fresh() else cache.about_in(own, name)
    try:
        answer = http.get(url, {"Range": f"bytes=0-{BLOCK - 1}"}, most=None)
    except http.OfflineError:
        if about is None:
            return cache.fetched(url, name), None  # kept whole, perhaps; else it says so
        cache.say_offline(url, about.retrieved)
        place = own / name
        return Kept(place, about, is_offline=True), Partial(
            url, place, place.stat().st_size, about.validator
        )
    size, validator = _size_of(answer), _validator(answer)
    if answer.status != 206 or size is None or not validator:
        return cache.fetched(url, name), None
    place = own / name
    is_same = about is not None and about.validator == validator
    if about is None or not (is_same and place.stat().st_size == size):
        about = About(http.shown(url), now(), validator, "", "", "")
        _begin(own, place, size, about, answer.body)
    return Kept(place, about), Partial(url, place, size, validator)


def _begin(own: Path, place: Path, size: int, about: About, first: bytes) -> None:
    has = np.zeros(-(-size // BLOCK), bool)
    has[: len(first) // BLOCK] = True
    try:
        own.mkdir(parents=True, exist_ok=True, mode=0o700)
        (own / "blocks").write_bytes(np.packbits(has).tobytes())
        with place.open("wb") as file:
            file.write(first[:size])
            os.truncate(file.fileno(), size)
        (own / "about.json").write_bytes(cache.told(about, place.name))
    except OSError as err:
        raise FileError(f"cannot keep {about.url} in {own}: {reason_of(err)}") from err


def _size_of(answer: http.Answer) -> int | None:
    found = re.fullmatch(r"bytes \d+-\d+/(\d+)", answer.headers.get("content-range", ""))
    return int(found[1]) if found else None


def _validator(answer: http.Answer) -> str:
    """Return what tells states of a file apart to the byte: a weak tag does not."""
    tag = answer.headers.get("etag", "")
    return tag if tag and not tag.startswith("W/") else answer.headers.get("last-modified", "")
