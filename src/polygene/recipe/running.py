"""Running a recipe: only what changed since last time, all outputs together at the end."""

from __future__ import annotations

import hashlib
import json
import os
import shlex
import shutil
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field
from pathlib import Path
from typing import Any

from polygene import __version__
from polygene.classes import dataclass
from polygene.commands import COMMANDS
from polygene.commit.locks import only_run
from polygene.errors import (
    DataError,
    ExpressionError,
    FileError,
    PolygeneError,
    SheetError,
    UsageError,
    reason_of,
)
from polygene.formats import address, origins, parquet_parts
from polygene.formats.address import LayerRef
from polygene.formats.destination import Target
from polygene.formats.file_names import file_name
from polygene.formats.registry import readable_format
from polygene.info import NO_GEOMETRY
from polygene.layer import Layer
from polygene.notes import Warned
from polygene.recipe.expectations import BALANCE, check, check_balance
from polygene.recipe.kept import ENDING, Told, keep, kept
from polygene.recipe.outputs import check as check_outputs
from polygene.recipe.outputs import layers_at, pieces_of, write
from polygene.recipe.owned import OWN, Place, beside, take, work_of
from polygene.recipe.reading import Recipe, RecipeStep, expectation_text
from polygene.record import checksum

FOLDER = ".parquet"
# Keys by which a step works in tasks; what comes of it is the same.
GROUNDS = ("memory", "workers", "cluster", "tasks", "resume")


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

    @property
    def told(self) -> Told:
        return Told(self.said, dict(self.facts))


@dataclass(frozen=True)
class Finished:
    """All steps, the layers and files that were written, and what there is to know of these."""

    ran: Sequence[Ran]
    layers: Sequence[tuple[Target, Layer]]
    files: Sequence[Path]
    notes: Sequence[str] = ()

    def to_know(self) -> list[tuple[str, str]]:
        """Return the steps, in words, that have something to know, and what it is, warnings first.

        What several steps say is there once; of what is said of the outputs there is no step.
        """
        steps: dict[str, list[str]] = {}
        for ran in self.ran:
            for note in ran.told.notes:
                steps.setdefault(note, []).append(ran.step.name)
        found = [(", ".join(names), note) for note, names in steps.items()]
        found += [("", note) for note in dict.fromkeys(self.notes) if note not in steps]
        return sorted(found, key=lambda pair: not isinstance(pair[1], Warned))


def run(
    recipe: Recipe,
    execute: Callable[[str, list[str]], Told],
    options: Mapping[str, Mapping[str, Any]],
    tell: Callable[[Ran], None],
    grounds: Mapping[str, str] | None = None,
    replaces: bool = False,
) -> Finished:
    """Run the steps that have to be, then write all outputs.

    Parameters
    ----------
    execute : runs a command with arguments and returns what it told
    options : command → key → option, as in `read_recipe`
    grounds : what all steps that can work in tasks are to have for it, by `GROUNDS`; a step's own come
        first
    replaces : whether outputs may take the place of what no run of this recipe has written

    Raises
    ------
    PolygeneError
        If a step fails; results of the steps before it are kept for the next run, no output is written.
    """
    check_outputs(recipe, replaces)
    work = work_of(recipe)
    try:
        work.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise FileError(f"cannot make the folder {work}: {reason_of(err)}") from err
    with only_run(work.with_name(f".{work.name}.lock"), str(recipe.path)):
        return _run(recipe, work, execute, options, tell, grounds or {}, replaces)


def _run(
    recipe: Recipe,
    work: Path,
    execute: Callable[[str, list[str]], Told],
    options: Mapping[str, Mapping[str, Any]],
    tell: Callable[[Ran], None],
    grounds: Mapping[str, str],
    replaces: bool,
) -> Finished:
    """Do it, where nobody else runs the recipe."""
    places = dict(recipe.inputs)
    began = str(time.time_ns())
    marks = {name: _mark_of_input(text, began) for name, text in recipe.inputs.items()}
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
            grounds=grounds,
        )
        tell(done)
        ran.append(done)
    for name, text in recipe.inputs.items():
        if _mark_of_input(text, began) != marks[name]:
            raise DataError(
                f"input {name!r}, {text}, was changed while the recipe ran; run it again"
            )
    figures = {done.step.name: done.place for done in ran if done.step.is_figure}
    put = write(recipe, places, figures, replaces)
    _forget(work, {Path(p) for p in places.values()})
    return Finished(ran, *put)


def _run_step(
    recipe: Recipe,
    step: RecipeStep,
    places: dict[str, str],
    marks: dict[str, str],
    work: Path,
    execute: Callable[[str, list[str]], Told],
    options: Mapping[str, Any],
    grounds: Mapping[str, str],
) -> Ran:
    """Run a step, or take its result from last time; note where it is."""
    mark = _mark(step, marks)
    at_once = work / f"{file_name(step.name)}-{mark[:16]}{_ending(recipe, step)}"
    in_tasks = work / mark[:16] / f"{file_name(step.name)}{FOLDER}"
    began = time.monotonic()
    place, told = at_once, kept(at_once)
    if told is None and not step.is_figure:
        place, told = in_tasks, kept(in_tasks)
    if not all(path.exists() for path in beside(step)):
        told = None
    is_reused = told is not None
    if told is None:
        own_grounds = None if step.is_figure else _grounds_of(step, places, options, grounds)
        place = at_once if own_grounds is None else in_tasks
        words = _arguments(step, places, options, place)
        for key, value in (own_grounds or {}).items():
            words += [options[key].flag, *([value] if value else [])]
        place.parent.mkdir(exist_ok=True)
        if place.with_suffix(ENDING).exists():  # somebody changed it, so it may not even open
            _remove(place)
        told = _done(recipe, step, execute, words)
        keep(place, told)
        take(recipe, [Place(os.path.realpath(path)) for path in beside(step)])
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


def _done(
    recipe: Recipe, step: RecipeStep, execute: Callable[[str, list[str]], Told], words: list[str]
) -> Told:
    """Run the command of a step; of an error it is said which step's it is."""
    try:
        return execute(step.command, words)
    except (UsageError, ExpressionError, SheetError) as err:
        raise SheetError(recipe.path, step.line, f"step {step.name!r}: {err}") from err
    except PolygeneError as err:
        raise DataError(f"{recipe.path}, line {step.line}: step {step.name!r}: {err}") from err


def _grounds_of(
    step: RecipeStep,
    places: Mapping[str, str],
    options: Mapping[str, Any],
    grounds: Mapping[str, str],
) -> dict[str, str] | None:
    """Return what a step is to be given besides to work in tasks, None if its result is no folder.

    A step that reads a folder makes one too, for it may be as large.
    """
    if not set(GROUNDS) <= set(options) or len(step.inputs) != 1:
        return None
    asked = {key for key in GROUNDS if key in step.given or key in grounds}
    is_of_folder = any(parquet_parts.is_folder(Path(places[name])) for name in step.inputs)
    if not asked and not is_of_folder:
        return None
    refs = address.resolve(places[step.inputs[0]])
    if len(refs) != 1 or _is_table(refs[0]):
        return None
    own = {key: value for key, value in grounds.items() if key not in step.given}
    if "cluster" in step.given:
        own.pop("workers", None)
    if "workers" in step.given:
        own.pop("cluster", None)
    return own


def _is_table(ref: LayerRef) -> bool:
    info = address.info_of(ref)
    return info is not None and info.geometry == NO_GEOMETRY


def _ending(recipe: Recipe, step: RecipeStep) -> str:
    """Return the ending of a step's result, of a picture or table that of where it goes."""
    if not step.is_figure:
        return ".gpkg"
    default = COMMANDS[step.command].figure[0]
    return Path(recipe.outputs.get(step.name, default)).suffix or default


def _mark_of_input(text: str, began: str) -> str:
    """Return a hash of the contents of the files that an address stands for.

    Whether anything in a service has changed is known only when it is asked for what a step needs, so
    steps that read one are done in each run, from what is kept where that is still so.
    """
    found = hashlib.sha256(text.encode())
    for path in address.files_of(text):
        found.update(str(path).encode())
        is_service = path.suffix == ".features"
        found.update((began if is_service else origins.state_of(path, checksum)).encode())
    return found.hexdigest()


def _mark(step: RecipeStep, marks: Mapping[str, str]) -> str:
    """Return a hash of all that a step's result depends on."""
    made = beside(step)
    files = [
        checksum(Path(text))
        for values in step.given.values()
        if isinstance(values, list)
        for text in values
        if Path(text).is_file() and Path(text) not in made
    ]
    what = [
        files,
        __version__,
        step.command,
        {key: value for key, value in step.given.items() if key not in GROUNDS},
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
    if out.suffix == FOLDER and not step.is_figure:
        target = f"{out}{os.sep}"
    return [*words, "--out", target, "--replace"]


def _features(place: Path) -> int:
    return sum(info.n_rows for info in readable_format(place).list_layers(place))


def _results(place: Path) -> Iterator[Iterable[Layer]]:
    """Return the layers of a result, each in pieces."""
    pieces = pieces_of(place)
    if pieces is not None:
        yield pieces.each() if pieces.n_rows else [pieces.like]
        return
    for layer in layers_at(f"{place}#*"):
        yield [layer]


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
                wrongs = [check(pieces, name, text) for pieces in _results(place)]
        except PolygeneError as err:
            raise SheetError(recipe.path, line, str(err)) from err
        for wrong in filter(None, wrongs):
            raise SheetError(recipe.path, line, f"{step.name!r} {wrong}")
        held.append(f"{name}: {text}")
    return held


def _forget(work: Path, used: set[Path]) -> None:
    """Remove results that this run did not use."""
    places = {place.parent if place.parent.parent == work else place for place in used}
    for path in work.iterdir():
        if (
            path.name == OWN
            or path in places
            or path.name.removesuffix(ENDING) in {own.stem for own in places}
        ):
            continue
        if path.is_dir() or path.stem not in {own.stem for own in places}:
            _remove(path)


def _remove(place: Path) -> None:
    if place.is_dir():
        shutil.rmtree(place, ignore_errors=True)
    else:
        place.unlink(missing_ok=True)
