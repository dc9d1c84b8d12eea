"""Reading and checking a recipe before anything runs."""

from __future__ import annotations

import fnmatch
import os
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from polygene import finding
from polygene.classes import dataclass
from polygene.commands import COMMANDS
from polygene.errors import UsageError, did_you_mean
from polygene.formats.file_names import file_name
from polygene.lined_yaml import Lined, SheetReader, as_truth, load
from polygene.recipe.expectations import check_text

# Options that take names of fields, and nothing else, with commas between.
_NAMES = ("keep", "drop", "order", "sort", "refresh", "apportion", "gather")
_KEYS = ("title", "parameters", "settings", "inputs", "steps", "outputs")
# Settings hold for every step whose command has such an option and that does not say otherwise.
_SETTINGS = ("crs", "precision", "invalid", "folder")
_EACH = "for each"
_REFERENCE = re.compile(r"\$\{(\w+)\}")


# Options whose values are layers: names of inputs and steps.
LAYER_OPTIONS = ("with", "beside", "before")


@dataclass(frozen=True)
class Option:
    """An option of a command as a recipe knows it: how it is written, and whether it is a flag."""

    flag: str
    is_flag: bool
    is_many: bool
    takes_layer: bool
    check: Callable[[str], None] = lambda text: None  # raises ValueError for what it is no value


@dataclass(frozen=True)
class RecipeStep:
    """One command: its name, what it works on, its options, the name of its result, its line.

    given : option → value, layers by name still; expect : what must hold of the result
    """

    name: str
    command: str
    inputs: tuple[str, ...]
    given: Mapping[str, Any]
    expect: Mapping[str, Any]
    line: int

    @property
    def needs(self) -> list[str]:
        """The names of inputs and steps that it uses."""
        return [*self.inputs, *self.others]

    @property
    def others(self) -> list[str]:
        """The names of what its inputs are worked on with, or shown beside."""
        return [name for key in LAYER_OPTIONS for name in self.given.get(key, [])]

    @property
    def is_figure(self) -> bool:
        """Whether its result is a picture or a table."""
        return bool(COMMANDS[self.command].figure)


@dataclass(frozen=True)
class Recipe:
    """A checked recipe, its steps in an order in which they can run.

    inputs : name → layer address; outputs : name of an input or step → destination
    """

    path: Path
    title: str
    inputs: Mapping[str, str]
    steps: Sequence[RecipeStep]
    outputs: Mapping[str, str]
    unused: Sequence[str]
    parameters: Mapping[str, str]


def read_recipe(
    path: Path,
    commands: Mapping[str, Mapping[str, Option]],
    given: Mapping[str, str],
    layers_of: Callable[[str], Sequence[str]],
    defaults: Mapping[str, str] | None = None,
) -> Recipe:
    """Read a recipe and check all of it that can be without its layers.

    Parameters
    ----------
    commands : what each command that may be a step knows, by the keys of its options
    given : parameters to set instead of their defaults
    layers_of : the addresses of the single layers that an address stands for
    defaults : settings that hold where the recipe has none of its own

    Raises
    ------
    SheetError
        For the first mistake, with its line.
    """
    reader = _Reader(path, commands, given, layers_of)
    reader.settings = {**(defaults or {})}
    return reader.recipe(load(path))


def expectation_text(value: Any) -> str:
    """Return the value of an expectation as text."""
    truth = as_truth(value)
    return str(value).strip() if truth is None else str(truth).lower()


class _Reader(SheetReader):
    def __init__(
        self,
        path: Path,
        commands: Mapping[str, Mapping[str, Option]],
        given: Mapping[str, str],
        layers_of: Callable[[str], Sequence[str]],
    ) -> None:
        super().__init__(path)
        self.commands, self.given, self.layers_of = commands, given, layers_of
        self.parameters: dict[str, str] = {}
        self.unset: set[str] = set()  # those without a value
        self.settings: dict[str, str] = {}

    def recipe(self, found: Lined) -> Recipe:
        self.check_keys(found, found, _KEYS, "a recipe")
        own = self.mapping(found, "parameters")
        if "each" in own:
            raise self.fail(own.lines["each"], "'each' stands for the names of for each")
        self.parameters = {k: self.one_value(own, k) or "" for k in own}
        self.unset = {k for k, v in own.items() if v is None} - set(self.given)
        for name, value in self.given.items():
            if name not in self.parameters:
                known = ", ".join(self.parameters) or "none"
                raise self.fail(
                    found.lines.get("parameters"),
                    f"there is no parameter {name!r}{did_you_mean(name, list(self.parameters))} "
                    f"(there are {known})",
                )
            self.parameters[name] = value
        settings = self.mapping(found, "settings")
        self.check_keys(settings, settings, _SETTINGS, "settings")
        self.settings |= {k: self.text(v, settings.lines[k]) for k, v in settings.items()}
        inputs = {
            name: self.text(value, found["inputs"].lines[name])
            for name, value in self.mapping(found, "inputs").items()
        }
        spread: set[str] = set()
        steps = self.steps(found, inputs, spread)
        ordered = self.ordered(steps, inputs)
        outputs = self.outputs(found, {*inputs, *(s.name for s in steps)})
        used = {n for s in steps for n in s.needs} | set(outputs) | spread
        unused = [s.name for s in steps if s.name not in used] + [
            n for n in inputs if n not in used
        ]
        title = self.text(found.get("title") or "", found.lines.get("title", 1))
        return Recipe(
            path=self.path,
            title=title,
            inputs=inputs,
            steps=ordered,
            outputs=outputs,
            unused=unused,
            parameters=self.parameters,
        )

    def text(self, value: Any, line: int) -> str:
        """Return a value as text, parameters filled in."""

        def fill(match: re.Match[str]) -> str:
            if match[1] not in self.parameters:
                raise self.fail(
                    line,
                    f"there is no parameter {match[1]!r}"
                    f"{did_you_mean(match[1], list(self.parameters))}",
                )
            if match[1] in self.unset:
                raise self.fail(line, f"parameter {match[1]!r} has no value; set one")
            return self.parameters[match[1]]

        if value is None:
            raise self.fail(line, "a value is wanted here, and there is none")
        if isinstance(value, (list, dict)):
            raise self.fail(line, "one value is wanted here, and there are several")
        return _REFERENCE.sub(fill, str(value))

    def steps(self, found: Lined, inputs: dict[str, str], spread: set[str]) -> list[RecipeStep]:
        """Read the steps; those for each of several become as many, their layers more inputs."""
        given = found.get("steps")
        if not isinstance(given, list) or not given:
            raise self.fail(
                found.lines.get("steps"), "a recipe needs a list of steps, each with a dash"
            )
        steps: list[RecipeStep] = []
        taken = dict.fromkeys(inputs, "an input")
        for item in given:
            if not isinstance(item, Lined):
                raise self.fail(
                    found.lines["steps"], f"{item!r} is no step; write it as - clip: roads"
                )
            for step in self.each(item, inputs, spread):
                if step.name in taken and step.name not in inputs:
                    raise self.fail(
                        step.line, f"{step.name!r} is {taken[step.name]} already; say as: NAME"
                    )
                if step.name in inputs:
                    raise self.fail(step.line, f"{step.name!r} is an input already; say as: NAME")
                taken[step.name] = "a step"
                steps.append(step)
        return steps

    def each(self, item: Lined, inputs: dict[str, str], spread: set[str]) -> list[RecipeStep]:
        """Read a step, once or for each of several names as ``${each}``."""
        if _EACH not in item:
            return [self.step(item)]
        line = item.lines[_EACH]
        given = item[_EACH] if isinstance(item[_EACH], list) else [item[_EACH]]
        names: list[str] = []
        for value in given:
            name = self.text(value, line)
            if name not in inputs:
                names.append(name)
                continue
            layers = self.layers_of(inputs[name])
            if len(layers) == 1:
                names.append(name)
                continue
            spread.add(name)
            for place in layers:
                own = place.rpartition("#")[2]
                inputs.setdefault(own, place)
                names.append(own)
        rest = Lined()
        rest.update({k: v for k, v in item.items() if k != _EACH})
        rest.lines, rest.line = item.lines, item.line
        steps = []
        for name in names:
            self.parameters["each"] = name
            steps.append(self.step(rest))
        del self.parameters["each"]
        return steps

    def step(self, item: Lined) -> RecipeStep:
        command, *rest = item
        line = item.lines[command]
        if command not in self.commands:
            told = finding.exactly(command)
            own = "" if told is None or told.command == command else told.command
            hint = f"; that is {own} here" if own else ""
            raise self.fail(
                line,
                f"{command!r} is no command for a step"
                f"{hint or did_you_mean(command, list(self.commands))} "
                f"(there are {', '.join(self.commands)})",
            )
        options = self.commands[command]
        for key in rest:
            own = finding.OPTIONS.get(f"--{key}", "").removeprefix("--")
            if key not in options and own in options:
                raise self.fail(item.lines[key], f"{key!r} is called {own!r} here")
        self.check_keys(item, rest, [*options, "as", "expect"], f"{command}")
        names = item[command] if isinstance(item[command], list) else [item[command]]
        names = tuple(self.text(n, line) for n in names)
        given: dict[str, Any] = {}
        for key in rest:
            if key in ("as", "expect"):
                continue
            values = item[key] if isinstance(item[key], list) else [item[key]]
            if options[key].is_flag:
                if self.truth(item, key):
                    given[key] = True
                continue
            if len(values) > 1 and not options[key].is_many:
                values = [",".join(_in_a_list(key, str(v)) for v in values)]
            given[key] = [self.text(v, item.lines[key]) for v in values]
            self.check_values(options[key], key, given[key], item.lines[key])
        for key, value in self.settings.items():
            if key in options and key not in given:
                given[key] = [value]
        self.check_expectations(item, command)
        name = self.text(item.get("as", f"{command}_{names[0]}"), line)
        return RecipeStep(
            name=name,
            command=command,
            inputs=names,
            given=given,
            expect=self.mapping(item, "expect"),
            line=line,
        )

    def check_values(self, option: Option, key: str, values: Sequence[str], line: int) -> None:
        if option.takes_layer:
            return
        for value in values:
            try:
                option.check(value)
            except ValueError as err:
                raise self.fail(line, f"{key}: {err}") from err

    def check_expectations(self, item: Lined, command: str) -> None:
        wanted = self.mapping(item, "expect")
        for name, value in wanted.items():
            line = wanted.lines[name]
            if COMMANDS[command].figure:
                raise self.fail(line, f"{command} makes no layer to expect anything of")
            try:
                check_text(name, expectation_text(value))
            except UsageError as err:
                raise self.fail(line, str(err)) from err

    def ordered(self, steps: Sequence[RecipeStep], inputs: Mapping[str, str]) -> list[RecipeStep]:
        """Put steps in an order in which each finds what it needs."""
        by_name = {step.name: step for step in steps}
        known = [*inputs, *by_name]
        for step in steps:
            for name in step.needs:
                if name not in known:
                    raise self.fail(
                        step.line,
                        f"{step.name!r} needs {name!r}, which is neither an input nor a step"
                        f"{did_you_mean(name, known)}",
                    )
                if name in by_name and by_name[name].is_figure:
                    raise self.fail(
                        step.line,
                        f"{step.name!r} needs a layer, and {name!r} is what {by_name[name].command} "
                        "makes",
                    )
        done: dict[str, RecipeStep] = {}
        rest = list(steps)
        while rest:
            ready = [s for s in rest if all(n in inputs or n in done for n in s.needs)]
            if not ready:
                names = " → ".join(s.name for s in rest[:6])
                raise self.fail(rest[0].line, f"these steps need each other in a circle: {names}")
            done |= {s.name: s for s in ready}
            rest = [s for s in rest if s.name not in done]
        return list(done.values())

    def outputs(self, found: Lined, known: set[str]) -> dict[str, str]:
        given = self.mapping(found, "outputs")
        if not given:
            raise self.fail(found.lines.get("outputs"), "the recipe has no outputs")
        outputs = {}
        for pattern, destination in given.items():
            line = given.lines[pattern]
            is_pattern = any(sign in pattern for sign in "*?[")
            names = sorted(fnmatch.filter(known, pattern)) if is_pattern else [pattern]
            if not names or not set(names) <= known:
                raise self.fail(
                    line,
                    f"there is no input or step {pattern!r}{did_you_mean(pattern, sorted(known))}",
                )
            text = self.text(destination, line)
            if len(names) > 1 and "{name}" not in text:
                raise self.fail(
                    line, f"{pattern!r} stands for {len(names)} results; put {{name}} into {text!r}"
                )
            folder = self.settings.get("folder", "")
            for name in names:
                outputs[name] = _filled(folder, text, name)
        return outputs


def _filled(folder: str, text: str, name: str) -> str:
    """Fill a name into a destination: into its path so that it does not lead elsewhere."""
    path, mark, layer = text.partition("#")
    filled = path.replace("{name}", file_name(name)) + mark + layer.replace("{name}", name)
    is_folder = filled.endswith(("/", os.sep))
    return str(Path(folder) / filled) + (os.sep if is_folder else "")


def _in_a_list(key: str, text: str) -> str:
    """Return what stands in a list with commas between, a name with a comma in it in quotes."""
    is_name = key in _NAMES and "," in text and not text.startswith('"')
    return f'"{text}"' if is_name else text
