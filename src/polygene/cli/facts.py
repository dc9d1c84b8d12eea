"""Facts of commands that have no summary of a core operation: what ``--json`` prints of each."""

from __future__ import annotations

from typing import Any, TypedDict

from polygene.formats.clauses.finding import Finding
from polygene.geometry import Extent
from polygene.ops.audit import FieldFinding, NearlyClass
from polygene.table.describe import FieldDescription


class LayerListed(TypedDict):
    """A layer in a file; ``problem`` says why it cannot be read, if so."""

    name: str
    geometry: str
    features: int
    crs: str
    geographic: bool
    extent: Extent | None
    fields: dict[str, str]
    title: str
    problem: str


class FileListed(TypedDict):
    """A file, or a file within a packed one, and its layers."""

    file: str
    format: str
    layers: list[LayerListed]


class FileChecked(TypedDict):
    """A file that was held to the standard of its format, and what was found."""

    file: str
    standard: str
    version: str
    findings: list[Finding]


class Found(TypedDict):
    """What a word of the trade comes to here; without an example it is not done."""

    command: str
    sentence: str
    example: str


# A layer that was peeked at: with fields and rows, or the values of one field.
Peeked = TypedDict(
    "Peeked",
    {
        "layer": str,
        "geometry": str,
        "features": int,
        "of": int,
        "null geometry": int,
        "empty geometry": int,
        "crs": str,
        "extent": Extent | None,
        "distinct": list[dict[str, Any]],
        "field": str,
        "fields": list[FieldDescription],
        "rows": list[dict[str, Any]],
        "sorted by": str | None,
        "file": str,
    },
    total=False,
)


class ProblemTold(TypedDict):
    """A problem: the rows that have it by their names, and a place of each, nulls for none."""

    problem: str
    reason: str
    cure: str
    harms: bool
    rows: list[str]
    places: list[list[float | None]]
    details: list[str]


class Audited(TypedDict):
    """What an audit found in a layer."""

    layer: str
    geometry: str
    features: int
    sound: bool
    problems: list[ProblemTold]
    fields: list[FieldFinding]
    nearly: list[NearlyClass]
    written: str | None


class RelationsCounted(TypedDict):
    """How many features each relation would keep; ``differ`` the rows that two of them differ in."""

    layer: str
    features: int
    other: str
    selected: dict[str, int]
    differ: dict[str, list[str]]


class FieldProposed(TypedDict):
    """A field of a merge to be, and what feeds it, by layer."""

    field: str
    type: str
    sources: dict[str, list[str]]
    confidence: float


class SheetDrafted(TypedDict):
    """A match sheet that was drafted; ``alone`` are the fields that one layer has alone."""

    written: str | None
    layers: list[str]
    proposed: list[FieldProposed]
    alone: dict[str, list[str]]


class Tallied(TypedDict):
    """A table and its totals; the first ``keys`` of its columns are what it is by.

    The last row gathers ``rest`` values if only the top was asked for; ``without_value`` has by
    aggregate how many of the features count nothing in it; ``geometry`` is ``none`` if it is the
    rows of a table that are counted.
    """

    columns: list[str]
    keys: int
    rows: list[dict[str, Any]]
    total: dict[str, Any]
    total_name: str
    shares: list[str]
    rest: int
    features: int
    geometry: str
    without_value: dict[str, int]
    written: str | None
    chart: str | None


class Drawn(TypedDict):
    """A map that was drawn, of the layers in their order."""

    written: str | None
    layers: list[str]
    features: int


class PageMade(TypedDict):
    """A page of layers: rows that it shows, those left out, how many problems if they were sought."""

    written: str | None
    layers: list[str]
    rows: int
    left_out: int
    problems: int | None
    bytes: int


class StepRan(TypedDict):
    """A step of a recipe; ``told`` is what its command tells of its results."""

    step: str
    command: str
    line: str
    written: str | None
    features: int | None
    reused: bool
    seconds: float
    held: list[str]
    told: list[Any]


class StepPlanned(TypedDict):
    """A step of a recipe that was only checked."""

    step: str
    command: str
    inputs: list[str]
    given: dict[str, Any]


class RecipeDrafted(TypedDict):
    """A recipe that was written from the lineage of a layer."""

    written: str | None
    steps: int
    inputs: int
    to: str


class DemoMade(TypedDict):
    """The files that the demo wrote."""

    written: list[str]
