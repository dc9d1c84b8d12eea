"""Blocks of bytes that a page carries, deflated (RFC 1950) and in base64 (RFC 4648)."""

from __future__ import annotations

import base64
import zlib
from typing import Any

import numpy as np
import orjson

from polygene.arrays import F64Array, I64Array

LEVEL = 6  # of deflating: 9 takes three times as long for a hundredth less


class Blocks:
    """The blocks of a page; number 0 is kept for the description of the others.

    What is in them is opened by ``script/blocks.js``.
    """

    def __init__(self) -> None:
        self._packed: list[bytes] = [b""]

    def add(self, data: bytes) -> int:
        self._packed.append(zlib.compress(data, LEVEL))
        return len(self._packed) - 1

    def add_json(self, value: Any) -> int:
        """Add a value, or an array of numbers, as JSON."""
        return self.add(orjson.dumps(value, option=orjson.OPT_SERIALIZE_NUMPY))

    def add_counts(self, values: I64Array) -> int:
        """Add numbers from 0 to 2^32 - 1: the lowest bytes of all, then the next, and so on."""
        planes = np.ascontiguousarray(values.astype("<u4")).view(np.uint8).reshape(-1, 4)
        return self.add(np.ascontiguousarray(planes.T).tobytes())

    def add_steps(self, values: I64Array) -> int:
        """Add numbers as steps from one to the next, those down and up folded: 0, -1, 1, -2, ...

        The numbers have 32 bits with their sign. Steps beyond go round, as the page's sums do.
        """
        steps = np.diff(values, prepend=0).astype(np.int32).astype(np.int64)
        return self.add_counts((steps << 1) ^ (steps >> 63))

    def add_floats(self, values: F64Array) -> int:
        return self.add(values.astype("<f8").tobytes())

    def describe(self, value: Any) -> None:
        """Set block 0."""
        self._packed[0] = zlib.compress(orjson.dumps(value), LEVEL)

    def html(self) -> str:
        """Return them as elements that a browser does not run."""
        return "\n".join(
            f'<script type="application/octet-stream" data-block="{k}">'
            f"{base64.b64encode(data).decode()}</script>"
            for k, data in enumerate(self._packed)
        )
