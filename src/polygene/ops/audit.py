"""Audit: what is wrong with a layer, row by row, with place and reason."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import F64Array, I64Array, count_by, owners
from polygene.between import to_degrees
from polygene.classes import dataclass
from polygene.crs import label
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.ops.coverage import Faces, faces_of, lay_out
from polygene.ops.ground import stretched
from polygene.ops.summary import area_unit
from polygene.places import inside_points
from polygene.plane.problems import Problem
from polygene.plane.signatures import signatures
from polygene.plane.validity import problems_of
from polygene.table.casting import CODE, recast
from polygene.table.groups import codes_of
from polygene.table.telling import shown
from polygene.table.types import kind_of, typed_field, values_of, width_of

FIRST = 5
# Marks of UTF-8 that was read as Latin-1, and of bytes that were no text at all.
_MISREAD = "[ÃÂ][\u0080-\u00bf]|\u00e2\u20ac|\ufffd"


@dataclass(frozen=True)
class Finding:
    """A problem that some rows have.

    cure : ``mend`` if that cures it, else what to do
    harms : whether it is more than a blemish
    rows, places : (n,) the rows, and (n, 2) a place on the problem of each, NaN for none
    """

    kind: str
    reason: str
    cure: str
    harms: bool
    rows: I64Array
    places: F64Array
    details: Sequence[str] = ()

    @property
    def count(self) -> int:
        return len(self.rows)


@dataclass(frozen=True)
class FieldFinding:
    """A problem with the values of a field."""

    name: str
    reason: str
    count: int
    first: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class NearlyClass:
    """How many gaps and overlaps of a coverage are narrower than a width, and not than the one before.

    width : in the unit of lengths; infinite for the widest
    """

    width: float
    gaps: int
    overlaps: int
    unit: str


@dataclass(frozen=True)
class Audit:
    name: str
    features: int
    family: str
    crs: str
    findings: list[Finding]
    fields: list[FieldFinding]
    notes: list[str]
    nearly: list[NearlyClass] = field(default_factory=list)

    @property
    def is_sound(self) -> bool:
        """Whether nothing was found that does harm."""
        return not any(f.harms for f in self.findings)


def audit(layer: Layer, *, key: str | None = None, coverage: bool = False) -> Audit:
    """Find the problems of a layer; exact: what the standard calls valid is never reported.

    Parameters
    ----------
    key : a field that should name each feature once
    coverage : whether features should neither overlap nor leave gaps between them

    Raises
    ------
    UnknownFieldError
        If the key is not there.
    """
    if coverage:
        layer.check_geometry("`coverage`")
    findings = (
        [] if layer.is_table else [*_geometry(layer), *_duplicates(layer), *_out_of_use(layer)]
    )
    if key is not None:
        findings += _key(layer, key)
    nearly: list[NearlyClass] = []
    if coverage:
        more, nearly = _coverage(layer)
        findings += more
    return Audit(
        name=layer.name,
        features=layer.n_rows,
        family=layer.kind,
        crs=label(layer.crs),
        findings=[f for f in findings if f.count],
        fields=_fields(layer),
        notes=stretched(layer, ["area", "distance"]) if nearly else [],
        nearly=nearly,
    )


def places_layer(layer: Layer, found: Audit) -> Layer:
    """Return the problems as a layer of points, with row, identifier, kind and reason."""
    rows = np.concatenate([f.rows for f in found.findings]) if found.findings else np.zeros(0, int)
    xy = np.concatenate([f.places for f in found.findings]) if found.findings else np.zeros((0, 2))
    kinds = [f.kind for f in found.findings for _ in range(f.count)]
    reasons = [f.reason for f in found.findings for _ in range(f.count)]
    cures = [f.cure for f in found.findings for _ in range(f.count)]
    has = np.isfinite(xy).all(axis=1)
    column = GeometryColumn.from_points(xy[has])
    ids = layer.origins
    kept = np.flatnonzero(has)
    names = [(kinds, "problem"), (reasons, "reason"), (cures, "cure")]
    columns: dict[str, Any] = {"row": layer.numbers[rows[has]], "id": ids[rows[has]]}
    columns |= {name: pa.array([values[k] for k in kept], pa.string()) for values, name in names}
    return Layer(f"{layer.name}_problems", column, pa.table(columns), layer.crs)


def problems_of_rows(layer: Layer) -> tuple[list[Finding], list[Finding]]:
    """Return what can be wrong with a row whatever the others are: its geometry, and where it lies."""
    return _geometry(layer), _out_of_use(layer)


def problems_of_fields(layer: Layer) -> list[FieldFinding]:
    """Return the problems with the values of fields, each field by itself."""
    return _fields(layer)


def marks_of(layer: Layer) -> tuple[I64Array, np.ndarray]:
    """Return the rows (n,) that may be duplicates of others, and numbers that such have in common."""
    column = layer.geometry
    known = np.flatnonzero(~column.is_empty & np.isfinite(column.row_bounds()).all(axis=1))
    return known, signatures(column)[known]


def twins(known: I64Array, marks: np.ndarray) -> tuple[I64Array, I64Array]:
    """Return rows that are drawn like an earlier one, rising, and that one."""
    _, first, number = np.unique(marks, return_index=True, return_inverse=True)
    twin = known[first[number.reshape(-1)]]
    repeats = twin != known
    return known[repeats], twin[repeats]


def duplicates(rows: I64Array, places: F64Array, like: Sequence[str]) -> Finding:
    """Return features drawn like others as a problem; ``like`` names those of the first 1,000."""
    return Finding(
        kind="duplicate",
        reason="another feature has the same geometry",
        cure="leave one out",
        harms=False,
        rows=rows,
        places=places,
        details=[f"like {label}" for label in like],
    )


def _geometry(layer: Layer) -> list[Finding]:
    column = layer.geometry
    none = np.full((layer.n_rows, 2), np.nan)
    nulls = np.flatnonzero(column.is_null)
    empty = np.flatnonzero(column.is_empty & ~column.is_null)
    found = [
        Finding(
            kind="null geometry",
            reason="the feature has no geometry",
            cure="look into the source",
            harms=False,
            rows=nulls,
            places=none[nulls],
        ),
        Finding(
            kind="empty geometry",
            reason="the geometry has no vertex",
            cure="look into the source",
            harms=False,
            rows=empty,
            places=none[empty],
        ),
    ]
    if column.family == Family.POLYGONS:
        problems = problems_of(column)
        for kind in Problem:
            at = np.flatnonzero(problems.kind == kind)
            cure = "look into the source" if kind == Problem.NOT_FINITE else "mend"
            cure = cure if kind.is_fault else "none needed"
            name = kind.name.lower().replace("_", " ")
            found.append(
                Finding(
                    kind=name,
                    reason=kind.words,
                    cure=cure,
                    harms=kind.is_fault,
                    rows=problems.row[at],
                    places=problems.xy[at],
                )
            )
        return found
    return found + _simple_problems(column)


def _simple_problems(column: GeometryColumn) -> list[Finding]:
    """What can be wrong with lines and points."""
    row = owners(column.vertex_offsets_of_rows)
    wrong = np.flatnonzero(~np.isfinite(column.xy).all(axis=1))
    rows, first = np.unique(row[wrong], return_index=True)
    words = Problem.NOT_FINITE.words
    found = [
        Finding(
            kind="not finite",
            reason=words,
            cure="look into the source",
            harms=True,
            rows=rows,
            places=column.xy[wrong[first]],
        )
    ]
    if column.family == Family.LINES:
        ring_of = owners(column.ring_offsets)
        moves = (column.xy != column.xy[column.ring_offsets[:-1][ring_of]]).any(axis=1)
        still = np.flatnonzero(count_by(ring_of[moves], column.n_rings) == 0)
        still = still[np.diff(column.ring_offsets)[still] > 0]
        at = column.ring_offsets[:-1][still]
        rows, first = np.unique(row[at], return_index=True)
        found.append(
            Finding(
                kind="no length",
                reason="a line is but a point",
                cure="look into the source",
                harms=True,
                rows=rows,
                places=column.xy[at[first]],
            )
        )
        same = (ring_of[1:] == ring_of[:-1]) & (column.xy[1:] == column.xy[:-1]).all(axis=1)
        repeats = np.flatnonzero(same) + 1
        rows, first = np.unique(row[repeats], return_index=True)
        found.append(
            Finding(
                kind="repeated vertex",
                reason=Problem.REPEATED_VERTEX.words,
                cure="none needed",
                harms=False,
                rows=rows,
                places=column.xy[repeats[first]],
            )
        )
    return found


def _duplicates(layer: Layer) -> list[Finding]:
    """Features drawn alike; those with the same attributes too are told apart."""
    rows, twin = twins(*marks_of(layer))
    places = inside_points(layer.geometry.take(rows)) if len(rows) else np.zeros((0, 2))
    return [duplicates(rows, places, [layer.row_label(int(t)) for t in twin[:1000]])]


def _out_of_use(layer: Layer) -> list[Finding]:
    """Coordinates outside of where the CRS is meant to be used."""
    crs = layer.crs
    if crs is None or crs.area_of_use is None:
        return []

    area = crs.area_of_use
    bounds = layer.geometry.row_bounds()
    known = np.flatnonzero(np.isfinite(bounds).all(axis=1))
    middle = (bounds[known, :2] + bounds[known, 2:]) / 2
    geographic = crs.geodetic_crs
    if geographic is None:
        return []
    lon, lat = (np.asarray(v) for v in to_degrees(crs, geographic).transform(*middle.T))
    margin = 1.0  # degree
    with np.errstate(invalid="ignore"):
        outside = ~((lat >= area.south - margin) & (lat <= area.north + margin))
        if area.west <= area.east:
            outside |= ~((lon >= area.west - margin) & (lon <= area.east + margin))
    rows = known[outside]
    return [
        Finding(
            kind="outside the CRS",
            reason=f"it lies outside the area of use of {label(crs)}",
            cure="check the CRS, or the order of coordinates",
            harms=False,
            rows=rows,
            places=middle[outside],
        )
    ]


def _key(layer: Layer, key: str) -> list[Finding]:
    layer.check_field(key)
    column = layer.table.column(key)
    nulls = np.flatnonzero(np.asarray(pc.is_null(column)))
    codes = codes_of(column)
    counts = np.bincount(codes)
    several = np.flatnonzero((counts[codes] > 1) & (codes > 0))
    values = pc.take(column, pc.column(several[:1000])).to_pylist()
    places = _middles(layer)
    return [
        Finding(
            kind="null key",
            reason=f"{key} is null",
            cure="fill it",
            harms=True,
            rows=nulls,
            places=places[nulls],
        ),
        Finding(
            kind="key not unique",
            reason=f"{key} names several features",
            cure="number them anew",
            harms=True,
            rows=several,
            places=places[several],
            details=[repr(v) for v in values],
        ),
    ]


def _middles(layer: Layer) -> F64Array:
    bounds = layer.geometry.row_bounds()
    with np.errstate(invalid="ignore"):
        middle = (bounds[:, :2] + bounds[:, 2:]) / 2
    return np.where(np.isfinite(middle), middle, np.nan)


def _coverage(layer: Layer) -> tuple[list[Finding], list[NearlyClass]]:
    """Overlaps of features, and gaps that they enclose, each with its area; and how narrow they are."""
    good = np.flatnonzero(np.isfinite(layer.geometry.row_bounds()).all(axis=1))
    plan = lay_out(layer.take(good), None)
    if plan is None:
        return [], []
    arrangement, ruler = plan.arrangement, ruler_for(layer.crs)
    faces = faces_of(plan, ruler)
    face_xy = np.full((arrangement.n_faces, 2), np.nan)  # a corner of each face
    face_xy[arrangement.face_of_halfedge] = plan.node_xy[arrangement.origin]
    unit = area_unit(ruler)
    shared, gaps = np.flatnonzero(faces.is_overlap), np.flatnonzero(faces.is_gap)
    first = good[arrangement.labels[arrangement.label_offsets[shared]]]
    second = good[arrangement.labels[arrangement.label_offsets[shared] + 1]]
    overlaps = [
        f"{size:,.4g} {unit}, {wide:,.3g} {ruler.unit} wide, with {layer.row_label(int(k))}"
        for size, wide, k in zip(
            faces.area[shared][:1000], faces.width[shared][:1000], second[:1000], strict=True
        )
    ]
    beside = _row_beside(arrangement, gaps)
    gap_words = [
        f"{size:,.4g} {unit}, {wide:,.3g} {ruler.unit} wide"
        for size, wide in zip(faces.area[gaps][:1000], faces.width[gaps][:1000], strict=True)
    ]
    findings = [
        Finding(
            kind="overlap",
            reason="features overlap",
            cure="mend --coverage, or union",
            harms=True,
            rows=first,
            places=face_xy[shared],
            details=overlaps,
        ),
        Finding(
            kind="gap",
            reason="features enclose a gap",
            cure="mend --coverage, or leave it",
            harms=True,
            rows=good[beside],
            places=face_xy[gaps],
            details=gap_words,
        ),
    ]
    return findings, _by_width(faces, ruler.unit)


def _by_width(faces: Faces, unit: str) -> list[NearlyClass]:
    """Count gaps and overlaps by width, in classes of a tenth of each other."""
    odd = faces.is_gap | faces.is_overlap
    if not odd.any():
        return []
    with np.errstate(divide="ignore", invalid="ignore"):
        powers = np.floor(np.log10(faces.width)) + 1
    powers[~(faces.width > 0)] = -9
    powers = np.clip(powers, -9, 12)
    return [
        NearlyClass(
            10.0**power,
            int((faces.is_gap & (powers == power)).sum()),
            int((faces.is_overlap & (powers == power)).sum()),
            unit,
        )
        for power in np.unique(powers[odd]).tolist()
    ]


def _row_beside(arrangement: Any, faces: I64Array) -> I64Array:
    """Return a row that borders each face."""
    wanted = np.full(arrangement.n_faces, -1)
    halfedge = np.arange(len(arrangement.origin))
    other = arrangement.face_of_halfedge[halfedge ^ 1]
    has = np.diff(arrangement.label_offsets)[other] > 0
    row = arrangement.labels[arrangement.label_offsets[other[has]]]
    wanted[arrangement.face_of_halfedge[has]] = row
    return np.maximum(wanted[faces], 0)


def _fields(layer: Layer) -> list[FieldFinding]:
    """Problems of values: nothing in them, cut off, no numbers, numbers as texts, blanks, misread
    letters.
    """
    found = []
    for arrow_field in layer.table.schema:
        column = layer.table.column(arrow_field.name)
        n_known = len(column) - column.null_count
        if len(column) and n_known == 0:
            found.append(FieldFinding(arrow_field.name, "only nulls", len(column)))
            continue
        if n_known > 1 and kind_of(arrow_field.type) != "blob" and len(pc.unique(column)) == 1:
            value = values_of(pa.table([column[:1]], ["v"]))[0]["v"]
            words = repr(value) if isinstance(value, str) else shown(value)
            found.append(FieldFinding(arrow_field.name, f"the same in all: {words}", n_known))
        if kind_of(arrow_field.type) == "text":
            found += _texts(layer, arrow_field, column)
        elif pa.types.is_floating(column.type):
            odd = (("no number (NaN), and not null", pc.is_nan), ("infinite", pc.is_inf))
            checks = [_of_rows(layer, arrow_field, column, words, of(column)) for words, of in odd]
            found += [finding for finding in checks if finding is not None]
    return found


def _of_rows(
    layer: Layer, arrow_field: pa.Field, column: pa.ChunkedArray, reason: str, mask: Any
) -> FieldFinding | None:
    """Return the finding of rows in which something holds; None if there are none."""
    rows = np.flatnonzero(np.asarray(pc.fill_null(mask, False), bool))
    if not len(rows):
        return None
    values = pc.take(column, pc.column(rows[:FIRST])).to_pylist()
    first = [f"{layer.row_label(int(r))}: {v!r}" for r, v in zip(rows, values, strict=False)]
    return FieldFinding(arrow_field.name, reason, len(rows), first)


def _texts(layer: Layer, arrow_field: pa.Field, column: pa.ChunkedArray) -> list[FieldFinding]:
    found = []

    def add(reason: str, mask: Any, least: int = 1) -> None:
        finding = _of_rows(layer, arrow_field, column, reason, mask)
        if finding is not None and finding.count >= least:
            found.append(finding)

    trimmed = pc.utf8_trim_whitespace(column)
    add("blanks before or behind", pc.not_equal(trimmed, column))
    add("letters that look wrongly decoded", pc.match_substring_regex(column, pattern=_MISREAD))
    width = width_of(arrow_field)
    if width is not None and width >= 5:
        lengths = pc.utf8_length(column)
        full = pc.equal(lengths, width)
        if pc.min(lengths).as_py() == width:
            full = pc.less(lengths, 0)  # all alike, as codes and dates are
        # One or two may just fit.
        add(f"as long as the width of {width}: perhaps cut off", full, least=3)
    known = pc.drop_null(column)
    filled = pc.filter(known, pc.not_equal(pc.utf8_trim_whitespace(known), ""))
    has_codes = pc.any(pc.match_substring_regex(filled, CODE)).as_py()  # 01029 is no number
    if len(filled) > 1 and not (has_codes or recast(filled, typed_field("x", "real")).lost.any()):
        found.append(FieldFinding(arrow_field.name, "numbers kept as text", len(filled)))
    return found
