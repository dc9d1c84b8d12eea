"""What overlays are told: as people give it, and in plain numbers."""

from __future__ import annotations

from dataclasses import replace
from typing import TypedDict

from polygene.classes import NamedTuple
from polygene.errors import did_you_mean
from polygene.layer import Layer
from polygene.ops.given import Names, names
from polygene.ops.summary import OverlayResult
from polygene.progress import SILENT, Progress
from polygene.units import Length, as_written, length_worded, map_units, true_metres


class How(TypedDict, total=False):
    """What all overlays can be told.

    Lengths are texts such as ``5m``, or numbers in map units.

    precision : step of the grid; 0.0001 or, in degrees, 1e-9 if not given
    snap : move borders of INPUT within this distance of OTHER onto it first
    give_slivers : give parts of the result thinner than this to the neighbour with the longest
        shared border
    single_parts : give each part of a result a row of its own
    invalid : what becomes of invalid polygons that take part: ``mend``, ``refuse`` or ``leave-out``
    follow : how far borders of OTHERs in another CRS may be off their course, numbers in metres; 0.01
        if not given
    refresh : fields that hold the area, perimeter or length of their features, to measure anew
    apportion : fields of numbers to multiply by the share of the feature that a row is
    """

    precision: Length | None
    snap: Length | None
    give_slivers: Length | None
    single_parts: bool
    invalid: str
    follow: Length | None
    refresh: Names
    apportion: Names
    progress: Progress


class Resolved(NamedTuple):
    """The same in plain numbers, lengths in map units, but ``follow`` in metres."""

    precision: float | None
    snap: float | None
    give_slivers: float | None
    single_parts: bool
    invalid: str
    follow: float | None
    refresh: list[str]
    apportion: list[str]
    progress: Progress


def resolved(how: How, layer: Layer) -> Resolved:
    """Return what an overlay of a layer is told in plain numbers.

    Raises
    ------
    UsageError
        If a length does not fit the layer's CRS.
    TypeError
        If it is told what overlays are not: at run time nothing else holds keywords to `How`.
    """
    for name in how:
        if name not in How.__annotations__:
            near = did_you_mean(name, list(How.__annotations__))
            raise TypeError(f"there is no keyword argument {name!r} here{near}")
    return Resolved(
        precision=map_units(how.get("precision"), layer.crs),
        snap=map_units(how.get("snap"), layer.crs),
        give_slivers=map_units(how.get("give_slivers"), layer.crs),
        single_parts=how.get("single_parts", False),
        invalid=how.get("invalid", "mend"),
        follow=true_metres(how.get("follow")),
        refresh=names(how.get("refresh")),
        apportion=names(how.get("apportion")),
        progress=how.get("progress", SILENT),
    )


def as_asked(result: OverlayResult, how: How) -> OverlayResult:
    """Return a result whose summary tells lengths as they were written."""
    grid = length_worded(result.summary.precision, result.layer.crs)
    summary = replace(result.summary, grid=as_written(how.get("precision")) or grid)
    if summary.snap is not None:
        summary = replace(summary, snap=replace(summary.snap, asked=as_written(how.get("snap"))))
    if summary.given_away is not None:
        width = as_written(how.get("give_slivers"))
        summary = replace(summary, given_away=replace(summary.given_away, asked=width))
    return replace(result, summary=summary)
