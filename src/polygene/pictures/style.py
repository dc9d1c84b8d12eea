"""Style sheets: what layers look like, kept to be used again for their next version."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import yaml

from polygene.lined_yaml import Lined, SheetReader, load
from polygene.pictures.breaks import day
from polygene.pictures.classes import NULL, OTHERS, Scheme
from polygene.pictures.looks import Dressed, Look

_KEYS = ("style sheet", "layers")
_OF_LAYER = (
    "colour-by",
    "values",
    "breaks",
    "colours",
    "others",
    "null",
    "unit",
    "label",
    "legend",
    "hatch",
    "outline",
)
VERSION = 1
_DAY = re.compile(r"\d{4}-\d\d-\d\d$")


def read(path: Path) -> dict[str, Look]:
    """Read a style sheet: the look of each layer by name.

    Raises
    ------
    FileError
        If it cannot be read.
    SheetError
        For the first mistake, with its line.
    """
    return _Reader(path).looks(load(path))


def look_of(name: str, looks: Mapping[str, Look]) -> Look | None:
    """Return the look of a layer, or of an earlier version of it: zones for zones_2."""
    base = re.sub(r"_\d+$", "", name)
    return looks.get(name) or looks.get(base)


def text_of(shown: Sequence[Dressed]) -> str:
    """Return the style sheet of a map, its classes and colours written out."""
    layers: dict[str, Any] = {}
    for dressed in shown:
        layer, look, found = dressed.layer, dressed.look, dressed.classes
        own: dict[str, Any] = {}
        if found is not None:
            own["colour-by"] = look.colour_by
            scheme = found.scheme
            if scheme.breaks:
                breaks = [day(v) if scheme.are_days else v for v in scheme.breaks]
                own |= {"breaks": breaks, "colours": list(scheme.colours)}
            else:
                own["values"] = dict(scheme.values)
            own |= {"others": scheme.others, "null": scheme.null}
        if look.unit:
            own["unit"] = look.unit
        if dressed.label is not None:
            own["label"] = dressed.label
        if found is not None and (found.is_reused or not look.legend):
            own["legend"] = False
        own |= {
            k: True for k, is_set in (("hatch", look.hatch), ("outline", look.outline)) if is_set
        }
        layers[layer.name] = own
    sheet = {"style sheet": VERSION, "layers": layers}
    return yaml.safe_dump(sheet, sort_keys=False, allow_unicode=True, width=100)


class _Reader(SheetReader):
    def looks(self, found: Lined) -> dict[str, Look]:
        self.check_keys(found, found, _KEYS, "a style sheet")
        if found.get("style sheet") != str(VERSION):
            raise self.fail(1, f"it does not begin with style sheet: {VERSION}")
        layers = self.mapping(found, "layers")
        return {name: self.look(self.mapping(layers, name)) for name in layers}

    def look(self, own: Lined) -> Look:
        self.check_keys(own, own, _OF_LAYER, "the look of a layer")
        return Look(
            self.one_value(own, "colour-by"),
            self.one_value(own, "label"),
            self.truth(own, "hatch"),
            self.truth(own, "outline"),
            self.scheme(own),
            self.one_value(own, "unit") or "",
            self.truth(own, "legend") if "legend" in own else True,
        )

    def scheme(self, own: Lined) -> Scheme | None:
        values = {
            str(k): self.colour(v, own, "values") for k, v in self.mapping(own, "values").items()
        }
        given = self.items(own, "breaks")
        are_days = bool(given) and all(_DAY.match(str(v)) for v in given)
        breaks = [self.day(v, own) if are_days else self.number(v, own) for v in given]
        colours = [self.colour(v, own, "colours") for v in self.items(own, "colours")]
        if breaks and (len(colours) != len(breaks) - 1 or sorted(set(breaks)) != breaks):
            raise self.fail(own.lines["breaks"], "breaks rise, and there is one more than colours")
        if not values and not breaks:
            return None
        others, null = (
            self.colour(own.get(key, default), own, key)
            for key, default in (("others", OTHERS), ("null", NULL))
        )
        return Scheme(values, breaks, colours, others, null, are_days)

    def items(self, own: Lined, key: str) -> Sequence[Any]:
        value = own.get(key, [])
        if not isinstance(value, list):
            raise self.fail(own.lines[key], f"{key} is a list, as in [0, 10, 20]")
        return value

    def day(self, value: Any, own: Lined) -> float:
        try:
            return float(np.datetime64(str(value), "D").astype(int))
        except ValueError as err:
            raise self.fail(own.lines["breaks"], f"{value} is no day") from err

    def number(self, value: Any, own: Lined) -> float:
        try:
            found = float(value)
        except (TypeError, ValueError) as err:
            raise self.fail(own.lines["breaks"], f"{value!r} is no number") from err
        if not math.isfinite(found):
            raise self.fail(own.lines["breaks"], f"{value!r} is no number")
        return found

    def colour(self, value: Any, own: Lined, key: str) -> str:
        from matplotlib.colors import is_color_like

        if not isinstance(value, str) or not is_color_like(value):
            raise self.fail(
                own.lines.get(key, own.line), f"{value!r} is no colour; write it as '#2b6a8f'"
            )
        return value
