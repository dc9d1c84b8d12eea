"""Distances and areas with units, and how messages write them."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence

from polygene import proj
from polygene.classes import dataclass
from polygene.crs import degrees_of, is_geographic, label
from polygene.errors import UsageError

METRES = {
    "mm": 0.001,
    "cm": 0.01,
    "m": 1.0,
    "km": 1000.0,
    "in": 0.0254,
    "ft": 0.3048,
    "yd": 0.9144,
    "mi": 1609.344,
    "nmi": 1852.0,
}
MOST = 1e15  # of any unit, which is more than anybody means
LEAST_WORDED = 0.001  # of a measure of which only the size matters; less is told as under it
# Square metres of each unit of area.
AREAS = {
    "m2": 1.0,
    "ha": 1e4,
    "km2": 1e6,
    "ft2": 0.3048**2,
    "yd2": 0.9144**2,
    "ac": 4046.8564224,
    "mi2": 1609.344**2,
}
METRES_PER_DEGREE = 111_319.49  # on the equator


DEGREES = "deg"


@dataclass(frozen=True)
class Distance:
    """A number with a unit of length, or degrees; without one, in the units of the CRS."""

    value: float
    unit: str | None

    @staticmethod
    def parse(text: str) -> Distance:
        """Read ``150m``, ``0.5 km``, ``0.1deg`` or ``12``.

        Raises
        ------
        UsageError
            If it is no number with a unit that is known.
        """
        match = re.fullmatch(
            r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*([A-Za-z]*)\s*", text
        )
        if not match:
            raise UsageError(f"{text!r} is no distance; write it as 150m, 0.5km or 12")
        unit = match[2] or None
        if unit is not None and unit not in (*METRES, DEGREES):
            known = ", ".join((*METRES, DEGREES))
            raise UsageError(f"{unit!r} is no unit of length here; known are {known}")
        return Distance(check_size(float(match[1]), text), unit)

    @property
    def text(self) -> str:
        """As it is written."""
        return f"{self.value:g}{self.unit or ''}"

    def worded(self, value: float, map_unit: float | None) -> str:
        """Return a length in map units, whose size in metres is given, as this one was written."""
        if self.unit is None or map_unit is None:
            return f"{value:.4g}"
        size = METRES_PER_DEGREE if self.unit == DEGREES else METRES[self.unit]
        return f"{value * map_unit / size:.4g} {self.unit}"

    def in_map_units(self, crs: proj.CRS | None) -> float:
        """Return it in the units of a CRS; on a geographic one metres along the equator.

        Raises
        ------
        UsageError
            If it needs a unit there, or has one that means nothing there.
        """
        self._check(crs)
        if self.unit is None or crs is None:
            return self.value
        if self.unit == DEGREES:
            return self.value / degrees_of(crs)
        metres = self.value * METRES[self.unit]
        if crs.is_geographic:
            return metres / (METRES_PER_DEGREE * degrees_of(crs))
        return metres / crs.axis_info[0].unit_conversion_factor

    def in_metres(self, crs: proj.CRS | None) -> float:
        """Return it in metres, or as it is where there is no CRS; degrees are those of the equator.

        Raises
        ------
        UsageError
            As for `in_map_units`.
        """
        self._check(crs)
        if crs is None or not crs.axis_info:
            return self.value
        if self.unit == DEGREES:
            return self.value * METRES_PER_DEGREE
        if self.unit is not None:
            return self.value * METRES[self.unit]
        return self.value * crs.axis_info[0].unit_conversion_factor

    def as_length(self) -> float:
        """Return it in metres, whatever the CRS.

        Raises
        ------
        UsageError
            If it is not a length with its unit.
        """
        if self.unit is None or self.unit == DEGREES:
            raise UsageError(f"{self.text} is no length with a unit; write it as 10mm or 2m")
        return self.value * METRES[self.unit]

    def _check(self, crs: proj.CRS | None) -> None:
        if crs is None or not crs.axis_info:
            if self.unit is not None:
                raise UsageError(f"without a CRS a distance has no unit; give {self.value:g} alone")
        elif is_geographic(crs):
            if self.unit is None:
                raise UsageError(
                    f"{self.text} needs a unit, for {label(crs)} is in degrees: say {self.text}m, or "
                    f"{self.text}deg if you mean degrees"
                )
        elif self.unit == DEGREES:
            raise UsageError(
                f"{self.text} is in degrees and {label(crs)} is not: give the distance as a length, "
                "such as 150m"
            )


Length = (
    float | str | Distance
)  # a number in the unit that is said there, or a text as `Distance` reads


def check_size(value: float, text: str | None = None) -> float:
    """Return a distance in any unit.

    Raises
    ------
    UsageError
        If it is not finite, or larger than anything there is.
    """
    if not abs(value) <= MOST:
        shown = text or f"{value:g}"
        raise UsageError(f"{shown!r} is no distance: it is larger than anything there is")
    return value


def map_units(length: Length | None, crs: proj.CRS | None) -> float | None:
    """Return a length in the units of a CRS; a number is in them already, None stays None.

    Raises
    ------
    UsageError
        If it is not more than nothing, or a text that does not fit the CRS.
    """
    return _checked(length, lambda d: d.in_map_units(crs))


def metres(length: Length | None, crs: proj.CRS | None) -> float | None:
    """Return a length in metres (map units without a CRS); a number is in them already.

    Raises
    ------
    UsageError
        As for `map_units`.
    """
    return _checked(length, lambda d: d.in_metres(crs))


def true_metres(length: Length | None) -> float | None:
    """Return a length in metres, whatever the CRS; a number is in them already.

    Raises
    ------
    UsageError
        If it is not more than nothing, or a text without a unit of length.
    """
    return _checked(length, Distance.as_length)


def as_written(length: Length | None) -> str:
    """Return a length as it was written; nothing for a bare number or none."""
    if length is None or isinstance(length, (float, int)):
        return ""
    return (length if isinstance(length, Distance) else Distance.parse(length)).text


def _checked(length: Length | None, convert: Callable[[Distance], float]) -> float | None:
    if length is None:
        return None
    if isinstance(length, str):
        length = Distance.parse(length)
    value = convert(length) if isinstance(length, Distance) else check_size(float(length))
    if not value > 0:
        raise UsageError(f"a distance of {value:g} means nothing here; it must be more than 0")
    return value


def worded_as(asked: str, value: float, map_unit: float | None) -> str:
    """Return a length in map units in the unit that another was written in."""
    return Distance.parse(asked or "0").worded(value, map_unit)


def map_unit_of(crs: proj.CRS | None) -> float | None:
    """Return the metres of a map unit, of degrees along the equator; None without a CRS."""
    if crs is None or not crs.axis_info:
        return None
    return METRES_PER_DEGREE if crs.is_geographic else crs.axis_info[0].unit_conversion_factor


def metres_worded(metres: float) -> str:
    """Return a length in metres as people write it: ``10 mm``, ``2.5 m``, ``12 km``."""
    for size, unit in ((1000.0, "km"), (1.0, "m")):
        if abs(metres) >= size or metres == 0 and unit == "m":
            return f"{metres / size:.4g} {unit}"
    return f"{metres * 1000:.4g} mm"


def roughly(value: float, unit: str) -> str:
    """Return a measure of which only the size matters: ``0.12 m²``, ``under 0.001 m²``."""
    value = abs(value)
    if value == 0:
        return f"0 {unit}"
    if value < LEAST_WORDED:
        return f"under {LEAST_WORDED:g} {unit}"
    decimals = max(0, 1 - math.floor(math.log10(value)))
    return f"{value:,.{decimals}f} {unit}"


def length_worded(value: float, crs: proj.CRS | None) -> str:
    """Return a length in the units of a CRS with their name; ``units`` without one."""
    if crs is None or not crs.axis_info:
        return f"{_plain(value)} units"
    if not crs.is_geographic and crs.axis_info[0].unit_conversion_factor == 1:
        return metres_worded(value)
    return f"{_plain(value)} {crs.axis_info[0].unit_name}s"


def _plain(value: float) -> str:
    """Return a number to four digits, never with an exponent."""
    text = f"{float(f'{value:.4g}'):.15f}"
    return text.rstrip("0").rstrip(".")


_SYMBOLS = {"m²": [(1e6, "km²"), (1e4, "ha"), (1.0, "m²")], "m": [(1e3, "km"), (1.0, "m")]}


def worded(values: Sequence[float], unit: str) -> list[str]:
    """Return measures as people write them, all in the unit that suits the largest.

    ``12.50 ha``, ``3.20 km``, ``17 points``. ``unit`` is one that rulers give: m², m, square
    units, units, or points.
    """
    if unit == "points":
        return [f"{value:,.0f} point{'' if value == 1 else 's'}" for value in values]
    largest = max(map(abs, values), default=0.0)
    for size, symbol in _SYMBOLS.get(unit, []):
        # Up to a hundred square kilometres hectares are the better read.
        if largest >= size * (100 if symbol == "km²" else 1):
            return [f"{value / size:z,.2f} {symbol}" for value in values]
    return [f"{value:z,.2f} {unit}" for value in values]
