"""Reading and checking a recipe before anything runs."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from polygene.errors import did_you_mean
from polygene.lined_yaml import Lined, SheetReader, load

_KEYS = ("title", "parameters", "inputs", "steps", "outputs")
_REFERENCE = re.compile(r"\$\{(\w+)\}")


@dataclass(frozen=True)
class Option:
    """An option of a command as a recipe knows it: how it is written, and whether it is a flag."""

    flag: str
    is_flag: bool
    is_many: bool
    takes_layer: bool


@dataclass(frozen=True)
class Step:
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
        return [*self.inputs, *self.given.get("with", [])]


@dataclass(frozen=True)
class Recipe:
    """A checked recipe, its steps in an order in which they can run.

    inputs : name → layer address; outputs : name of an input or step → destination
    """

    path: Path
    title: str
    inputs: Mapping[str, str]
    steps: Sequence[Step]
    outputs: Mapping[str, str]
    unused: Sequence[str]


def read_recipe(
    path: Path, commands: Mapping[str, Mapping[str, Option]], given: Mapping[str, str]
) -> Recipe:
    """Read a recipe and check all of it.

    Parameters
    ----------
    commands : what each command that may be a step knows, by the keys of its options
    given : parameters to set instead of their defaults

    Raises
    ------
    SheetError
        For the first mistake, with its line.
    """
    return _Reader(path, commands, given).recipe(load(path))


class _Reader(SheetReader):
    def __init__(
        self, path: Path, commands: Mapping[str, Mapping[str, Option]], given: Mapping[str, str]
    ) -> None:
        super().__init__(path)
        self.commands, self.given = commands, given
        self.parameters: dict[str, str] = {}

    def recipe(self, found: Lined) -> Recipe:
        self.check_keys(found, found, _KEYS, "a recipe")
        self.parameters = {k: str(v) for k, v in self.mapping(found, "parameters").items()}
        for name, value in self.given.items():
            if name not in self.parameters:
                known = ", ".join(self.parameters) or "none"
                raise self.fail(
                    found.lines.get("parameters"),
                    f"there is no parameter {name!r}{did_you_mean(name, list(self.parameters))} "
                    f"(there are {known})",
                )
            self.parameters[name] = value
        inputs = {
            name: self.text(value, found["inputs"].lines[name])
            for name, value in self.mapping(found, "inputs").items()
        }
        steps = self.steps(found, inputs)
        ordered = self.ordered(steps, inputs)
        outputs = self.outputs(found, {*inputs, *(s.name for s in steps)})
        used = {n for s in steps for n in s.needs} | set(outputs)
        unused = [s.name for s in steps if s.name not in used] + [
            n for n in inputs if n not in used
        ]
        return Recipe(self.path, str(found.get("title", "")), inputs, ordered, outputs, unused)

    def text(self, value: Any, line: int) -> str:
        """Return a value as text, parameters filled in."""

        def fill(match: re.Match[str]) -> str:
            if match[1] not in self.parameters:
                raise self.fail(
                    line,
                    f"there is no parameter {match[1]!r}"
                    f"{did_you_mean(match[1], list(self.parameters))}",
                )
            return self.parameters[match[1]]

        if isinstance(value, bool):
            return "true" if value else "false"
        return _REFERENCE.sub(fill, str(value))

    def steps(self, found: Lined, inputs: Mapping[str, str]) -> list[Step]:
        given = found.get("steps")
        if not isinstance(given, list) or not given:
            raise self.fail(
                found.lines.get("steps"), "a recipe needs a list of steps, each with a dash"
            )
        steps: list[Step] = []
        taken = dict.fromkeys(inputs, "an input")
        for item in given:
            if not isinstance(item, Lined):
                raise self.fail(
                    found.lines["steps"], f"{item!r} is no step; write it as - clip: roads"
                )
            step = self.step(item)
            if step.name in taken:
                raise self.fail(
                    step.line, f"{step.name!r} is {taken[step.name]} already; say as: NAME"
                )
            taken[step.name] = "a step"
            steps.append(step)
        return steps

    def step(self, item: Lined) -> Step:
        command, *rest = item
        line = item.lines[command]
        if command not in self.commands:
            raise self.fail(
                line,
                f"there is no command {command!r} for a step"
                f"{did_you_mean(command, list(self.commands))} (there are {', '.join(self.commands)})",
            )
        options = self.commands[command]
        self.check_keys(item, rest, [*options, "as", "expect"], f"{command}")
        names = item[command] if isinstance(item[command], list) else [item[command]]
        names = tuple(self.text(n, line) for n in names)
        given: dict[str, Any] = {}
        for key in rest:
            if key in ("as", "expect"):
                continue
            values = item[key] if isinstance(item[key], list) else [item[key]]
            if options[key].is_flag:
                if values not in ([True], [False]):
                    raise self.fail(item.lines[key], f"{key!r} is true or false")
                if values == [True]:
                    given[key] = True
                continue
            if len(values) > 1 and not options[key].is_many:
                values = [",".join(str(v) for v in values)]
            given[key] = [self.text(v, item.lines[key]) for v in values]
        name = self.text(item.get("as", f"{command}_{names[0]}"), line)
        return Step(name, command, names, given, self.mapping(item, "expect"), line)

    def ordered(self, steps: Sequence[Step], inputs: Mapping[str, str]) -> list[Step]:
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
        done: dict[str, Step] = {}
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
        for name, destination in given.items():
            if name not in known:
                raise self.fail(
                    given.lines[name],
                    f"there is no input or step {name!r}{did_you_mean(name, sorted(known))}",
                )
            outputs[name] = self.text(destination, given.lines[name])
        return outputs
