"""Which look each layer is to have: from a style sheet, and from what was asked for."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Sequence
from pathlib import Path

from polygene.errors import UsageError
from polygene.layer import Layer
from polygene.ops.given import Names, names
from polygene.pictures import style as styles
from polygene.pictures.looks import Look


def looks_of(
    layers: Sequence[Layer],
    colour_by: Names,
    label: Names,
    hatch: Names = (),
    outline: Names = (),
    style: str | os.PathLike[str] | None = None,
) -> list[Look]:
    """Return the look of each layer: of a style sheet, and over that what was asked for.

    Parameters
    ----------
    colour_by, label : fields, ``layer.field`` where several layers have one of that name
    hatch, outline : names of layers
    style : a style sheet

    Raises
    ------
    PolygeneError
        If a layer or field is not there, or the style sheet cannot be read.
    """
    known = [layer.name for layer in layers]
    colours = _by_layer(names(colour_by), layers, "colour_by")
    labels = _by_layer(names(label), layers, "label")
    hatched, outlined = names(hatch), names(outline)
    for option, asked in (("hatch", hatched), ("outline", outlined)):
        for name in asked:
            if name not in known:
                raise UsageError(f"there is no layer {name!r} among {', '.join(known)}")
            layers[known.index(name)].check_geometry(f"`{option}`")
    kept = styles.read(Path(style)) if style else {}
    looks = []
    for name in known:
        look = styles.look_of(name, kept) or Look()
        if name in colours:
            look = dataclasses.replace(look, colour_by=colours[name], scheme=None)
        looks.append(
            dataclasses.replace(
                look,
                label=labels.get(name, look.label),
                hatch=look.hatch or name in hatched,
                outline=look.outline or name in outlined,
            )
        )
    return looks


def _by_layer(asked: Sequence[str], layers: Sequence[Layer], option: str) -> dict[str, str]:
    """Return the field asked for of each layer: LAYER.FIELD, or FIELD of all that have it."""
    found: dict[str, str] = {}
    for text in asked:
        named = [layer for layer in layers if text.startswith(f"{layer.name}.")]
        if named:
            layer = max(named, key=lambda layer: len(layer.name))  # names may have points too
            layer.check_geometry(f"`{option}`")
            found[layer.name] = text[len(layer.name) + 1 :]
            continue
        have = [y.name for y in layers if text in y.table.column_names]
        if not have:
            layers[0].check_field(text)
        found.update(dict.fromkeys(have, text))
    return found
