"""``polygene run``."""

from __future__ import annotations

import contextlib
import io
import sys
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show
from polygene.commands import COMMANDS

if TYPE_CHECKING:
    from polygene.recipe.kept import Told
    from polygene.recipe.reading import Option, Recipe, Step
    from polygene.recipe.running import Ran

STEPS = tuple(name for name, command in COMMANDS.items() if command.is_step)
_NOT_KEYS = (
    "inputs",
    "out",
    "replace",
    "next_",
    "as_json",
    "quiet",
    "keep_dump",
    "propose",
    "relations",
    "differ",
    "links",
    "stop_at_first",
)


@options.command()
@click.argument("recipe", type=click.Path(path_type=Path))
@click.option("--set", "given", multiple=True, metavar="NAME=VALUE", help="Set a parameter.")
@click.option(
    "--from-lineage", metavar="LAYER", help="Write RECIPE anew, as the one that made this layer."
)
@options.replace
@click.option("--report", metavar="FILE", help="Write a page about the run: an .html file.")
@click.option("--dry-run", is_flag=True, help="Check the recipe and print the plan; run nothing.")
@options.json
@options.quiet
def run(
    recipe: Path,
    given: tuple[str, ...],
    from_lineage: str | None,
    replace: bool,
    report: str | None,
    dry_run: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Run a recipe file: inputs, steps and outputs (docs/recipes.md).

    The whole file is checked first. Only what changed since the last run is done anew; all outputs are
    written together at the end, or none.

    \b
    Examples:
      polygene run recipe.yaml --dry-run
      polygene run recipe.yaml --report report.html
      polygene run again.yaml --from-lineage result.gpkg#quiet_zones
    """
    if from_lineage is not None:
        _write_recipe(recipe, from_lineage, replace, as_json, quiet)
        return
    if report is not None and Path(report).suffix.lower() not in (".html", ".htm"):
        raise click.UsageError(f"{report} is no .html file")
    from polygene.errors import FileError
    from polygene.recipe.checking import check
    from polygene.recipe.reading import read_recipe
    from polygene.recipe.running import run as run_recipe

    began = time.monotonic()
    known = {name: _options_of(name) for name in STEPS}
    parameters = dict(_pair(text) for text in given)
    page = None if report is None else Path(report).absolute()
    if page is not None and not page.parent.is_dir():
        raise FileError(f"cannot write {report}: there is no folder {page.parent}")
    found = read_recipe(
        recipe, known, parameters, lambda text: _layers_of(recipe, text), _defaults(recipe)
    )
    with contextlib.chdir(recipe.parent):
        _check_inputs(found)
        check(found)
        if dry_run:
            show.facts("run", lambda: [_plan_of(step) for step in found.steps], as_json)
            if not as_json:
                _print_plan(found)
            return
        where = _inside(found)
        wide = max(18, *(len(name) for name in (*found.outputs, *(s.name for s in found.steps))))

        def tell(ran: Ran) -> None:
            if not (quiet or as_json):
                what = "as last time" if ran.is_reused else f"{ran.seconds:.2f} s"
                count = "" if ran.features is None else f"{show.counted(ran.features, 'feature')}, "
                words = f"{ran.step.command}: {count}{what}"
                show.line(ran.step.name, words, sys.stderr, wide=wide)

        if not (quiet or as_json):
            show.title(found.title or found.path.stem, stream=sys.stderr)
        finished = run_recipe(where, _execute, known, tell)
        if page is not None:
            _write_report(page, found, finished, time.monotonic() - began)
    unused = [f"{name} is used by nothing" for name in found.unused]
    told = [note for ran in finished.ran for note in ran.facts.get("notes", ())]
    show.facts(
        "run",
        lambda: [_facts(ran, found.outputs) for ran in finished.ran],
        as_json,
        notes=[*told, *unused],
        seconds=time.monotonic() - began,
    )
    if not (quiet or as_json):
        for name, text in found.outputs.items():
            show.line("written", f"{name} to {text}", sys.stderr, wide=wide)
        if report is not None:
            show.line("report", report, sys.stderr, wide=wide)
        show.line("in all", f"{time.monotonic() - began:.2f} s", sys.stderr, wide=wide)
        for text in unused:
            show.note(text)


def _facts(ran: Ran, outputs: Mapping[str, str]) -> dict[str, Any]:
    """Return what ``--json`` prints of a step; ``told`` is what its command tells of its results."""
    return {
        "step": ran.step.name,
        "command": ran.step.command,
        "line": ran.line,
        "written": outputs.get(ran.step.name),
        "features": ran.features,
        "reused": ran.is_reused,
        "seconds": round(ran.seconds, 3),
        "held": list(ran.held),
        "told": ran.facts.get("results", []),
    }


def _plan_of(step: Step) -> dict[str, Any]:
    return {
        "step": step.name,
        "command": step.command,
        "inputs": list(step.inputs),
        "given": dict(step.given),
    }


def _write_report(path: Path, found: Recipe, finished: Any, seconds: float) -> None:
    from polygene.formats.base import replacing
    from polygene.recipe.report import report

    with replacing(path) as temporary:
        temporary.write_text(report(found, finished, seconds), encoding="utf-8")


def _defaults(recipe: Path) -> dict[str, str]:
    """Return the settings of the recipe's folder that its steps follow."""
    with contextlib.chdir(recipe.parent):
        settings = options.settings_here()
    if settings is None:
        return {}
    own = {"crs": settings.crs, "precision": settings.precision}
    return {name: value for name, value in own.items() if value}


def _layers_of(recipe: Path, text: str) -> list[str]:
    """Return the addresses of the layers that one stands for, seen from the recipe's folder."""
    from polygene.formats import address

    with contextlib.chdir(recipe.parent):
        return [ref.words for ref in address.resolve(text)]


def _write_recipe(path: Path, layer: str, replaces: bool, as_json: bool, quiet: bool) -> None:
    """Write the recipe that made a layer."""
    from polygene.errors import ExistsError, UsageError
    from polygene.formats import address
    from polygene.formats.base import replacing
    from polygene.lineage import Made, source
    from polygene.recipe.from_lineage import draft

    if path.exists() and not replaces:
        raise ExistsError(f"{path} exists; --replace overwrites it")
    refs = address.resolve(layer)
    if len(refs) > 1:
        raise UsageError(f"{layer!r} stands for {len(refs)} layers; name one of them")
    found = address.read(refs[0]).layers[0]
    own = found.lineage or source(Made(found.name, refs[0].words, found.n_rows, ""))
    known = {name: _options_of(name) for name in STEPS}
    destination = f"again.gpkg#{found.name}"
    drafted = draft(own, known, path.parent, refs[0].path.parent, destination)
    with replacing(path) as temporary:
        temporary.write_text(drafted.text, encoding="utf-8")
    facts = {"written": str(path), "steps": drafted.steps, "inputs": drafted.inputs}
    show.facts("run", lambda: [facts], as_json, notes=drafted.notes)
    if not (quiet or as_json):
        words = f"{show.counted(drafted.steps, 'step')}, {show.counted(drafted.inputs, 'input')}"
        show.line("written", f"{path}: {words}, to {destination}", sys.stderr)
        for text in drafted.notes:
            show.note(text)


def _inside(found: Recipe) -> Recipe:
    """Return the recipe as seen from its own folder."""
    from dataclasses import replace

    return replace(found, path=Path(found.path.name))


def _pair(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals:
        raise click.UsageError(f"{text!r} sets nothing; write it as NAME=VALUE")
    return name.strip(), value.strip()


def _options_of(name: str) -> dict[str, Option]:
    """Return the options of a command by the keys they have in a recipe."""
    from polygene.cli.main import cli
    from polygene.recipe.reading import Option

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
            flag, parameter.is_flag, parameter.multiple, flag == "--with", _checker(parameter)
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
    from polygene.cli.main import cli
    from polygene.recipe.kept import Told

    said = io.StringIO()
    context = click.Context(cli)
    chosen = cli.get_command(context, command)
    assert chosen is not None
    with (
        contextlib.redirect_stderr(said),
        contextlib.redirect_stdout(said),
        show.keeping_facts() as facts,
    ):
        code: Any = None
        try:
            code = chosen.main(arguments, prog_name=f"polygene {command}", standalone_mode=False)
        except SystemExit as err:
            code = err.code
    if code:
        from polygene.errors import DataError

        raise DataError(f"{command} failed:\n{said.getvalue()}")
    return Told(said.getvalue(), facts[0] if facts else {})


def _print_plan(found: Recipe) -> None:
    show.title(found.title or found.path.stem, "checked; nothing was run")
    for name, text in found.inputs.items():
        show.line(name, text, wide=18)
    for step in found.steps:
        more = "".join(
            f", {key}" if value is True else f", {key} {' and '.join(value)}"
            for key, value in step.given.items()
        )
        show.line(step.name, f"{step.command} {' and '.join(step.inputs)}{more}", wide=18)
    for name, text in found.outputs.items():
        show.line("output", f"{name} to {text}", wide=18)
    for name in found.unused:
        show.note(f"{name} is used by nothing")
