"""``polygene demo``."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from polygene.cli import options, show


@options.command()
@click.argument("folder", default="tolva", type=click.Path(path_type=Path))
@click.pass_context
def demo(ctx: click.Context, folder: Path) -> None:
    """Write the sample data to FOLDER, run the sample recipe on it, and make a report of it.

    FOLDER is ./tolva if not given. It is the made-up marine park of Tolva Sound: sectors, islands,
    lanes, cables, buoys and two surveys of seagrass; and the waters of the earth, as a made-up
    commission reports them, to lay it over.

    \b
    Example:
      polygene demo tolva
    """
    from polygene.cli.audit import audit
    from polygene.cli.layers import layers
    from polygene.cli.lineage import lineage
    from polygene.cli.run import run
    from polygene.kernels import IS_COMPILED
    from polygene.sample import tolva, waters

    if not IS_COMPILED:
        show.note(
            "the kernels run uncompiled: same results, slower; a C compiler at install cures it"
        )
    package, patches = tolva.write(folder)
    around = waters.write(folder)
    recipe = tolva.write_recipe(folder)
    result, page = folder / "result.gpkg", folder / "report.html"
    ctx.invoke(layers, files=(str(package), str(patches), str(around)), as_json=False)
    for command, words in (
        (audit, [f"{package}#beds_*"]),
        (run, [str(recipe), "--report", str(page)]),
        (lineage, [f"{result}#quiet_zones"]),
    ):
        click.echo(f"\n$ polygene {command.name} {shlex.join(words)}", err=True)
        command.main(words, prog_name=f"polygene {command.name}", standalone_mode=False)
    click.echo(err=True)
    ctx.invoke(layers, files=(str(result),), as_json=False)
