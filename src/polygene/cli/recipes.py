"""Recipes with the program's commands as steps: what they may say, and running one."""

from __future__ import annotations

import contextlib
import io
import os
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import outcome, recording, show
from polygene.commands import COMMANDS
from polygene.written import noting

if TYPE_CHECKING:
    from polygene.recipe.kept import Told
    from polygene.recipe.reading import Option, Recipe
    from polygene.recipe.running import Finished, Ran

STEPS = tuple(name for name, command in COMMANDS.items() if command.is_step)
_NOT_KEYS = (
    "inputs",
    "out",
    "replace",
    "next_",
    "no_proof",
    "if_changed",
    "piped",
    "as_json",
    "quiet",
    "keep_dump",
    "propose",
    "relations",
    "differ",
    "links",
    "stop_at_first",
    "dry_run",
    "fresh",
    "verbose",
)


def known_options() -> dict[str, dict[str, Option]]:
    """Return the options of every command that may be a step, by the keys they have in a recipe."""
    return {name: _options_of(name) for name in STEPS}


def read(
    recipe: Path, given: Mapping[str, str], known: Mapping[str, Mapping[str, Option]]
) -> Recipe:
    """Read a recipe and check all of it, but for what only running it can show.

    Raises
    ------
    PolygeneError
        If something in it is wrong, with its line.
    """
    from polygene.recipe.checking import check
    from polygene.recipe.reading import read_recipe

    found = read_recipe(
        recipe, known, given, lambda text: _layers_of(recipe, text), _defaults(recipe)
    )
    with contextlib.chdir(recipe.parent):
        _check_inputs(found)
        check(found)
    return found


def run_read(
    found: Recipe,
    known: Mapping[str, Mapping[str, Option]],
    tell: Callable[[Ran], None],
    grounds: Mapping[str, str] | None = None,
    replaces: bool = False,
) -> Finished:
    """Run a recipe that was read; ``tell`` hears of each step as it is done.

    ``grounds`` are the options by which its steps work in tasks, as texts.
    """
    from polygene.recipe.running import run as run_steps

    with contextlib.chdir(found.path.parent):
        return run_steps(_inside(found), _execute, known, tell, grounds, replaces)


def check_outputs(found: Recipe, replaces: bool) -> None:
    """Refuse outputs that may not be written over, as a run would."""
    from polygene.recipe.outputs import check

    with contextlib.chdir(found.path.parent):
        check(_inside(found), replaces)


def run(
    recipe: str | os.PathLike[str],
    *,
    given: Mapping[str, object] | None = None,
    report: str | os.PathLike[str] | None = None,
    replace: bool = False,
) -> Finished:
    """Run a recipe file: inputs, steps and outputs (docs/recipes.md).

    The whole file is checked first. Only what changed since the last run is done anew; all outputs are
    written together at the end, or none.

    Parameters
    ----------
    given : values of parameters of the recipe
    report : an .html file to write a page about the run to
    replace : write over results that no run of this recipe has written

    Raises
    ------
    PolygeneError
        If something in it is wrong, or a step fails; then no output is written.
    """
    began = time.monotonic()
    known = known_options()
    texts = {name: str(value) for name, value in (given or {}).items()}
    found = read(Path(recipe), texts, known)
    page = None if report is None else page_of(report, found, replace)
    finished = run_read(found, known, lambda ran: None, replaces=replace)
    if page is not None:
        write_report(page, found, finished, time.monotonic() - began)
    return finished


def page_of(report: str | os.PathLike[str], found: Recipe, replaces: bool) -> Path:
    """Return where a report goes, as it is wherever one works.

    Raises
    ------
    UsageError, FileError, ExistsError
        If it is no .html file, has no folder, or is there and not of an earlier run.
    """
    from polygene.errors import FileError, UsageError
    from polygene.formats.base import check_is_here
    from polygene.recipe.owned import Guard

    check_is_here(report)
    page = Path(report).absolute()
    if page.suffix.lower() not in (".html", ".htm"):
        raise UsageError(f"{report} is no .html file")
    if not page.parent.is_dir():
        raise FileError(f"cannot write {report}: there is no folder {page.parent}")
    with contextlib.chdir(found.path.parent):
        Guard(_inside(found), replaces).check_file(page, os.fspath(report))
    return page


def write_report(path: Path, found: Recipe, finished: Finished, seconds: float) -> None:
    """Write the page about a run, seen from the recipe's folder."""
    from polygene.commit.together import replacing
    from polygene.recipe.owned import Place, take
    from polygene.recipe.report import report

    with contextlib.chdir(found.path.parent), replacing(path) as temporary:
        temporary.write_text(report(found, finished, seconds), encoding="utf-8")
    with contextlib.chdir(found.path.parent):
        take(_inside(found), [Place(os.path.realpath(path))])


def _defaults(recipe: Path) -> dict[str, str]:
    """Return the settings of the recipe's folder that its steps follow."""
    with contextlib.chdir(recipe.parent):
        settings = recording.settings_here()
    if settings is None:
        return {}
    own = {"crs": settings.crs, "precision": settings.precision}
    return {name: value for name, value in own.items() if value}


def _layers_of(recipe: Path, text: str) -> list[str]:
    """Return the addresses of the layers that one stands for, seen from the recipe's folder."""
    from polygene.formats import address

    with contextlib.chdir(recipe.parent):
        return [ref.words for ref in address.resolve(text)]


def _inside(found: Recipe) -> Recipe:
    """Return the recipe as seen from its own folder."""
    from dataclasses import replace

    return replace(found, path=Path(found.path.name))


def _options_of(name: str) -> dict[str, Option]:
    """Return the options of a command by the keys they have in a recipe."""
    from polygene.cli.main import cli
    from polygene.recipe.reading import LAYER_OPTIONS, Option

    command = cli.get_command(click.Context(cli), name)
    assert command is not None
    found = {}
    for parameter in command.params:
        if not isinstance(parameter, click.Option) or parameter.name in _NOT_KEYS:
            continue
        flag = max(parameter.opts, key=len)
        if flag == "--help":
            continue
        found[flag.lstrip("-")] = Option(
            flag=flag,
            is_flag=parameter.is_flag,
            is_many=parameter.multiple,
            takes_layer=flag.lstrip("-") in LAYER_OPTIONS,
            check=_checker(parameter),
        )
    return found


def _checker(option: click.Option) -> Callable[[str], None]:
    """Return what raises a ValueError for a text that an option does not take."""

    def check(text: str) -> None:
        try:
            option.type.convert(text, option, None)
        except click.BadParameter as err:
            raise ValueError(err.message) from err

    return check


def _check_inputs(found: Recipe) -> None:
    """Refuse a recipe whose inputs are not there, with the line."""
    from polygene.errors import PolygeneError, SheetError
    from polygene.formats import address

    for name, text in found.inputs.items():
        try:
            address.resolve(text)
        except PolygeneError as err:
            raise SheetError(found.path, None, f"input {name!r}: {err}") from err


def _execute(command: str, arguments: list[str]) -> Told:
    """Run a command as if it had been typed; return what it told."""
    from polygene.cli.main import as_ours, cli
    from polygene.errors import UsageError
    from polygene.recipe.kept import Told

    said = io.StringIO()
    context = click.Context(cli)
    chosen = cli.get_command(context, command)
    assert chosen is not None
    with (
        contextlib.redirect_stderr(said),
        contextlib.redirect_stdout(said),
        outcome.keeping() as told,
        noting(),  # what a step writes is for the next run, and no result
    ):
        code: Any = None
        try:
            code = chosen.main(arguments, prog_name=f"polygene {command}", standalone_mode=False)
        except SystemExit as err:
            code = err.code
        except click.ClickException as err:
            raise UsageError(as_ours(err.format_message())) from err
    if code:
        from polygene.errors import DataError

        raise DataError(f"{command} failed:\n{said.getvalue()}")
    return Told(show.text_of(told[0].words.blocks), outcome.document(told[0]))
