"""CRS that are known by their code: what PROJ's database says of them, without PROJ.

To load PROJ takes more than half the time that NumPy takes, and most commands want no more of a CRS
than its name, its unit and whether it is of longitude and latitude. The database is SQLite, and its
tables are there to be asked. Where they are not as they are known here, or another database is asked
for by PROJ's own variables, there is no answer, and PROJ is asked.
"""

from __future__ import annotations

import functools
import importlib.util
import math
import os
import re
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

from polygene.classes import NamedTuple

if TYPE_CHECKING:
    from polygene import proj

Found = TypeVar("Found")

_ELSEWHERE = ("PROJ_DATA", "PROJ_LIB")
_CODE = re.compile(r"(EPSG|OGC):(\d{1,9}|CRS84)", re.IGNORECASE)
_IS_GEOGRAPHIC = {"geographic 2D": True, "projected": False}
_DIRECTIONS = {"east", "north", "west", "south"}
_WGS84 = {("EPSG", "4326"), ("OGC", "CRS84")}  # the same but for the order of their axes
_AXES = """
SELECT c.name, c.type, a.name, a.abbrev, a.orientation, u.conv_factor, u.name, u.auth_name, u.code
FROM (
    SELECT name, 'projected' AS type, coordinate_system_auth_name AS authority,
        coordinate_system_code AS system
    FROM projected_crs WHERE auth_name = :authority AND code = :code
    UNION ALL
    SELECT name, type, coordinate_system_auth_name, coordinate_system_code
    FROM geodetic_crs WHERE auth_name = :authority AND code = :code
) AS c
JOIN axis AS a ON a.coordinate_system_auth_name = c.authority AND a.coordinate_system_code = c.system
JOIN unit_of_measure AS u ON u.auth_name = a.uom_auth_name AND u.code = a.uom_code
ORDER BY a.coordinate_system_order
"""
_CONVERSION = f"""
SELECT m.method_auth_name, m.method_code, {
    ", ".join(
        f"param{k}_{part}"
        for k in range(1, 8)
        for part in ("code", "value", "uom_auth_name", "uom_code")
    )
}
FROM projected_crs AS c
JOIN conversion_table AS m ON m.auth_name = c.conversion_auth_name AND m.code = c.conversion_code
WHERE c.auth_name = :authority AND c.code = :code
"""
_LISTED = "SELECT 1 FROM crs_view WHERE name = ?"
_UNIT_SIZE = "SELECT conv_factor FROM unit_of_measure WHERE auth_name = ? AND code = ?"


class Axis(NamedTuple):
    """An axis, as pyproj has it."""

    name: str
    abbrev: str
    direction: str
    unit_conversion_factor: float
    unit_name: str
    unit_auth_code: str
    unit_code: str


class Conversion(NamedTuple):
    """How a map is made: the EPSG's code of the method, and its numbers by theirs, in SI units."""

    method: str
    values: dict[str, float]


class CodedCRS:
    """A CRS with the code of an authority, in the place of pyproj's, which is made when it is needed.

    It is one of pyproj's for whoever asks, and has all that they have.

    Attributes
    ----------
    conversion : Conversion or None
        How its map is made, if that is known.
    text : str
        The definition that a file gives with the code, which nobody has looked at; empty if none.
    """

    __slots__ = (
        "_loaded",
        "authority",
        "axis_info",
        "code",
        "conversion",
        "is_geographic",
        "name",
        "text",
    )

    is_geocentric = False

    def __init__(
        self,
        authority: str,
        code: str,
        name: str,
        is_geographic: bool,
        axis_info: list[Axis],
        conversion: Conversion | None,
        text: str = "",
    ) -> None:
        self.authority, self.code, self.name = authority, code, name
        self.is_geographic, self.axis_info = is_geographic, axis_info
        self.conversion, self.text = conversion, text
        self._loaded: proj.CRS | None = None

    @property
    def is_projected(self) -> bool:
        return not self.is_geographic

    @property
    def srs(self) -> str:
        return f"{self.authority}:{self.code}"

    def to_authority(self, *given: Any, **named: Any) -> tuple[str, str]:
        return self.authority, self.code

    def equals(self, other: Any, ignore_axis_order: bool = False) -> bool:
        if isinstance(other, CodedCRS):
            mine, theirs = ((one.authority, one.code) for one in (self, other))
            if mine == theirs or ignore_axis_order and {mine, theirs} == _WGS84:
                return True
            if self.is_geographic != other.is_geographic:
                return False
        return self.load().equals(_loaded(other), ignore_axis_order=ignore_axis_order)

    def load(self) -> proj.CRS:
        """Return it as pyproj has it."""
        if self._loaded is None:
            from polygene import proj

            self._loaded = proj.CRS.from_user_input(self.srs)
        return self._loaded

    def with_text(self, text: str) -> CodedCRS:
        """Return the same, with the definition that a file gives with it."""
        made, given = self.__reduce__()
        return made(*given[:-1], text)

    @property  # type: ignore[misc]
    def __class__(self) -> Any:
        from polygene import proj

        return proj.CRS

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        return getattr(self.load(), name)

    def __reduce__(self) -> tuple[Callable[..., CodedCRS], tuple[Any, ...]]:
        facts = self.authority, self.code, self.name, self.is_geographic, self.axis_info
        return CodedCRS, (*facts, self.conversion, self.text)

    def __eq__(self, other: object) -> bool:
        return other is not None and self.equals(other)

    def __hash__(self) -> int:
        return hash(self.load())

    def __str__(self) -> str:
        return self.srs

    def __repr__(self) -> str:
        return repr(self.load())


def _loaded(crs: Any) -> Any:
    return crs.load() if isinstance(crs, CodedCRS) else crs


def coded(text: str, definition: str = "") -> proj.CRS | None:
    """Return the CRS of a code such as ``EPSG:32633``; None if nothing is known of it without PROJ.

    One of a plane, or of longitude and latitude, it is. ``definition`` is what a file says of it.
    """
    match = _CODE.fullmatch(text.strip())
    found = None if match is None else _known(match[1].upper(), match[2].upper())
    if found is None:
        return None
    return cast("proj.CRS", found.with_text(definition) if definition else found)


def conversion_of(crs: proj.CRS | None) -> Conversion | None:
    """Return how a map is made, if that is known without PROJ."""
    return crs.conversion if isinstance(crs, CodedCRS) else None


def definition_with(crs: proj.CRS | None) -> str:
    """Return the definition that a file gave with the code of a CRS; nothing if there is none."""
    return crs.text if isinstance(crs, CodedCRS) else ""


@functools.lru_cache(maxsize=64)
def is_listed(name: str) -> bool:
    """Whether a CRS of the database is called just so; True too where there is no asking it."""
    found = _asked(lambda at: at.execute(_LISTED, (name,)).fetchone() is not None)
    return found is None or found


@functools.cache
def _known(authority: str, code: str) -> CodedCRS | None:
    key = {"authority": authority, "code": str(int(code)) if code.isdigit() else code}
    found = _asked(lambda at: (at.execute(_AXES, key).fetchall(), _conversion(at, key)))
    if found is None:
        return None
    rows, conversion = found
    if len(rows) != 2 or rows[0][1] not in _IS_GEOGRAPHIC:
        return None
    axes = [_axis(*row[2:]) for row in rows]
    if not all(axis.direction in _DIRECTIONS and axis.unit_conversion_factor for axis in axes):
        return None
    name, kind = rows[0][:2]
    return CodedCRS(authority, key["code"], name, _IS_GEOGRAPHIC[kind], axes, conversion)


def _axis(
    name: str, abbrev: str, direction: str, factor: float, unit: str, authority: str, code: int
) -> Axis:
    if (authority, code) == ("EPSG", 9122):  # degrees, however they are written
        unit, factor = "degree", math.radians(1.0)
    return Axis(name, abbrev, direction, factor, unit, authority, str(code))


def _conversion(database: sqlite3.Connection, key: dict[str, str]) -> Conversion | None:
    """Return how a map is made; None if it is none, or not all of its numbers are known."""
    row = database.execute(_CONVERSION, key).fetchone()
    if row is None or row[0] != "EPSG":
        return None
    values = {}
    for k in range(2, len(row), 4):
        code, value, *unit = row[k : k + 4]
        if code is None:
            break
        size = database.execute(_UNIT_SIZE, unit).fetchone()
        if size is None or size[0] is None:
            return None
        values[str(code)] = value * size[0]
    return Conversion(str(row[1]), values)


def _asked(what: Callable[[sqlite3.Connection], Found]) -> Found | None:
    """Return what PROJ's database says; None if there is none, or not as it is known here."""
    database = _database()
    if database is None:
        return None
    try:
        with closing(sqlite3.connect(f"{database.as_uri()}?mode=ro&immutable=1", uri=True)) as at:
            return what(at)
    except sqlite3.Error:
        return None


def _database() -> Path | None:
    if any(os.environ.get(name) for name in _ELSEWHERE):
        return None
    found = importlib.util.find_spec("pyproj")  # finds it without importing it
    if found is None or found.origin is None:
        return None
    place = Path(found.origin).with_name("proj_dir") / "share" / "proj" / "proj.db"
    return place if place.is_file() else None
