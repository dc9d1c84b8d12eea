"""``polygene demo``."""

from __future__ import annotations

from pathlib import Path

import click

from polygene.cli import show


@click.command()
@click.argument("folder", default="tolva", type=click.Path(path_type=Path))
@click.pass_context
def demo(ctx: click.Context, folder: Path) -> None:
    """Write the sample data to FOLDER and clip all its layers to the park.

    FOLDER is ./tolva if not given. It is the made-up marine park of Tolva Sound: sectors, islands,
    lanes, cables, buoys and two surveys of seagrass.

    \b
    Example:
      polygene demo tolva
    """
    from polygene.cli.clip import clip
    from polygene.cli.layers import layers
    from polygene.kernels import IS_COMPILED
    from polygene.sample import tolva

    if not IS_COMPILED:
        show.note(
            "the kernels run uncompiled: same results, slower; a C compiler at install cures it"
        )
    package, patches = tolva.write(folder)
    ctx.invoke(layers, files=(str(package), str(patches)), as_json=False)
    result = folder / "clipped.gpkg"
    click.echo()
    command = f"polygene clip '{package}#*' --with {package}#park --out {result} --replace"
    click.echo(f"$ {command}")
    clip.main(
        [f"{package}#*", "--with", f"{package}#park", "--out", str(result), "--replace"],
        prog_name="polygene clip",
        standalone_mode=False,
    )
    click.echo()
    ctx.invoke(layers, files=(str(result),), as_json=False)
