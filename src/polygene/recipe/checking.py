"""What can be known of a recipe's layers before anything runs: their fields and their kind.

Fields are followed as far as it is certain what a command makes of them; beyond that nothing is said.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from polygene.classes import dataclass
from polygene.commands import COMMANDS, LIKE_INPUT
from polygene.errors import (
    ExpressionError,
    FileError,
    PolygeneError,
    SheetError,
    UsageError,
    did_you_mean,
    listed,
)
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.formats.base import check_is_here
from polygene.info import NO_GEOMETRY
from polygene.ops.grouped import fields_of
from polygene.recipe.reading import Recipe, RecipeStep
from polygene.table.expression import Expression
from polygene.table.tokens import names_of, terms_of

POLYGONS = "polygons"
_TAKE_SEVERAL = ("merge", "draw", "page")
# Options that name fields of INPUT, with commas between.
_NAME_FIELDS = ("keep", "drop", "sort", "refresh", "apportion")


@dataclass(frozen=True)
class Known:
    """What is known of a layer: its fields and kind (points, lines, polygons), or None."""

    fields: Sequence[str] | None
    kind: str | None


def check(recipe: Recipe) -> dict[str, Known]:
    """Check a recipe against its layers; return what is known of each, by name.

    Raises
    ------
    SheetError
        For the first mistake, with its line: a layer or field that is not there, a wrong kind.
    """
    known = {name: _of_input(recipe, name, text) for name, text in recipe.inputs.items()}
    for step in recipe.steps:
        first = known[step.inputs[0]]
        others = [known[name] for name in step.given.get("with", [])]
        _check_number(recipe, step)
        _check_kinds(recipe, step, first, others)
        if len(step.inputs) == 1 and first.fields is not None:
            _check_fields(recipe, step, first.fields)
        known[step.name] = _after(step, first)
    _check_outputs(recipe)
    return known


def _check_outputs(recipe: Recipe) -> None:
    """Refuse now what could not be written when all is done."""
    figures = {step.name: step.command for step in recipe.steps if step.is_figure}
    for name, text in recipe.outputs.items():
        try:
            if name in figures:
                _check_file(Path(text), COMMANDS[figures[name]].figure)
            else:
                destination.check(text, [LayerRef(Path(name), name)], "replace", keeps_names=True)
        except PolygeneError as err:
            raise SheetError(recipe.path, None, f"output {name!r}: {err}") from err


def _check_file(path: Path, endings: Sequence[str]) -> None:
    check_is_here(path)
    if path.suffix.lower() not in endings:
        raise UsageError(f"{path} does not end in one of {', '.join(endings)}")
    if not path.parent.is_dir():
        raise FileError(f"cannot write {path}: there is no folder {path.parent}")


def _of_input(recipe: Recipe, name: str, text: str) -> Known:
    refs = address.resolve(text)
    if len(refs) != 1:
        return Known(None, None)
    info = address.info_of(refs[0])
    if info is None or info.problem or info.geometry == NO_GEOMETRY:
        return Known(None, None)
    words = info.geometry.split(" ")[0].removeprefix("multi")
    kind = f"{words}s" if words in ("point", "line", "polygon") else None
    return Known([field for field, _ in info.fields], kind)


def _check_number(recipe: Recipe, step: RecipeStep) -> None:
    """Refuse several layers where a command makes one of each: a step has one result."""
    if step.command in _TAKE_SEVERAL:
        return
    texts = [recipe.inputs[name] for name in step.inputs if name in recipe.inputs]
    n = len(step.inputs) - len(texts) + sum(len(address.resolve(text)) for text in texts)
    if n > 1:
        raise SheetError(
            recipe.path,
            step.line,
            f"{step.command} makes a layer of each of {n}, and a step has one result; say "
            f"`for each: [{', '.join(step.inputs)}]`",
        )


def _check_kinds(recipe: Recipe, step: RecipeStep, first: Known, others: Sequence[Known]) -> None:
    role = COMMANDS[step.command].needs_polygons
    if role == LIKE_INPUT:
        role = "OTHER" if first.kind == POLYGONS else ""
    if not role:
        return
    named = dict(zip(step.given.get("with", []), others, strict=True))
    if role == "INPUT and OTHER":
        named |= {step.inputs[0]: first}
    for name, one in named.items():
        if one.kind not in (None, POLYGONS):
            raise SheetError(
                recipe.path,
                step.line,
                f"{step.command} needs polygons as {role}, and {name!r} has {one.kind}",
            )


def _check_fields(recipe: Recipe, step: RecipeStep, fields: Sequence[str]) -> None:
    asked: list[str] = []
    for key in _NAME_FIELDS:
        if key in step.given and key not in _of_others(step):
            names = _names(step.given, key)
            asked += [
                n.removeprefix("-") if key == "sort" and n not in fields else n for n in names
            ]
    asked += _grouped_by(recipe, step, fields)
    for text in step.given.get("where", []):
        try:
            expression = Expression(text)
        except ExpressionError as err:
            raise SheetError(recipe.path, step.line, str(err)) from err
        if not expression.looks_at_geometry:
            asked += expression.fields
    for name in asked:
        if name not in fields:
            raise SheetError(
                recipe.path,
                step.line,
                f"{step.inputs[0]!r} has no field {name!r}{did_you_mean(name, list(fields))}\n"
                f"  its fields: {listed(list(fields))}",
            )


def _of_others(step: RecipeStep) -> tuple[str, ...]:
    """Return the options that may name fields of OTHER, or fields that the step makes."""
    found: tuple[str, ...] = ("refresh", "apportion") if "with" in step.given else ()
    if step.command == "join" or {"set", "rename"} & set(step.given):
        found += ("keep", "drop")
    return (*found, "sort") if step.command == "tally" else found


def _after(step: RecipeStep, first: Known) -> Known:
    """Return what is known of a step's result."""
    command = COMMANDS[step.command]
    kind = first.kind if command.kind == "INPUT's" else None
    if command.kind == POLYGONS:
        kind = POLYGONS
    fields = first.fields if command.keeps_fields else None
    if fields is not None and step.given.get("keep"):
        fields = _names(step.given, "keep")
    if fields is not None and step.given.get("drop"):
        fields = [name for name in fields if name not in _names(step.given, "drop")]
    return Known(fields, kind)


def _names(given: Mapping[str, Any], key: str) -> list[str]:
    return [name for text in given[key] for name in names_of(text)]


def _grouped_by(recipe: Recipe, step: RecipeStep, fields: Sequence[str]) -> list[str]:
    """Return the fields that groups are of, which may be expressions; none if they look at more."""
    terms = [term for text in step.given.get("by", []) for term in terms_of(text)]
    try:
        return fields_of(fields, terms)
    except ExpressionError as err:
        raise SheetError(recipe.path, step.line, str(err)) from err
    except UsageError:
        return []
