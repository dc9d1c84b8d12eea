"""What is asked of a collection: which features, in which CRS, how many (OGC 17-069r4, clause 7.15)."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import crs as crs_module
from polygene.arrays import I64Array, distinct
from polygene.crs import CRS84, turn_of
from polygene.errors import UsageError
from polygene.geometry import GeometryColumn
from polygene.layer import Layer
from polygene.ops.places.bringing import brought
from polygene.ops.subset import subset
from polygene.serving import documents
from polygene.table import spatial
from polygene.table.expression import Expression
from polygene.table.temporal import without_zeros

LIMIT, MOST = 100, 10_000  # features of a page, if nothing or too much is asked for
PARAMETERS = (
    *("limit", "offset", "bbox", "bbox-crs", "datetime", "crs"),
    *("filter", "filter-lang", "filter-crs", "f"),
)
# A date or a moment of RFC 3339 (5.6); a moment is with its zone.
_MOMENT = re.compile(
    r"\d{4}-\d\d-\d\d(?:[Tt ]\d\d:\d\d:\d\d(?:\.\d+)?(?:[Zz]|[+-]\d\d:\d\d))?", re.ASCII
)


class RefusedError(Exception):
    """A request that cannot be answered, with its status and why."""

    def __init__(self, status: int, why: str) -> None:
        super().__init__(why)
        self.status, self.why = status, why


def refuse_all(names: set[str]) -> None:
    """Refuse parameters that are not known (OGC 17-069r4, requirement 8).

    Raises
    ------
    RefusedError
        If there is one.
    """
    if names:
        raise RefusedError(400, f"there is no parameter {', '.join(map(repr, sorted(names)))} here")


class Query:
    """What is asked of a collection.

    Raises
    ------
    RefusedError
        If something is wrong with it (OGC 17-069r4, requirements 8 and 9).
    """

    def __init__(self, query: Mapping[str, Sequence[str]], layer: Layer) -> None:
        given = {name: values[-1] for name, values in query.items()}
        fields = set(layer.table.column_names)
        refuse_all(set(given) - set(PARAMETERS) - fields)
        limit = _whole(given.get("limit", str(LIMIT)), "limit", 1)
        self.limit, self.offset = min(limit, MOST), _whole(given.get("offset", "0"), "offset", 0)
        offered = documents.crs_uris(layer)
        self.crs, self.box_crs, self.filter_crs = (
            _one_of(given.get(name, CRS84), name, offered)
            for name in ("crs", "bbox-crs", "filter-crs")
        )
        _one_of(given.get("filter-lang", "cql2-text"), "filter-lang", ["cql2-text"])
        self.box = _sides(given["bbox"]) if "bbox" in given else None
        self.moments = _moments(given["datetime"]) if "datetime" in given else None
        self.filter = given.get("filter")
        self.equal = {n: given[n] for n in sorted(set(given) & fields - set(PARAMETERS))}
        self.key = tuple(
            repr(own)
            for own in (
                *(self.box, self.box_crs, self.moments),
                *(self.filter, self.filter_crs, self.equal),
            )
        )

    def rows(self, layer: Layer) -> I64Array:
        """Return the rows of a layer that are asked for, rising.

        Raises
        ------
        RefusedError, PolygeneError
            If what is asked has no meaning for the layer.
        """
        found = replace(layer, rows=np.arange(layer.n_rows), total=None, lineage=None)
        if self.moments is not None:
            found = found.take(_then(found, *self.moments))
        if self.filter is not None:
            written = _written(self.filter_crs, layer)
            found = found.take(Expression(self.filter).true_rows(found, written))
        for name, text in self.equal.items():
            found = found.take(_equals(found.table.column(name), text, name))
        if self.box is not None and found.n_rows:
            return self._rows_in_box(found, self.box)
        assert found.rows is not None
        return found.rows

    def _rows_in_box(self, layer: Layer, sides: tuple[float, ...]) -> I64Array:
        crs = crs_module.of_uri(self.box_crs)
        if begins_north(self.box_crs):
            sides = (sides[1], sides[0], sides[3], sides[2])
        try:
            boxes = spatial.box(sides, turn_of(crs))
        except UsageError as err:
            raise RefusedError(400, f"bbox: {err}") from err
        hits = []
        for column in boxes:
            box = Layer("box", column, pa.table({}), crs)
            hits.append(subset(layer, other=box, relation="intersects").layer.numbers - 1)
        return distinct(np.concatenate(hits))


def begins_north(uri: str) -> bool:
    """Whether the first of two coordinates in a CRS points north."""
    return uri != CRS84 and crs_module.begins_north(crs_module.of_uri(uri))


def _written(uri: str, layer: Layer) -> spatial.Written:
    """Return how geometry in a filter is to be read: its CRS is the filter's, not the layer's."""
    crs = crs_module.of_uri(uri)

    def bring(column: GeometryColumn) -> GeometryColumn:
        return brought(Layer("filter", column, pa.table({}), crs), layer).layer.geometry

    return spatial.Written(turn_of(crs), begins_north(uri), bring)


def _then(layer: Layer, start: str, stop: str) -> np.ndarray:
    """Return rows that have to do with a time, and those that have to do with none."""
    field = documents.field_of_time(layer)
    if field is None:
        return np.ones(layer.n_rows, bool)
    name = '"' + field.replace('"', '""') + '"'
    text = f"{name} IS NULL OR T_INTERSECTS({name}, INTERVAL('{start}', '{stop}'))"
    return Expression(text).true_rows(layer)


def _moments(text: str) -> tuple[str, str]:
    """Return the ends of a time: a moment, or two with a slash between, one of which may be open.

    They are as an interval of CQL2 has them: dates, moments of UTC, or two dots.
    """
    wrong = RefusedError(
        400,
        f"datetime {text!r} is no time: a date or a moment as 2026-05-31T12:00:00Z, or two with a "
        "slash between them, the first not after the second, of which one may be ..",
    )
    ends = [end.strip() or ".." for end in text.split("/")]
    if len(ends) > 2 or all(end == ".." for end in ends):
        raise wrong
    try:
        start, stop = _end(ends[0]), _end(ends[-1])
    except ValueError as err:
        raise wrong from err
    # Texts of one length in the order of what they say; a date is all of its day.
    if ".." not in (start, stop) and start[: len(stop)] > stop[: len(start)]:
        raise wrong
    return start, stop


def _end(text: str) -> str:
    """Return one end as an interval of CQL2 has it.

    Raises
    ------
    ValueError
        If it is no date and no moment.
    """
    if text == "..":
        return text
    if not _MOMENT.fullmatch(text):
        raise ValueError(text)
    found = datetime.fromisoformat(text.upper())
    if found.tzinfo is None:
        return found.date().isoformat()
    utc = found.astimezone(UTC).replace(tzinfo=None)
    return f"{utc.isoformat(timespec='milliseconds')}Z"


def _equals(column: pa.ChunkedArray, text: str, name: str) -> np.ndarray:
    kind = column.type
    if pa.types.is_dictionary(kind):
        column, kind = pc.cast(column, kind.value_type), kind.value_type
    given = without_zeros(text) if pa.types.is_timestamp(kind) else text
    try:
        value = pc.cast(pa.scalar(given), kind)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as err:
        raise RefusedError(400, f"{name} has no value such as {text!r}") from err
    return np.asarray(pc.fill_null(pc.equal(column, value), False), bool)


def _sides(text: str) -> tuple[float, ...]:
    """Return the sides of a box: its lower corner, then the upper one; heights are left out."""
    try:
        found = tuple(float(v) for v in text.split(","))
    except ValueError as err:
        raise RefusedError(400, f"bbox {text!r} is no list of numbers") from err
    if len(found) == 6:
        found = (*found[:2], *found[3:5])
    if len(found) != 4 or not np.isfinite(found).all():
        raise RefusedError(
            400, f"bbox {text!r} is no box: four or six numbers, the lower corner first"
        )
    return found


def _whole(text: str, name: str, least: int) -> int:
    # However long a number is, more than there are is no mistake: the first of its digits are enough.
    found = int(text.lstrip("0")[:15] or "0") if text.isascii() and text.isdigit() else -1
    if found < least:
        raise RefusedError(400, f"{name} is a whole number from {least} on, not {text!r}")
    return found


def _one_of(given: str, name: str, offered: Sequence[Any]) -> str:
    if given not in offered:
        raise RefusedError(400, f"{name} is {' or '.join(map(str, offered))} here, not {given!r}")
    return given
