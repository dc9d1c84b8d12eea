"""How layers look: one description that still pictures and pages are made of. No Matplotlib here."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from polygene.classes import dataclass
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.measures import row_lengths
from polygene.pictures.classes import QUALITATIVE, Classes, Scheme, classes_of
from polygene.table.types import kind_of

INK, PAPER, SOFT = "#20242a", "#fbfaf6", "#6a6d70"
# Of fields that say in their name what they are in, as those that `measure` makes.
_UNITS = {"ha": "ha", "km2": "km²", "m2": "m²", "km": "km"}
INKS = (INK, "#7a1f2b", "#3a2f7d")
# Of layers without classes beside such with classes: pale, and unlike the palest of those.
ALONE = 1e9  # map units that points in one place have about them
_LANDS, _DOT = ("#e9e6f0", "#dcebee", "#f4e4e1"), "#ffffff"


@dataclass(frozen=True)
class Look:
    """How a layer is asked to look.

    colour_by : field of its classes; label : field of its labels; hatch : draw it hatched
    outline : borders only; scheme : the classes of a style sheet
    unit : what the numbers of ``colour_by`` are in
    legend : whether its classes stand in the legend; labels tell them apart where they do not
    """

    colour_by: str | None = None
    label: str | None = None
    hatch: bool = False
    outline: bool = False
    scheme: Scheme | None = None
    unit: str = ""
    legend: bool = True


@dataclass(frozen=True)
class Dressed:
    """A layer as it is shown.

    classes : None if all of it has one `colour`
    label : the field that is written on features
    apart : how far its features are from each other, in map units: lines, outlines and points are as
        thick as that leaves room for
    """

    layer: Layer
    look: Look
    classes: Classes | None
    colour: str
    label: str | None
    apart: float

    @property
    def title(self) -> str:
        """What the classes are by, with the unit if it is known."""
        field = self.look.colour_by or ""
        has_numbers = self.classes is not None and len(self.classes.scheme.breaks) > 0
        unit = self.look.unit or _UNITS.get(field.rpartition("_")[2], "") * has_numbers
        return f"{field} ({unit})" if unit else field


def dressed(
    layers: Sequence[Layer], looks: Sequence[Look], n_classes: int = 5, breaks: str = "quantile"
) -> list[Dressed]:
    """Dress layers that are shown together, from the bottom up.

    Layers with classes of one field share them, if it is of one kind in them; those of another have
    other colours. Where classes share colours, for they are many, labels tell them apart.

    Raises
    ------
    UnknownFieldError
        If a field is not there.
    UsageError
        If a scheme or a way to break does not fit.
    """
    has_classes = any(look.colour_by for look in looks)
    found = []
    used: dict[bool, int] = {True: 0, False: 0}  # of pale colours and of inks
    for place, (layer, look) in enumerate(zip(layers, looks, strict=True)):
        classes = None
        label = look.label
        if label is not None:
            layer.check_field(label)
        if look.colour_by is not None:
            classes = _classes(layers, looks, place, n_classes, breaks)
            label = label or (look.colour_by if classes.is_reused or not look.legend else None)
        colour = QUALITATIVE[place % len(QUALITATIVE)]
        if has_classes:
            is_pale = _is_filled(layer, look)
            colour = _beside_classes(layer.geometry.family, is_pale, used[is_pale])
            used[is_pale] += look.colour_by is None
        found.append(Dressed(layer, look, classes, colour, label, apart(layer.geometry)))
    return found


def _classes(
    layers: Sequence[Layer], looks: Sequence[Look], place: int, n_classes: int, breaks: str
) -> Classes:
    look = looks[place]
    assert look.colour_by is not None
    fields = [_field_of(y, own) for y, own in zip(layers, looks, strict=True)]
    mine = fields[place]
    first = 5 * list(dict.fromkeys(f for f in fields if f[0])).index(mine)
    scheme = look.scheme
    if scheme is None and fields.count(mine) > 1:
        alike = [
            y.table.select([mine[0]]) for y, f in zip(layers, fields, strict=True) if f == mine
        ]
        together = pa.concat_tables(alike, promote_options="permissive")
        nowhere = GeometryColumn.from_points(np.zeros((together.num_rows, 2)))
        scheme = classes_of(
            layer=Layer("", nowhere, together),
            name=look.colour_by,
            n_classes=n_classes,
            breaks=breaks,
            first_colour=first,
        ).scheme
    return classes_of(
        layer=layers[place],
        name=look.colour_by,
        n_classes=n_classes,
        breaks=breaks,
        scheme=scheme,
        first_colour=first,
    )


def _field_of(layer: Layer, look: Look) -> tuple[str, str]:
    """Return the field of a layer's classes and its kind; empty if there is none."""
    name = look.colour_by or ""
    there = name in layer.table.column_names
    return name, kind_of(layer.table.column(name).type) if there else ""


def _is_filled(layer: Layer, look: Look) -> bool:
    return layer.geometry.family == Family.POLYGONS and not (look.outline or look.hatch)


def _beside_classes(family: Family, is_filled: bool, n_before: int) -> str:
    """Return the colour of a layer without classes beside such with classes: none of theirs."""
    if family == Family.POINTS:
        return _DOT
    colours = _LANDS if is_filled else INKS
    return colours[n_before % len(colours)]


def apart(column: GeometryColumn) -> float:
    """Return how far features are from each other, in map units: points and lines on average, of
    polygons the side that half of them have."""
    extent = column.extent()
    if extent is None:
        return 0.0
    wide, tall = extent[2] - extent[0], extent[3] - extent[1]
    least = max(wide, tall) / 4  # what lies along one line has room beside it too
    area = max(wide, least) * max(tall, least)
    if column.family == Family.POINTS:
        return float(np.sqrt(area / column.n_vertices)) if area else ALONE
    if column.family == Family.LINES:
        length = float(row_lengths(column).sum())
        return area / length if length else 0.0
    bounds = column.row_bounds()[~column.is_empty]
    return float(np.median(np.sqrt(np.prod(bounds[:, 2:] - bounds[:, :2], axis=1))))
