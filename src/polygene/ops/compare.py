"""Compare: two layers side by side, and what became of each feature."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from polygene.between import way_between
from polygene.classes import dataclass
from polygene.crs import is_same, label
from polygene.errors import DataError
from polygene.geometry import Extent
from polygene.layer import Layer, names_alike
from polygene.measures import row_measures, ruler_for
from polygene.ops.changes import KINDS, Changes
from polygene.ops.changes import changes as look
from polygene.ops.given import Names, names
from polygene.ops.ground import SIZES, stretched
from polygene.ops.places.turns import begin_for, within_a_turn
from polygene.ops.summary import unit_of
from polygene.ops.versions import versions
from polygene.table.keys import Key
from polygene.table.types import type_words
from polygene.units import Length, metres

SAME_PLACE = 0.01  # metres that geometry from another CRS may be off


@dataclass(frozen=True)
class LayerFacts:
    """One of the two layers; ``size`` is its area, length or number of points in ``unit``."""

    name: str
    features: int
    without_geometry: int
    family: str
    vertices: int
    size: float
    unit: str
    extent: Extent | None
    crs: str


@dataclass(frozen=True)
class FieldFacts:
    """A field in both layers or one of them (None in the other), and in how many rows it differs."""

    name: str
    first: str | None
    second: str | None
    changed: int | None = None


@dataclass(frozen=True)
class Comparison:
    first: LayerFacts
    second: LayerFacts
    fields: list[FieldFacts]
    changes: Changes | None
    differences: list[str]
    notes: list[str]


@dataclass(frozen=True)
class CompareResult:
    """``layer`` has each change, where they were looked for and the two are of one kind."""

    summary: Comparison
    layer: Layer | None = None

    @property
    def differs(self) -> bool:
        """Whether anything at all differs."""
        return bool(self.summary.differences)


def compare(
    first: Layer,
    second: Layer,
    key: Names = (),
    *,
    fold: bool = False,
    changes: bool = False,
    tolerance: Length | None = None,
) -> CompareResult:
    """Set two layers side by side, and say what became of each feature of the first in the second.

    Geometry is the same if it has the same edges, whatever ring or part comes first and which way it is
    drawn. If the layers are in different CRS, the second is brought to the first's, vertex by vertex.

    Parameters
    ----------
    key : ``code = district_code``, a field or expression of the first and one of the second; several
        for keys of several fields; one name for both. Features are looked at one by one then.
    fold : let case, accents, blanks and zeros in front of digits make no difference in keys
    changes : look at features one by one without a key too: those of the same geometry are the same,
        then polygons that share most area
    tolerance : how far geometry may be off and be the same, a text or a number in metres; 10 mm between
        different CRS, else 0

    Raises
    ------
    ExpressionError
        If a key does not fit the layers.
    """
    fields, notes = _fields(first, second), list[str]()
    off = metres(tolerance, first.crs) or 0.0
    own = second
    if first.crs is not None and second.crs is not None and not is_same(first.crs, second.crs):
        way = way_between(second.crs, second.geometry.extent(), first.crs, first.geometry.extent())
        there = way.there(second.geometry.xy)
        second = replace(second, geometry=second.geometry.with_xy(there), crs=first.crs)
        off = max(off, SAME_PLACE)
        notes.append(
            f"{second.name} is compared as it lies in {label(first.crs)}, its geometry as it is within "
            f"{off * 1000:g} mm"
        )
    turned = _counted_as(first, second)
    if turned is not None:
        second, off = turned, max(off, SAME_PLACE)
        notes.append(
            f"{second.name} is compared with longitudes that begin where those of {first.name} do, "
            f"its geometry as it is within {off * 1000:g} mm"
        )
    keys = [Key.parse(text) for text in names(key)]
    found, layer = None, None
    if keys or changes:
        found, layer = look(
            versions(first, second, keys, fold, off), keys, ruler_for(first.crs).unit
        )
        fields = [
            replace(f, changed=found.edits.get(f.name, 0)) if f.first and f.second else f
            for f in fields
        ]
    theirs = replace(_facts(own), extent=second.geometry.extent())
    sized = [stretched(y, SIZES[y.geometry.family]) for y in (first, own) if not y.is_table]
    notes += dict.fromkeys(note for said in sized for note in said)
    sides = _facts(first), theirs
    differences = _differences(*sides, fields, found, own is second)
    return CompareResult(Comparison(*sides, fields, found, differences, notes), layer)


def _counted_as(first: Layer, second: Layer) -> Layer | None:
    """Return the second with longitudes as the first counts them; None if it has them already."""
    try:
        begin = begin_for(second, first)
    except DataError:  # the first goes more than once round: compared as it is
        return None
    if begin is None or first.crs is None or second.crs is None:
        return None
    return replace(second, geometry=within_a_turn(second.geometry, first.crs, begin).column)


def _differences(
    one: LayerFacts,
    other: LayerFacts,
    fields: Sequence[FieldFacts],
    found: Changes | None,
    is_one_crs: bool,
) -> list[str]:
    """Return what differs, each in a word or two."""
    sides = (
        ("features", one.features, other.features),
        ("kind", one.family, other.family),
        ("CRS", one.crs, other.crs),
        ("vertices", one.vertices, other.vertices),
        ("extent", one.extent, other.extent),
    )
    said = [name for name, a, b in sides if a != b and (is_one_crs or name != "extent")]
    said += [f"field {f.name}" for f in fields if f.first != f.second]
    if found is not None:
        for kind in KINDS:
            rows = getattr(found, kind)
            if rows.count:
                said.append(f"{rows.count:,} {kind}")
    return said


def _facts(layer: Layer) -> LayerFacts:
    ruler = ruler_for(layer.crs)
    column = layer.geometry
    return LayerFacts(
        name=layer.name,
        features=layer.n_rows,
        without_geometry=0 if layer.is_table else int(column.is_empty.sum()),
        family=layer.kind,
        vertices=column.n_vertices,
        size=float(row_measures(column, ruler).sum()),
        unit=unit_of(column.family, ruler),
        extent=column.extent(),
        crs=label(layer.crs),
    )


def _fields(first: Layer, second: Layer) -> list[FieldFacts]:
    mine, theirs = first.table.schema, second.table.schema
    pairs = names_alike(mine.names, theirs.names)
    found = []
    for field in mine:
        other = pairs.get(field.name)
        words = None if other is None else type_words(theirs.field(other))
        found.append(FieldFacts(field.name, type_words(field), words))
    taken = set(pairs.values())
    alone = [field for field in theirs if field.name not in taken]
    return found + [FieldFacts(field.name, None, type_words(field)) for field in alone]
