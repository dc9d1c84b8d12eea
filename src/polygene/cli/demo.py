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
    """Write the sample data to FOLDER, run the sample recipe on it, and draw a map of what came out.

    FOLDER is ./tolva if not given. It is the made-up marine park of Tolva Sound: sectors, islands,
    lanes, cables, buoys and two surveys of seagrass.

    \b
    Example:
      polygene demo tolva
    """
    from polygene.cli.audit import audit
    from polygene.cli.draw import draw
    from polygene.cli.layers import layers
    from polygene.cli.run import run
    from polygene.kernels import IS_COMPILED
    from polygene.sample import tolva

    if not IS_COMPILED:
        show.note(
            "the kernels run uncompiled: same results, slower; a C compiler at install cures it"
        )
    package, patches = tolva.write(folder)
    recipe = tolva.write_recipe(folder)
    result, picture = folder / "result.gpkg", folder / "result.png"
    ctx.invoke(layers, files=(str(package), str(patches)), as_json=False)
    zones, district_map = f"{result}#quiet_zones", f"{result}#districts"
    for command, words in (
        (audit, [f"{package}#beds_*"]),
        (run, [str(recipe)]),
        (
            draw,
            [district_map, zones, f"{result}#park_beds", f"{package}#buoys", "--colour-by",
             "districts.district_name", "--outline", "quiet_zones", "--hatch", "park_beds",
             "--label", "districts.district", "--title", "Seagrass in Tolva Sound Marine Park",
             "--out", str(picture), "--replace"],
        ),
    ):  # fmt: skip
        click.echo(f"\n$ polygene {command.name} {shlex.join(words)}", err=True)
        command.main(words, prog_name=f"polygene {command.name}", standalone_mode=False)
    click.echo(err=True)
    ctx.invoke(layers, files=(str(result),), as_json=False)
