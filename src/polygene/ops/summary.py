"""What an overlay has to tell: facts only; `cli` words them."""

from __future__ import annotations

from dataclasses import field

import numpy as np

from polygene.arrays import BoolArray, F64Array
from polygene.classes import dataclass
from polygene.errors import BalanceError
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.measures import Ruler
from polygene.ops.overlays.stored import Stored

MOST_ROWS_NAMED = 5
SUMMING = 1e-12  # what rounding makes of sums over all features, in them


@dataclass(frozen=True)
class NamedRows:
    """How many rows something is true of, and the first of them as messages name rows."""

    count: int = 0
    first: list[str] = field(default_factory=list)

    @staticmethod
    def of(layer: Layer, mask: BoolArray) -> NamedRows:
        rows = np.flatnonzero(mask)
        return NamedRows(len(rows), [layer.row_label(int(r)) for r in rows[:MOST_ROWS_NAMED]])


@dataclass(frozen=True)
class Admitted:
    """What became of a layer's invalid polygons.

    checked : features looked at, those that could matter; 0 for lines and points
    mended, left_out : the invalid ones among them
    before, after : area of the mended, by the signs of their rings as they came and as it is now
    vanished : those mended of which nothing was left
    """

    checked: int = 0
    mended: NamedRows = field(default_factory=NamedRows)
    left_out: NamedRows = field(default_factory=NamedRows)
    before: float = 0.0
    after: float = 0.0
    unit: str = ""
    vanished: NamedRows = field(default_factory=NamedRows)


@dataclass(frozen=True)
class Side:
    """One layer that took part.

    total : features in the source; taken : after filters; used : those that could matter
    admitted : what became of its invalid features
    fell : rows of which nothing is left on the grid: they are finer than it, or have no area
    """

    name: str
    total: int
    taken: int
    used: int
    family: Family
    admitted: Admitted = field(default_factory=Admitted)
    fell: NamedRows = field(default_factory=NamedRows)


@dataclass(frozen=True)
class Bridge:
    """How a layer came from its CRS, ``source``, to INPUT's, ``target``.

    total : features with geometry; far : those that lie far from INPUT, which were left where they are
    cut : those of which only what is near INPUT was brought
    added : vertices, so that borders follow their course within ``follow`` metres
    off : metres that a vertex was off at most when it was brought back again; all were
    mended : rows that were mended since edges, bent over there, came to cross
    accuracy : of the operation between the two CRS in metres, None if it is not known
    is_best : whether no better one is known that needs a file which is not here
    outside : rows outside the area that the target is meant for, where all were brought
    parted : features over the meridian at which the map ends, which lie at both of its ends
    turned : features moved by whole turns to the ``longitudes`` that INPUT counts in, from and to
    """

    name: str
    source: str
    target: str
    total: int
    far: int
    cut: int
    added: int
    follow: float
    off: float
    mended: int
    accuracy: float | None
    operation: str
    is_best: bool
    has_edges: bool = True
    outside: NamedRows = field(default_factory=NamedRows)
    parted: int = 0
    turned: int = 0
    longitudes: list[float] = field(default_factory=list)


@dataclass(frozen=True)
class Snap:
    """What a snap of INPUT onto OTHER did; lengths in map units.

    moved, added : vertices; furthest : the longest way that one went; changed : features
    fell : features of which nothing is left
    tangled : features whose rings crossed when they had moved, since the distance is as large as
        detail; read by the rule of mend
    reshaped : features that have more or fewer parts than before
    map_unit : its size in metres, if that is known; asked : the distance as it was written
    slivers_before, slivers_after : places thinner than the distance that only INPUT or only OTHER
        covers, without the snap and with it
    """

    distance: float
    moved: int
    added: int
    furthest: float
    changed: int
    fell: NamedRows
    tangled: NamedRows = field(default_factory=NamedRows)
    reshaped: NamedRows = field(default_factory=NamedRows)
    map_unit: float | None = None
    slivers_before: int = 0
    slivers_after: int = 0
    asked: str = ""


@dataclass(frozen=True)
class GivenAway:
    """Slivers, parts that this overlay cut thinner than ``width`` map units, gone to a neighbour.

    ``left`` are those without one; areas are in ``unit``; ``rows`` counts rows of the result that were
    nothing but slivers and are no more, ``gone`` names the features of INPUT that went with their last.
    ``map_unit`` is its size in metres, if that is known; ``asked`` the width as it was written.
    """

    width: float
    count: int
    area: float
    unit: str
    left: int
    left_area: float
    rows: int
    gone: NamedRows = field(default_factory=NamedRows)
    map_unit: float | None = None
    asked: str = ""


@dataclass(frozen=True)
class Balance:
    """What adds up: INPUT's before = inside OTHER + outside it.

    On the grid that is an equality of whole numbers, proved for every row and piece before there is a
    summary at all. What is left, `difference`, is how rounding to the grid changed areas and lengths,
    at most by ``bound``. ``other_only`` is what OTHER has where INPUT is not, in a union. In square
    metres, metres or numbers of points; ``unit`` is ``m²``, ``m``, ``square units``, ``units`` or
    ``points``. ``moved`` is how far the grid may move a border, in metres or map units.
    """

    before: float
    inside: float
    outside: float
    bound: float
    unit: str
    other_only: float | None = None
    moved: float = 0.0
    difference: float = field(init=False)

    def __post_init__(self) -> None:
        """Refuse to be told if it does not hold: a bug of ours."""
        object.__setattr__(self, "difference", self.inside + self.outside - self.before)
        if not abs(self.difference) <= self.bound + SUMMING * abs(self.before):
            raise BalanceError(
                f"INPUT had {self.before!r} {self.unit}, and {self.inside!r} inside OTHER with "
                f"{self.outside!r} outside differ from it by more than the grid allows, {self.bound!r}"
            )


@dataclass(frozen=True)
class Leftovers:
    """What was left of features of INPUT whose key is in an OTHER, and what became of it.

    done : ``keep``, ``drop`` or ``only``; empty where no key was asked for and ``key`` is one that both
        layers seem to have
    """

    key: list[str]
    done: str
    rows: NamedRows
    area: float
    unit: str


@dataclass(frozen=True)
class OverlaySummary:
    """What an overlay did.

    ``whole``, ``cut``, ``dropped`` and ``without_geometry`` count the features of INPUT: those that
    came out whole, in pieces, not at all, or have none; together they are all of it. ``both``,
    ``input_only`` and ``other_only`` count the rows that came out, ``out`` in all. ``proved`` counts
    those of polygons that were found valid by the exact test, as they came or as they were made: all
    of them, or there is no summary. ``brought`` are the OTHERs that came from another CRS.
    ``grid`` is the step of the grid in words, as it was written if it was. ``match`` are the keys that
    features had to have in common to have to do with each other, if that was asked. ``leftovers`` is of
    a supersede whose layers have a key in common.
    """

    operation: str
    input: Side
    others: list[Side]
    out: int
    both: int
    input_only: int
    other_only: int
    whole: int
    cut: int
    dropped: int
    without_geometry: int
    balance: Balance | None
    crs: str
    precision: float
    notes: list[str]
    snap: Snap | None = None
    given_away: GivenAway | None = None
    stored: list[Stored] = field(default_factory=list)
    proved: int = 0
    brought: list[Bridge] = field(default_factory=list)
    grid: str = ""
    match: list[str] = field(default_factory=list)
    leftovers: Leftovers | None = None


@dataclass(frozen=True)
class CopySummary:
    """A layer that is written as it is: how many features and fields it has.

    geometry : what it holds, ``none`` if it is a table
    """

    name: str
    geometry: str
    features: int
    fields: int
    crs: str
    notes: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class CopyResult:
    layer: Layer
    summary: CopySummary


@dataclass(frozen=True)
class OverlayResult:
    layer: Layer
    summary: OverlaySummary


def area_unit(ruler: Ruler) -> str:
    """Return the unit of areas as a ruler has them."""
    return "m²" if ruler.unit == "m" else "square units"


def unit_of(family: Family, ruler: Ruler) -> str:
    """Return the unit of what rows of a family are measured in."""
    if family == Family.POINTS:
        return "points"
    if family == Family.LINES:
        return ruler.unit
    return area_unit(ruler)


def check_sums(found: F64Array, wanted: F64Array, bound: F64Array, what: str) -> None:
    """Raise BalanceError, naming the first, if any measure is further from what it must be."""
    wrong = np.flatnonzero(~(np.abs(found - wanted) <= bound))
    if len(wrong):
        k = int(wrong[0])
        raise BalanceError(
            f"{what} {k + 1}: {float(found[k])!r} instead of {float(wanted[k])!r} "
            f"(allowed {float(bound[k])!r}); {len(wrong)} in all"
        )
