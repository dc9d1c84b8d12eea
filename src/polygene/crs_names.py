"""What PROJ's database says of a CRS that has a code, without PROJ: half of the start of a small look.

The database is SQLite, and ``crs_view`` in it is there to be asked. Where it is not as it is known
here, or another one is asked for by PROJ's own variables, there is no answer, and PROJ is asked.
"""

from __future__ import annotations

import functools
import importlib.util
import os
import sqlite3
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from pyproj import CRS

_ELSEWHERE = ("PROJ_DATA", "PROJ_LIB")
_IS_GEOGRAPHIC = {"geographic 2D": True, "projected": False}


class KnownCRS(NamedTuple):
    """A CRS by its code, with its name as PROJ says it."""

    code: int
    name: str
    is_geographic: bool

    @property
    def label(self) -> str:
        """As `polygene.crs.label` has it."""
        return f"EPSG:{self.code} {self.name}"

    def load(self) -> CRS:
        from pyproj import CRS

        return CRS.from_epsg(self.code)


@functools.cache
def known(code: int) -> KnownCRS | None:
    """Return what is known of a projected or geographic CRS of the EPSG's; None if nothing is."""
    place = _database()
    if place is None:
        return None
    try:
        database = sqlite3.connect(f"{place.as_uri()}?mode=ro&immutable=1", uri=True)
        try:
            row = database.execute(
                "SELECT name, type FROM crs_view WHERE auth_name = 'EPSG' AND code = ?",
                (str(code),),
            ).fetchone()
        finally:
            database.close()
    except sqlite3.Error:
        return None
    if row is None or row[1] not in _IS_GEOGRAPHIC:
        return None
    return KnownCRS(code, row[0], _IS_GEOGRAPHIC[row[1]])


def _database() -> Path | None:
    if any(os.environ.get(name) for name in _ELSEWHERE):
        return None
    found = importlib.util.find_spec("pyproj")  # finds it without importing it
    if found is None or found.origin is None:
        return None
    place = Path(found.origin).with_name("proj_dir") / "share" / "proj" / "proj.db"
    return place if place.is_file() else None
