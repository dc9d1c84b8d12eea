"""``polygene demo``."""

from __future__ import annotations

import contextlib
import io
import shlex
from pathlib import Path

import click

from polygene.cli import options, outcome, recording, show

# Beside the package itself.
MADE = (
    "resurvey.geojson", "waters.geojson", "landings.csv", "recipe.yaml", "surveys.yaml", "result.gpkg",
    "seagrass.csv", "map.png", "report.html",
)  # fmt: skip


@recording.command()
@click.argument("folder", default="tolva", type=click.Path(path_type=Path))
@options.json
def demo(folder: Path, as_json: bool) -> None:
    """Write the sample data to FOLDER, run the sample recipe on it, and make a report of it.

    FOLDER is ./tolva if not given. It is the made-up marine park of Tolva Sound: sectors, islands,
    lanes, cables, buoys and two surveys of seagrass; and the waters of the earth, as a made-up
    commission reports them, to lay it over.

    \b
    Example:
      polygene demo tolva
    """
    from polygene.cli.words.blocks import Words
    from polygene.kernels import IS_COMPILED
    from polygene.sample import landings, tolva, waters
    from polygene.written import noting

    say = Words()
    if not IS_COMPILED:
        say.note(
            "the kernels run uncompiled: same results, slower; a C compiler at install cures it"
        )
    for text in say.notes if not as_json else ():
        show.note(text)
    _check_folder(folder)
    with noting() as written:
        package, patches = tolva.write(folder)
        around, table = waters.write(folder), landings.write(folder)
        recipe = tolva.write_recipe(folder)
        result, page = folder / "result.gpkg", folder / "report.html"
        # Of a version that did not note what a recipe wrote.
        again = ["--replace"] if result.exists() else []
        for words in (
            ["layers", str(package), str(patches), str(around), str(table)],
            ["audit", f"{package}#beds_*"],
            ["run", str(recipe), "--report", str(page), *again],
            ["lineage", f"{result}#quiet_zones"],
            ["layers", str(result)],
        ):
            _play(words, as_json)
    if as_json:
        facts = {"written": [str(folder / Path(place).name) for place in written]}
        outcome.tell(outcome.Outcome("demo", [facts], say), as_json)


def _check_folder(folder: Path) -> None:
    """Refuse a folder that has files of these names and is none that a demo was in before."""
    from polygene.errors import ExistsError

    if (folder / "tolva.gpkg").exists():
        return
    for name in MADE:
        if (folder / name).exists():
            raise ExistsError(
                f"{folder / name} exists, and the demo would overwrite it; name a new folder"
            )


def _play(words: list[str], silently: bool) -> None:
    """Show a command as it would be typed, and run it."""
    from polygene.cli.main import cli

    name, *rest = words
    command = cli.get_command(click.Context(cli), name)
    assert command is not None
    with contextlib.ExitStack() as stack:
        if silently:
            stack.enter_context(contextlib.redirect_stdout(io.StringIO()))
            stack.enter_context(contextlib.redirect_stderr(io.StringIO()))
        else:
            click.echo(f"\n$ polygene {shlex.join(words)}", err=True)
        command.main(rest, prog_name=f"polygene {name}", standalone_mode=False)
