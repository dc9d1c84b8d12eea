"""Which CRS coordinates of GML are in, and in what order their axes come."""

from __future__ import annotations

import re
from collections.abc import Sequence
from operator import itemgetter, methodcaller
from pathlib import Path
from typing import Any

from polygene import crs as crs_module
from polygene import proj
from polygene.classes import NamedTuple
from polygene.errors import DataError, listed
from polygene.notes import Warned, counted

_SHORT = re.compile(r"(?:https?://www\.opengis\.net/gml/srs/epsg\.xml#|EPSG:)(\d+)", re.IGNORECASE)
get_srs = methodcaller("get", "srsName")


class System(NamedTuple):
    """The CRS of some geometry.

    begins_north : whether coordinates have the latitude or northing first
    n_axes : numbers of a position that does not say how many it has
    """

    crs: proj.CRS | None
    begins_north: bool = False
    n_axes: int = 2


def of_geometry(
    root: Any,
    features: Sequence[Any],
    properties: Sequence[Any],
    path: Path,
    name: str,
    notes: list[str],
) -> System:
    """Return the CRS that the geometry in some properties is in.

    What a geometry does not say itself the box round its feature or the collection says (OGC 07-036,
    9.10).

    Raises
    ------
    DataError
        If there are several, or one is not known.
    """
    own = list(map(get_srs, map(itemgetter(0), properties)))
    named = dict.fromkeys(filter(None, own))
    if None in own or not own:
        outer = _named_outside(root, features)
        if outer:
            named[outer] = None
    systems = {text: _system(text, path) for text in named}
    first = next(iter(systems.values()), System(None))
    if len(systems) > 1 and not all(
        crs_module.is_same(one.crs, first.crs) and one.begins_north == first.begins_north
        for one in systems.values()
    ):
        raise DataError(
            f"{path}#{name}: geometry is in several CRS ({listed(list(named), 4)}); a layer has "
            "one, so take those of each to a file of its own"
        )
    n_without = (
        own.count(None) if first.crs is not None and not _named_outside(root, features) else 0
    )
    if n_without:
        what = counted(n_without, "geometry").replace("geometrys", "geometries")
        notes.append(Warned(f"{name}: {what} without a CRS, taken as {next(iter(named))}"))
    short = next((text for text in named if _SHORT.fullmatch(text)), None)
    if short is not None and crs_module.begins_north(systems[short].crs):  # type: ignore[arg-type]
        notes.append(
            Warned(f"{name}: {short} does not tell the order of axes; taken as east before north")
        )
    return first


def _named_outside(root: Any, features: Sequence[Any]) -> str | None:
    """Return what the box round the first feature or the collection is said to be in."""
    for outer in (*features[:1], root):
        for box in outer.iterfind("{*}boundedBy/*"):
            if box.get("srsName"):
                return str(box.get("srsName"))
    return None


def _system(text: str, path: Path) -> System:
    short = _SHORT.fullmatch(text.strip())
    try:
        if short:
            return System(crs_module.parse(f"EPSG:{short[1]}"))
        try:
            found = crs_module.of_uri(text.strip())
        except DataError:
            found = crs_module.parse(text.strip())
    except DataError as err:
        raise DataError(f"{path}: its srsName {text!r} names no CRS that is known") from err
    return System(found, crs_module.begins_north(found), min(3, max(2, len(found.axis_info))))
