"""Running a recipe: only what changed since last time, all outputs together at the end."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from polygene import __version__, lineage
from polygene.errors import DataError, FileError, SheetError
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.formats.base import reason_of
from polygene.formats.destination import Target
from polygene.layer import Layer
from polygene.lineage import Lineage
from polygene.recipe.reading import Recipe, Step
from polygene.record import checksum

WORK = ".polygene-work"


@dataclass(frozen=True)
class Ran:
    """A step: whether its result was there from last time, its features, how long it took."""

    step: Step
    is_reused: bool
    features: int
    seconds: float
    said: str


def run(
    recipe: Recipe,
    execute: Callable[[str, list[str]], str],
    options: Mapping[str, Mapping[str, Any]],
    tell: Callable[[Ran], None],
) -> list[Ran]:
    """Run the steps that have to be, then write all outputs.

    Parameters
    ----------
    execute : runs a command with arguments and returns what it said
    options : command → key → option, as in `read_recipe`

    Raises
    ------
    PolygeneError
        If a step fails; results of the steps before it are kept for the next run, no output is written.
    """
    work = recipe.path.parent / WORK / recipe.path.stem
    try:
        work.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise FileError(f"cannot make the folder {work}: {reason_of(err)}") from err
    places = dict(recipe.inputs)
    marks = {name: _mark_of_input(text) for name, text in recipe.inputs.items()}
    ran = []
    for step in recipe.steps:
        mark = _mark(step, marks)
        place = work / f"{step.name}-{mark[:16]}.gpkg"
        began = time.monotonic()
        is_reused = place.exists()
        said = ""
        if not is_reused:
            said = execute(step.command, _arguments(step, places, options[step.command], place))
        places[step.name], marks[step.name] = str(place), mark
        done = Ran(step, is_reused, _features(place), time.monotonic() - began, said)
        _expect(recipe, done)
        tell(done)
        ran.append(done)
    for name, text in recipe.inputs.items():
        if _mark_of_input(text) != marks[name]:
            raise DataError(
                f"input {name!r}, {text}, was changed while the recipe ran; run it again"
            )
    _write(recipe, places)
    _forget(work, {Path(p) for p in places.values()})
    return ran


def _mark_of_input(text: str) -> str:
    """Return a hash of the contents of the files that an address stands for."""
    found = hashlib.sha256(text.encode())
    for path in address.files_of(text):
        found.update(str(path).encode())
        found.update(checksum(path).encode())
    return found.hexdigest()


def _mark(step: Step, marks: Mapping[str, str]) -> str:
    """Return a hash of all that a step's result depends on."""
    what = [__version__, step.command, dict(step.given), [marks[n] for n in step.needs], step.needs]
    return hashlib.sha256(json.dumps(what, sort_keys=True, default=str).encode()).hexdigest()


def _arguments(
    step: Step, places: Mapping[str, str], options: Mapping[str, Any], out: Path
) -> list[str]:
    """Return the words that would be typed for a step."""
    words = [places[name] for name in step.inputs]
    for key, value in step.given.items():
        option = options[key]
        if option.is_flag:
            words.append(option.flag)
            continue
        for item in value:
            words += [option.flag, places[item] if option.takes_layer else item]
    return [*words, "--out", f"{out}#{step.name}", "--replace"]


def _features(place: Path) -> int:
    return sum(
        layer.n_rows for ref in address.resolve(f"{place}#*") for layer in address.read(ref).layers
    )


def _expect(recipe: Recipe, done: Ran) -> None:
    """Check what the recipe expects of a step's result."""
    lines = getattr(done.step.expect, "lines", {})
    for key, wanted in done.step.expect.items():
        line = lines.get(key, done.step.line)
        if key != "features":
            raise SheetError(
                recipe.path, line, f"there is no expectation {key!r}; there is features"
            )
        text = str(wanted).strip()
        low, dash, high = text.partition("-")
        try:
            bounds = (int(low), int(high if dash else low))
        except ValueError as err:
            raise SheetError(
                recipe.path, line, f"{text!r} is no number, nor a range as in 20-30"
            ) from err
        if not bounds[0] <= done.features <= bounds[1]:
            raise SheetError(
                recipe.path, line,
                f"{done.step.name!r} was expected to have {text} features, and has {done.features:,}",
            )  # fmt: skip


def _write(recipe: Recipe, places: Mapping[str, str]) -> None:
    """Write all outputs, each under the name it has in the recipe unless the destination says one."""
    results = []
    for name, text in recipe.outputs.items():
        place = places[name] if name in recipe.inputs else f"{places[name]}#*"
        layers = [y for ref in address.resolve(place) for y in address.read(ref).layers]
        own = name if len(layers) == 1 else None
        sources = [LayerRef(Path(places[name]), own or layer.name) for layer in layers]
        targets = destination.plan(text, sources, "replace")
        results += [
            (t, replace(y, name=t.name, lineage=_moved(y, t)))
            for t, y in zip(targets, layers, strict=True)
        ]
    destination.write_all(results)


def _moved(layer: Layer, target: Target) -> Lineage | None:
    """Return the lineage of a step's result where it is written to."""
    if layer.lineage is None:
        return None
    return lineage.moved(layer.lineage, target.name, target.words)


def _forget(work: Path, kept: set[Path]) -> None:
    """Remove results that this run did not use."""
    for path in work.glob("*.gpkg"):
        if path not in kept:
            path.unlink(missing_ok=True)
