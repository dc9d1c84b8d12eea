"""What a recipe may write over: its own results of earlier runs, and nothing else unless it is told."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from polygene.classes import NamedTuple
from polygene.errors import DataError, ExistsError, PolygeneError, listed
from polygene.formats import address, destination
from polygene.formats.base import check_free
from polygene.formats.destination import Target
from polygene.formats.naming import fields_in, matching
from polygene.formats.packed import PIPE
from polygene.formats.registry import format_of
from polygene.recipe.reading import Recipe, RecipeStep

WORK, OWN = ".polygene-work", "outputs.json"
_BESIDE = ("chart", "keep-style")  # keys of steps that name files which they write too


class Place(NamedTuple):
    """Where a result is: its file, and the layer in it if it may hold several."""

    path: str
    layer: str = ""


def work_of(recipe: Recipe) -> Path:
    """Return the folder in which a recipe keeps what it needs for the next run."""
    return recipe.path.parent / WORK / recipe.path.stem


def beside(step: RecipeStep) -> list[Path]:
    """Return the files that a step writes besides its result."""
    return [Path(text) for key in _BESIDE for text in step.given.get(key, ())]


def place_of(target: Target) -> Place:
    """Return the place of a target, whatever it is called there."""
    several = getattr(format_of(target.path), "HOLDS_MANY", False)
    return Place(os.path.realpath(target.path), target.name.casefold() if several else "")


class Guard:
    """What a recipe reads, which it never writes over, and what it has written in earlier runs."""

    def __init__(self, recipe: Recipe, replaces: bool) -> None:
        self.inputs = dict(_inputs(recipe))
        self.files = {place.path: name for place, name in self.inputs.items()}
        self.own = set(_own(recipe))
        self.replaces = replaces

    def check_targets(self, targets: Sequence[Target]) -> None:
        """Refuse targets that are inputs of the recipe, or there and not of an earlier run of it.

        Raises
        ------
        DataError
            If one is an input: the next run would be of something else.
        ExistsError
            If one is there, and it is not to be replaced.
        """
        others = []
        for target in targets:
            if str(target.path) == PIPE:
                continue
            place = place_of(target)
            if place in self.inputs:
                raise DataError(_is_input(target.words, self.inputs[place]))
            if place not in self.own:
                others.append(target)
        there = [] if self.replaces else destination.those_there(others)
        if there:
            raise ExistsError(_not_ours(there[0].words))

    def check_file(self, path: Path, words: str = "") -> None:
        """Refuse a picture, table or page, as `check_targets` does layers."""
        place = Place(os.path.realpath(path))
        if place.path in self.files:
            raise DataError(_is_input(words or str(path), self.files[place.path]))
        if place not in self.own:
            try:
                check_free(path, self.replaces)
            except ExistsError:
                raise ExistsError(_not_ours(words or str(path))) from None


def _is_input(words: str, name: str) -> str:
    return f"{words} is the input {name!r}; write to another place"


def _not_ours(words: str) -> str:
    return f"{words} exists already, and no run of this recipe wrote it; `replace` overwrites it"


def left_over(recipe: Recipe, places: Sequence[Place]) -> list[str]:
    """Return a note of parts that earlier runs wrote, which are there still and none of this run's."""
    found: set[Place] = set()
    for text in recipe.outputs.values():
        if fields_in(text):
            path, layer = address.split(text)
            in_path = matching(os.path.realpath(path))
            in_layer = matching(layer if layer else "{name}")
            found |= {
                one
                for one in _own(recipe)
                if in_path.fullmatch(one.path) and (not one.layer or in_layer.fullmatch(one.layer))
            }
    targets = [
        Target(Path(os.path.relpath(path)), layer or Path(path).stem)
        for path, layer in sorted(found - {*places})
    ]
    words = [target.words for target in destination.those_there(targets)]
    if not words:
        return []
    are = "is" if len(words) == 1 else "are"
    return [f"{listed(words, 5)} {are} of an earlier run, and no result of this one"]


def take(recipe: Recipe, places: Sequence[Place]) -> None:
    """Note what a run has written, so that the next may write over it."""
    if not places:
        return
    folder = os.path.realpath(recipe.path.parent)
    everything = sorted({*_own(recipe), *places})
    told = [[os.path.relpath(one.path, folder), one.layer] for one in everything]
    file = work_of(recipe) / OWN
    # Without it the next run only asks before it writes over anything.
    with contextlib.suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        new = file.with_suffix(".new")
        new.write_text(json.dumps(told, indent=1), encoding="utf-8")
        new.replace(file)


def _own(recipe: Recipe) -> list[Place]:
    folder = os.path.realpath(recipe.path.parent)
    try:
        told = json.loads((work_of(recipe) / OWN).read_text(encoding="utf-8"))
        return [Place(os.path.normpath(os.path.join(folder, path)), name) for path, name in told]
    except (OSError, ValueError, TypeError):
        return []


def _inputs(recipe: Recipe) -> Iterator[tuple[Place, str]]:
    """Return the places of all inputs, with their names."""
    for name, text in recipe.inputs.items():
        if address.is_remote(text):
            continue
        for ref in address.resolve(text):
            for one in ref.pieces or (ref,):
                with contextlib.suppress(PolygeneError):  # a file that is never written to
                    yield place_of(Target(one.path, one.name)), name
