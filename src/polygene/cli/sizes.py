"""Numbers of bytes with their units."""

from __future__ import annotations

import re
from typing import Any

import click

LEAST = 500_000_000  # bytes; libraries that are loaded take some


class Size(click.ParamType):
    """A number of bytes with its unit."""

    name = "size"

    def convert(self, value: Any, param: Any, ctx: Any) -> int:
        found = re.fullmatch(r"(\d+(?:\.\d+)?) ?([kMGT])(i?)B", str(value))
        if found is None:
            self.fail(f"{value!r} is no size; write it as 500MB or 2GB", param, ctx)
        n_bytes = int(
            float(found[1]) * (1024 if found[3] else 1000) ** (1 + "kMGT".index(found[2]))
        )
        if n_bytes < LEAST:
            self.fail(f"{value} is too little for any work; {LEAST // 1_000_000}MB is the least")
        return n_bytes
