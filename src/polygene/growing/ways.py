"""Which work may be cut into tasks, and which is one task by its nature, and why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from polygene.classes import dataclass
from polygene.crs import is_same
from polygene.growing.calls import Call
from polygene.growing.source import Source
from polygene.ops.given import names
from polygene.ops.places.turns import count_apart
from polygene.table.aggregate import Take
from polygene.table.expression import looks_at_geometry

OVERLAYS = ("clip", "erase", "intersect", "imprint", "union", "contrast", "supersede")
KEEP_OTHERS = frozenset({"union", "contrast", "supersede"})  # also where they are far from INPUT
ROWS = ("convert", "buffer", "mend", "hull", "parts", "measure", "fields", "reproject", "subset")


@dataclass(frozen=True)
class Way:
    """How a work is cut.

    all_are_core : whether each row of OTHERs is the work of a task too, not INPUT's alone
    own_are_near : whether rows of INPUT near those of a task have to do with them
    core_alone : whether the operation is given rows of INPUT that are its core alone
    reach : how far rows have to do with each other, in grid units
    looks_far : whether rows of OTHER are needed however far they are: the nearest
    """

    all_are_core: bool
    own_are_near: bool
    reach: float
    core_alone: bool = False
    looks_far: bool = False


ALONE = Way(False, False, 0.0)
NEAR = Way(True, True, 6.0)  # four that they have to do with each other, and the roundings
PARTNERS = Way(False, True, 6.0, core_alone=True)
NEAREST = replace(PARTNERS, looks_far=True)
GROUPS = Way(False, True, 6.0)

# Arguments that make one task of any work, and why.
_TOO_WIDE = {
    "snap": "a snap moves borders onto others, and those of their neighbours after them",
    "give_slivers": "a sliver goes to a neighbour, which may lie in another task",
    "dissolve": "what overlaps is joined, however far that goes",
    "by": "what agrees is joined, however far that goes",
    "coverage": "gaps and overlaps are between any features",
    "sort": "an order is of all features",
    "limit": "the first so many are known when all are",
    "gather": "what agrees is gathered from everywhere",
    "without": "what is taken off may lie anywhere",
    "of_all": "it is asked of every feature of OTHER",
    "key": "a key may be anywhere",
    "links": "links are a layer of their own",
}


_NO_CRS = (
    "a layer without a CRS is one task, since the step of its grid hangs on all coordinates; say with "
    "`crs` which it is in"
)


def one_task(call: Call) -> str:
    """Return why a work is one task whatever its layers are; empty if its arguments do not say so."""
    wide = () if call.command == "dissolve" else _TOO_WIDE.items()
    return next(
        (f"with `{k}` it is one task: {why}" for k, why in wide if call.arguments.get(k)), ""
    )


def way_of(call: Call, sources: Sequence[Source]) -> Way | str:
    """Return how a work is cut, or why it is one task."""
    told = call.arguments
    if call.command == "dissolve":
        return _of_dissolve(call, sources[0])
    own, others = sources[0].like, [source.like for source in sources[1:]]
    if own.crs is None:
        return _NO_CRS
    if any(not is_same(own.crs, other.crs) for other in others):
        return "layers in different CRS are one task; reproject one of them first"
    for source in sources[1:]:
        if count_apart(own.crs, source.extent, sources[0].extent):
            return "layers that count longitudes from different meridians are one task"
    if call.command in OVERLAYS:
        if not others:
            return (
                "a union of a layer with itself is one task: it numbers the pieces that are shared"
            )
        return NEAR
    if call.command == "join" or (call.command == "subset" and others):
        if told.get("relation") != "nearest" and told.get("up_to") is None:
            return PARTNERS
        if own.crs.is_geographic:
            return "nearest in longitude and latitude is one task; reproject the layers first"
        return NEAREST
    if call.command == "hull" and not told.get("each"):
        return "a hull of several features is one task: they may lie anywhere"
    if call.command in ROWS:
        return ALONE
    return f"{call.command} is one task"


def _of_dissolve(call: Call, source: Source) -> Way | str:
    if source.like.crs is None:
        return _NO_CRS
    for text in names(call.arguments.get("aggregate")):
        take = Take.parse(text)
        trees = (take.argument, take.weight, take.rank)
        if any(tree is not None and looks_at_geometry(tree) for tree in trees):
            return "aggregates of geometry make it one task: what is joined has no geometry yet"
    return GROUPS


def takes_map_units(call: Call) -> bool:
    """Whether the precision of a work is in map units."""
    return call.command != "buffer" and call.arguments.get("precision") is not None
