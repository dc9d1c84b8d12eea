"""Examples filled in with the layers that lie in the working folder."""

from __future__ import annotations

import re
import shlex
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from polygene.classes import dataclass
from polygene.finding import length_in

_MOST_FILES = 20
_LARGEST = 50 << 20  # bytes of a file that is looked into


@dataclass(frozen=True)
class Here:
    """A layer of this folder."""

    address: str
    name: str
    geometry: str
    features: int
    fields: dict[str, str]


def layers_here() -> list[Here]:
    """Return the layers of the working folder, as far as they are soon told."""
    from polygene.errors import PolygeneError
    from polygene.formats.endings import ENDINGS, may_hold_layers
    from polygene.formats.registry import readable_format

    files = sorted(p for p in Path().iterdir() if p.suffix.lower() in ENDINGS and p.is_file())
    found = []
    for path in [p for p in files if may_hold_layers(p)][:_MOST_FILES]:
        try:
            if path.stat().st_size > _LARGEST:
                continue
            source = readable_format(path)
            for info in source.list_layers(path):
                if info.problem:
                    continue
                address = f"{path}#{info.name}" if source.HOLDS_MANY else str(path)
                fields = dict(info.fields)
                found.append(Here(address, info.name, info.geometry, info.n_rows, fields))
        except (PolygeneError, OSError):
            continue
    found = [one for one in found if one.geometry != "none"]
    sizes = Counter(one.address.partition("#")[0] for one in found)
    # Of layers of one name that of the larger package first: sources hold more than results.
    return sorted(found, key=lambda one: -sizes[one.address.partition("#")[0]])


def filled(example: str, asked: str, here: Sequence[Here]) -> str:
    """Return an example as one would type it; words in capitals stay where nothing is known."""
    if not example:
        return ""
    if length := length_in(asked):
        example = re.sub(r"(--up-to|--distance) 100m", rf"\1 {length}", example)
    places = [(_place(one.name, asked), k) for k, one in enumerate(here)]
    # Of several that one word may mean it means the first.
    meant = {
        place[0]: k
        for place, k in sorted(((p, k) for p, k in places if p is not None), reverse=True)
    }
    found = [here[k] for _, k in sorted(meant.items())]
    named = list({one.name.casefold(): one for one in reversed(found)}.values())[::-1]
    taken: dict[str, Here] = {}
    for word in re.findall(r"\b(?:INPUT|OTHER|AREAS|POINTS)\b", example):
        one = _chosen(word, named, here, list(taken.values()))
        if one is not None:
            taken[word] = one
    words = {word: shlex.quote(one.address) for word, one in taken.items()}
    name = "result"
    if taken:
        # Of what is aggregated the fields are OTHER's, of all else INPUT's.
        first, *more = taken.values()
        is_sum = "(FIELD" in example
        words["FIELD"] = _field(more[0] if is_sum and more else first, is_sum)
        name = re.sub(r"[^\w.-]", "_", f"{first.name}_{example.split(' ')[0]}")
    words["OUT"] = f"{name}.gpkg"
    # All at once: layers may be called like the words. Of several FIELDs the first is filled in.
    text = re.sub(r"\b[A-Z]{3,}\b", lambda found: words.pop(found[0], found[0]), example)
    return f"polygene {text}"


_KINDS = {"AREAS": "polygon", "POINTS": "point"}


def _chosen(
    word: str, named: Sequence[Here], here: Sequence[Here], taken: Sequence[Here]
) -> Here | None:
    """Return the layer that a word of an example stands for: one that was named before all others."""
    kind = _KINDS.get(word, "")
    fits = [one for one in named if one not in taken and kind in one.geometry]
    rest = [one for one in here if one not in taken and one not in named and kind in one.geometry]
    if fits:
        return fits[0]
    if word == "OTHER":  # most often a study area: few features, which cover something
        areas = [one for one in rest if "polygon" in one.geometry]
        return min(areas, key=lambda one: one.features, default=None)
    return max(rest, key=lambda one: one.features, default=None)


def _place(name: str, asked: str) -> tuple[int, int] | None:
    """Return where a layer's name stands in what was asked, and how much of it is there.

    It may be there in the singular, or its first word only; None if it is not.
    """
    plain = name.replace("_", " ")
    for k, form in enumerate((plain, plain.removesuffix("s"), plain.split(" ")[0])):
        found = re.search(rf"\b{re.escape(form)}", asked.replace("_", " "), re.IGNORECASE)
        if len(form) > 2 and found:
            return found.start(), k
    return None


def _field(layer: Here, is_number: bool) -> str:
    kinds = ("int", "float", "double") if is_number else ("string",)
    found = [name for name, kind in layer.fields.items() if kind.startswith(kinds)]
    return found[0] if found else "FIELD"
