"""Coordinates of GeoJSON taken from the bytes of a file, past Python's lists and numbers.

Most of a file are coordinates, and most of the time goes into making objects of them. So they are
lifted out first, and the rest of the document has their numbers in their places. Whatever is not as it
mostly is, is left to the way that takes all that the standard allows: this one only says so.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.classes import NamedTuple
from polygene.text.lifted import Lifted, lifted

WORTH = 10_000  # bytes
MOST = 2**30  # bytes: numbers of bytes and of lists are of 32 bits
_KEY = np.frombuffer(b"coordinates", np.uint8)


class Emptied(NamedTuple):
    """A document with the number of each list of coordinates in its place, and those."""

    rest: memoryview
    lists: Lifted


def lift(data: bytes) -> Emptied | None:
    """Lift the coordinates out of a document; None if there are none, or they are none that can be."""
    if not WORTH <= len(data) < MOST:
        return None
    size = len(data)
    rest, text = np.empty(size + size // 3 + 16, np.uint8), np.empty(size, np.uint8)
    ends, counts = np.empty(size // 2 + 2, np.int32), np.empty((4, size // 4 + 2), np.int32)
    lists, totals = np.empty((size // 16 + 2, 5), np.int32), np.zeros(8, np.int64)
    n = kernels.run(
        kernels.lists.lift_lists,
        np.frombuffer(bytearray(data), np.uint8),
        np.require(_KEY, requirements="W"),
        rest,
        text,
        ends,
        counts,
        lists,
        totals,
        np.zeros(6, np.int64),
    )
    if n < 1:
        return None
    found = lifted(text, ends, counts, lists[: n + 1], totals)
    return None if found is None else Emptied(rest[: totals[7]].data, found)
