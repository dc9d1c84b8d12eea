"""``polygene draw``."""

from __future__ import annotations

import dataclasses
import sys
import time
from pathlib import Path
from typing import Any

import click

from polygene.cli import options, show


@options.command()
@options.inputs
@click.option(
    "--colour-by", multiple=True, metavar="[LAYER.]FIELD", help="Classes of colour by a field."
)
@click.option("--label", multiple=True, metavar="[LAYER.]FIELD", help="Write a field on features.")
@click.option("--hatch", multiple=True, metavar="LAYER", help="Draw this layer hatched.")
@click.option("--outline", multiple=True, metavar="LAYER", help="Draw only its borders.")
@click.option("--classes", type=click.IntRange(2, 7), default=5, help="Of numbers: how many.")
@click.option(
    "--breaks",
    type=click.Choice(["quantile", "equal"]),
    default="quantile",
    show_default=True,
    help="Of numbers: as many features in each class, or as wide a range.",
)
@click.option("--style", metavar="SHEET", help="Looks of layers as a style sheet has them.")
@click.option("--keep-style", metavar="SHEET", help="Keep the looks of this map in a style sheet.")
@click.option(
    "--beside", multiple=True, metavar="LAYER", help="Draw this layer in a second map beside."
)
@click.option("--title", default="", help="What stands above the map.")
@click.option("--credit", help="What stands below it; that of the layers' lineage if not given.")
@options.box
@options.box_crs
@options.where
@click.option("-o", "--out", required=True, metavar="FILE", help="A .png, .svg or .pdf file.")
@options.replace
@options.crs
@options.quiet
def draw(
    inputs: tuple[str, ...],
    colour_by: tuple[str, ...],
    label: tuple[str, ...],
    hatch: tuple[str, ...],
    outline: tuple[str, ...],
    classes: int,
    breaks: str,
    style: str | None,
    keep_style: str | None,
    beside: tuple[str, ...],
    title: str,
    credit: str | None,
    box: Any,
    box_crs: str | None,
    where: Any,
    out: str,
    replace: bool,
    crs: str | None,
    quiet: bool,
) -> None:
    """Draw a map of layers, the first at the bottom, in the CRS of the first.

    \b
    Example:
      polygene draw tolva.gpkg#sectors tolva.gpkg#islands tolva.gpkg#buoys \\
        --colour-by sectors.district_name --title "Tolva Sound" -o sound.png
      polygene draw tolva.gpkg#sectors --beside tolva.gpkg#beds_marram -o two.png
    """
    from polygene import batch
    from polygene.crs import parse
    from polygene.draw import style as styles
    from polygene.draw.maps import Look, MapPlan
    from polygene.draw.maps import draw as draw_map
    from polygene.draw.together import on_one_map
    from polygene.errors import ExistsError, FileError
    from polygene.formats.base import reason_of, replacing
    from polygene.lineage import credits_of

    began = time.monotonic()
    path = Path(out)
    for place in (path, *([Path(keep_style)] if keep_style else [])):
        if place.exists() and not replace:
            raise ExistsError(f"{place} exists; --replace overwrites it")
    if box_crs is not None and box is None:
        raise click.UsageError("--box-crs needs --box")
    choice = batch.Choice(where, parse(crs) if crs else None)
    with show.progress(quiet) as progress:
        layers, notes = batch.read_all(inputs, choice)
        others, more = batch.read_all(beside, choice) if beside else ([], [])
        box = None if box is None else batch.box_of(box, box_crs, layers[0])
        layers, bridges = on_one_map([*layers, *others], box)
        notes += [*more, *(batch.bridge_words(facts, layers[0].name) for facts in bridges)]
        names = [layer.name for layer in layers]
        colours, labels = _by_layer(colour_by, layers, names), _by_layer(label, layers, names)
        for name in (*hatch, *outline):
            if name not in names:
                raise click.UsageError(f"there is no layer {name!r} among {', '.join(names)}")
        kept = styles.read(Path(style)) if style else {}
        looks = []
        for name in names:
            look = styles.look_of(name, kept) or Look()
            if name in colours:
                look = dataclasses.replace(look, colour_by=colours[name], scheme=None)
            looks.append(
                dataclasses.replace(
                    look,
                    label=labels.get(name, look.label),
                    hatch=look.hatch or name in hatch,
                    outline=look.outline or name in outline,
                )
            )
        if credit is None:
            own = [text for y in layers if y.lineage for text in credits_of(y.lineage)]
            credit = "; ".join(dict.fromkeys(own))
        plan = MapPlan(layers, looks, title, credit, box, classes, breaks, beside=len(others))
        progress.stage(f"drawing {path}")
        try:
            with replacing(path) as temporary:
                notes += draw_map(plan, temporary, path.suffix)
            if keep_style is not None:
                _keep(Path(keep_style), styles.text_of(plan))
        except OSError as err:
            raise FileError(f"cannot write {path}: {reason_of(err)}") from err
    if not quiet:
        features = sum(layer.n_rows for layer in layers)
        show.title(f"map of {', '.join(names)}", show.counted(features, "feature"), sys.stderr)
        show.line("written", f"{path} in {time.monotonic() - began:.2f} s", sys.stderr)
        for text in dict.fromkeys(notes):
            show.note(text)


def _keep(path: Path, text: str) -> None:
    from polygene.formats.base import replacing

    with replacing(path) as temporary:
        temporary.write_text(text, encoding="utf-8")


def _by_layer(asked: tuple[str, ...], layers: Any, names: list[str]) -> dict[str, str]:
    """Return the field asked for of each layer: LAYER.FIELD, or FIELD of all that have it."""
    found: dict[str, str] = {}
    for text in asked:
        layer, dot, field = text.partition(".")
        if dot and layer in names:
            found[layer] = field
            continue
        have = [y.name for y in layers if text in y.table.column_names]
        if not have:
            layers[0].check_field(text)
        found.update(dict.fromkeys(have, text))
    return found
