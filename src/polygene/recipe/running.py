"""Running a recipe: only what changed since last time, all outputs together at the end."""

from __future__ import annotations

import contextlib
import hashlib
import json
import shlex
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from polygene import __version__, provenance
from polygene.commands import COMMANDS
from polygene.commit.together import replacing, together
from polygene.errors import DataError, FileError, PolygeneError, SheetError, reason_of
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.formats.destination import Target
from polygene.formats.file_names import file_name
from polygene.formats.registry import readable_format
from polygene.layer import Layer
from polygene.provenance import Lineage
from polygene.recipe.expectations import BALANCE, check, check_balance
from polygene.recipe.kept import ENDING, Told, keep, kept
from polygene.recipe.reading import Recipe, RecipeStep, expectation_text
from polygene.record import checksum
from polygene.writing import placed

WORK = ".polygene-work"


@dataclass(frozen=True)
class Ran:
    """A step: whether its result was there from last time, its features, how long it took.

    features : None for a picture or table; said : what the command said; line : as it would be
    typed; place : the file with the result; held : the expectations that held; facts : what it
    told, as ``--json`` prints it
    """

    step: RecipeStep
    is_reused: bool
    features: int | None
    seconds: float
    said: str
    line: str
    place: Path
    held: Sequence[str] = ()
    facts: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Finished:
    """All steps, and the layers and files that were written."""

    ran: Sequence[Ran]
    layers: Sequence[tuple[Target, Layer]]
    files: Sequence[Path]


def run(
    recipe: Recipe,
    execute: Callable[[str, list[str]], Told],
    options: Mapping[str, Mapping[str, Any]],
    tell: Callable[[Ran], None],
) -> Finished:
    """Run the steps that have to be, then write all outputs.

    Parameters
    ----------
    execute : runs a command with arguments and returns what it told
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
        done = _run_step(
            recipe=recipe,
            step=step,
            places=places,
            marks=marks,
            work=work,
            execute=execute,
            options=options[step.command],
        )
        tell(done)
        ran.append(done)
    for name, text in recipe.inputs.items():
        if _mark_of_input(text) != marks[name]:
            raise DataError(
                f"input {name!r}, {text}, was changed while the recipe ran; run it again"
            )
    finished = _write(recipe, places, ran)
    _forget(work, {Path(p) for p in places.values()})
    return finished


def _run_step(
    recipe: Recipe,
    step: RecipeStep,
    places: dict[str, str],
    marks: dict[str, str],
    work: Path,
    execute: Callable[[str, list[str]], Told],
    options: Mapping[str, Any],
) -> Ran:
    """Run a step, or take its result from last time; note where it is."""
    mark = _mark(step, marks)
    ending = _ending_of_figure(recipe, step) if step.is_figure else ".gpkg"
    place = work / f"{file_name(step.name)}-{mark[:16]}{ending}"
    began = time.monotonic()
    told = kept(place)
    is_reused = told is not None
    if told is None:
        told = execute(step.command, _arguments(step, places, options, place))
        keep(place, told)
    seconds = time.monotonic() - began
    places[step.name], marks[step.name] = str(place), mark
    own = {name: name for name in places}
    typed = _arguments(step, own, options, Path(recipe.outputs.get(step.name, step.name)))
    line = shlex.join(["polygene", step.command, *typed[: typed.index("--out")]])
    features = None if step.is_figure else _features(place)
    held = _expect(recipe, step, place, told)
    return Ran(
        step=step,
        is_reused=is_reused,
        features=features,
        seconds=seconds,
        said=told.words,
        line=line,
        place=place,
        held=held,
        facts=told.facts,
    )


def _ending_of_figure(recipe: Recipe, step: RecipeStep) -> str:
    """Return the kind of picture or table that a step is to make: that of where it goes."""
    default = COMMANDS[step.command].figure[0]
    return Path(recipe.outputs.get(step.name, default)).suffix or default


def _mark_of_input(text: str) -> str:
    """Return a hash of the contents of the files that an address stands for."""
    found = hashlib.sha256(text.encode())
    for path in address.files_of(text):
        found.update(str(path).encode())
        found.update(checksum(path).encode())
    return found.hexdigest()


def _mark(step: RecipeStep, marks: Mapping[str, str]) -> str:
    """Return a hash of all that a step's result depends on."""
    files = [
        checksum(Path(text))
        for values in step.given.values()
        if isinstance(values, list)
        for text in values
        if Path(text).is_file()
    ]
    what = [
        files,
        __version__,
        step.command,
        dict(step.given),
        [marks[n] for n in step.needs],
        step.needs,
    ]
    return hashlib.sha256(json.dumps(what, sort_keys=True, default=str).encode()).hexdigest()


def _arguments(
    step: RecipeStep, places: Mapping[str, str], options: Mapping[str, Any], out: Path
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
    target = str(out) if step.is_figure else f"{out}#{step.name}"
    return [*words, "--out", target, "--replace"]


def _features(place: Path) -> int:
    return sum(info.n_rows for info in readable_format(place).list_layers(place))


def _layers(place: str) -> list[Layer]:
    return [y for ref in address.resolve(place) for y in address.read(ref).layers]


def _expect(recipe: Recipe, step: RecipeStep, place: Path, told: Told) -> list[str]:
    """Check what the recipe expects of a step's result; return it in words."""
    lines = getattr(step.expect, "lines", {})
    held = []
    for name, wanted in step.expect.items():
        line = lines.get(name, step.line)
        text = expectation_text(wanted)
        try:
            if name == BALANCE:
                wrongs = [check_balance(told.facts)]
            else:
                wrongs = [check(layer, name, text) for layer in _layers(f"{place}#*")]
        except PolygeneError as err:
            raise SheetError(recipe.path, line, str(err)) from err
        for wrong in filter(None, wrongs):
            raise SheetError(recipe.path, line, f"{step.name!r} {wrong}")
        held.append(f"{name}: {text}")
    return held


def _write(recipe: Recipe, places: Mapping[str, str], ran: Sequence[Ran]) -> Finished:
    """Write all outputs, each under the name it has in the recipe unless the destination says one."""
    figures = {done.step.name: done.place for done in ran if done.step.is_figure}
    results: list[tuple[Target, Layer]] = []
    for name, text in recipe.outputs.items():
        if name in figures:
            continue
        layers = _layers(places[name] if name in recipe.inputs else f"{places[name]}#*")
        own = name if len(layers) == 1 else None
        sources = [LayerRef(Path(places[name]), own or layer.name) for layer in layers]
        named = list(zip(sources, layers, strict=True))
        results += [
            (t, replace(y, name=t.name, lineage=_moved(y, t)))
            for own in placed(named, text, "replace", keeps_names=True)
            for t, y in own
        ]
    files = []
    with _kept(), together():
        destination.write_all(results)
        for name, place in figures.items():
            if name in recipe.outputs:
                files.append(Path(recipe.outputs[name]))
                with replacing(files[-1]) as temporary:
                    temporary.write_bytes(place.read_bytes())
    return Finished(ran, results, files)


@contextlib.contextmanager
def _kept() -> Iterator[None]:
    """Say of results that cannot go to their places that they are there still."""
    try:
        yield
    except PolygeneError as err:
        raise FileError(
            f"{err}\nThe results of all steps are kept; the next run of the recipe only writes them."
        ) from err


def _moved(layer: Layer, target: Target) -> Lineage | None:
    """Return the lineage of a step's result where it is written to."""
    if layer.lineage is None:
        return None
    return provenance.moved(layer.lineage, target.name, target.words)


def _forget(work: Path, used: set[Path]) -> None:
    """Remove results that this run did not use."""
    names = {path.stem for path in used if path.parent == work}
    for path in work.iterdir():
        if path.name.removesuffix(ENDING) not in names and path.stem not in names:
            path.unlink(missing_ok=True)
