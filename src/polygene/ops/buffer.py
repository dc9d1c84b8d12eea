"""Buffer: everything within a distance of features."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import proj
from polygene.arrays import F64Array, I64Array, owners
from polygene.classes import dataclass
from polygene.crs import label
from polygene.errors import DataError, ExpressionError, UsageError
from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.layer import Layer, row_numbers
from polygene.measures import row_areas, ruler_for
from polygene.notes import counted
from polygene.ops.admit import admit
from polygene.ops.attributes import free_name
from polygene.ops.given import Names, expression, names
from polygene.ops.ground import stretched
from polygene.ops.grouped import grouped_by
from polygene.ops.parts import single_parts as to_single_parts
from polygene.ops.places.buffer_degrees import buffered_in_degrees, grid_round
from polygene.ops.places.extents import finite_bounds
from polygene.ops.proved import prove_valid
from polygene.ops.summary import Admitted, NamedRows, area_unit
from polygene.plane.buffering import buffered_rows, left_over, row_outlines
from polygene.plane.grid import DEFAULT_GEOGRAPHIC, MAX_UNITS, Grid, default_step
from polygene.plane.heaps import melt_crowds, melt_heaps
from polygene.plane.melting import melt
from polygene.plane.offsets import Style
from polygene.progress import SILENT, Progress
from polygene.table.agreeing import agreed
from polygene.table.expression import Expression
from polygene.table.groups import Groups, group_rows
from polygene.units import Distance, Length, as_written, check_size, metres, metres_worded

HALF_ROUND = 20_003_931.5  # metres from pole to pole (GRS 80)
MOST_COARSENED = 1e6  # times that a grid may grow for a distance


@dataclass(frozen=True)
class BufferSummary:
    """What a buffer did.

    distances : in metres or, without a CRS, in map units; of a field the least and the largest
    asked : the same as they were written, if they were
    vanished : features of which nothing is left; skipped : those without geometry or distance
    admitted : what became of its invalid features
    proved : features that came out, each found valid by the exact test
    error : on the ellipsoid, the most that distances are wrong by, as a share of them
    """

    name: str
    total: int
    taken: int
    distances: list[float]
    unit: str
    out: int
    area: float
    area_unit: str
    vanished: NamedRows
    skipped: NamedRows
    admitted: Admitted
    disagreements: dict[str, int]
    method: str
    crs: str
    notes: list[str]
    proved: int = 0
    error: float = 0.0
    asked: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class BufferResult:
    layer: Layer
    summary: BufferSummary


def buffer(
    layer: Layer,
    distance: Length | F64Array | None = None,
    *,
    rings: Sequence[Length] = (),
    distance_by: Expression | str | None = None,
    unit: str | None = None,
    bands: bool = False,
    dissolve: bool = False,
    by: Names = (),
    caps: str = "round",
    corners: str = "round",
    mitre_limit: float = 5.0,
    side: str = "both",
    chord_error: float | None = None,
    single_parts: bool = False,
    precision: Length | None = None,
    invalid: str = "mend",
    progress: Progress = SILENT,
) -> BufferResult:
    """Return everything within a distance of each feature, or of all together.

    Parameters
    ----------
    distance : length or (n_rows,) array
        For all, a text such as ``150m``, or a number in metres where the CRS has a unit of length (or
        is in degrees), else in map units; or a number for each row. Negative ones shrink polygons.
    rings : lengths, rising
        Instead, several: a result for each, with the field ``distance``.
    distance_by, unit : instead, an expression that says how far for each feature, in this unit or
        that of the CRS
    bands : bool
        Of rings, what lies between one and the next smaller.
    dissolve : bool
        Join what overlaps, of all features or of those that agree in the fields ``by``. Other fields
        keep a value where all agree.
    caps, corners, mitre_limit, side, chord_error
        How it looks; see `polygene.plane.offsets.Style`.
    precision : length, optional
        Step of the grid, numbers in metres; 0.0001 map units or, in degrees, metres if not given.

    Raises
    ------
    DataError
        If distances make no sense for the features, or coordinates are not finite.
    UsageError
        If rings are not rising, or there is not one distance or expression.
    ExpressionError
        If the expression does not fit, or gives no numbers.
    """
    style = Style(caps, corners, mitre_limit, chord_error, side)
    layer, fields = grouped_by(layer, names(by))
    for name in fields:
        layer.check_field(name)
    if sum((distance is not None, len(rings) > 0, distance_by is not None)) != 1:
        raise UsageError("a buffer needs one of `distance`, `rings` and `distance_by`")
    given = expression(distance_by)
    several: list[Length] = list(rings)
    how_far: list[float] | F64Array
    if isinstance(distance, np.ndarray):
        how_far = distance
    elif given is not None:
        how_far = _told_by(layer, given, unit)
    else:
        several += [] if distance is None else [distance]
        how_far = _in_metres(layer, several)
    step = metres(precision, layer.crs)
    admission = admit(layer, invalid)
    layer = admission.layer
    if isinstance(how_far, np.ndarray):
        how_far = how_far[admission.kept]
    finite_bounds(layer)
    reach = _rings(layer, how_far)
    work = _Work(layer, layer.geometry, style, step, progress)
    groups = group_rows(layer.table, fields, layer.n_rows) if dissolve or fields else None
    pieces = [work.buffered(d, groups) for d in reach]
    if bands:
        pieces = [
            pieces[0],
            *(
                work.between(large, small)
                for small, large in zip(pieces[:-1], pieces[1:], strict=True)
            ),
        ]
    numbers = None if isinstance(how_far, np.ndarray) else how_far
    result = _result(
        layer=layer,
        rings=reach,
        given=numbers,
        pieces=pieces,
        groups=groups,
        admitted=admission.facts,
        work=work,
        single_parts=single_parts,
        has_rings=len(rings) > 0,
    )
    asked = [as_written(d) for d in several]
    return replace(result, summary=replace(result.summary, asked=asked if all(asked) else []))


def _in_metres(layer: Layer, distances: Sequence[Length]) -> list[float]:
    """Return distances in metres or, without a CRS, map units; they may be negative."""
    read = [Distance.parse(d) if isinstance(d, str) else d for d in distances]
    return [
        d.in_metres(layer.crs) if isinstance(d, Distance) else check_size(float(d)) for d in read
    ]


def _told_by(layer: Layer, given: Expression, unit: str | None) -> F64Array:
    """Return what an expression says of each row, in metres or, without a CRS, map units."""
    found = given.values(layer)
    if found.kind not in ("number", "null"):
        raise ExpressionError(f"a distance is a number, and this is a {found.kind}", given.text, 0)
    size = Distance(1.0, unit).in_metres(layer.crs)
    values = pc.fill_null(pc.cast(found.data, pa.float64(), safe=False), float("nan"))
    return np.array(values, np.float64) * size


def _rings(layer: Layer, distance: list[float] | F64Array) -> list[F64Array]:
    """Return (n_rows,) distances for each ring; NaN where a row has none."""
    if isinstance(distance, np.ndarray):
        rings = [distance.astype(np.float64)]
    else:
        several = distance
        if any(b <= a for a, b in zip(several[:-1], several[1:], strict=True)):
            raise UsageError("rings need rising distances, as in 50m,100m,200m")
        rings = [np.full(layer.n_rows, d) for d in several]
    if layer.geometry.family != Family.POLYGONS:
        for d in rings:
            wrong = np.flatnonzero(d < 0)
            if len(wrong):
                raise DataError(
                    f"layer {layer.name!r}, {layer.row_label(int(wrong[0]))}: a negative distance "
                    f"shrinks polygons, and these are {layer.geometry.family.words}"
                )
    return rings


class _Work:
    """Buffers rows of one layer, on the plane of its CRS or each feature on a plane of its own."""

    def __init__(
        self,
        layer: Layer,
        column: GeometryColumn,
        style: Style,
        precision: float | None,
        progress: Progress,
    ) -> None:
        self.layer, self.column, self.style, self.progress = layer, column, style, progress
        crs = layer.crs
        self.is_geographic = crs is not None and crs.is_geographic
        self.unit = 1.0
        if crs is not None and crs.axis_info and not self.is_geographic:
            self.unit = crs.axis_info[0].unit_conversion_factor
        extent = column.extent()
        self.step = precision or default_step(
            None if crs is None else False, [] if extent is None else [extent]
        )
        self.is_parted = np.zeros(layer.n_rows, bool)  # at the 180th meridian, or round a pole
        self.error = 0.0  # the most that distances are wrong by, in distances

    def buffered(self, distance: F64Array, groups: Groups | None) -> GeometryColumn:
        known = np.flatnonzero(np.isfinite(distance) & ~self.column.is_empty)
        self.progress.stage(f"buffering {self.layer.name}: {len(known):,} features")
        some, d = self.column.take(known), distance[known] / self.unit
        self._check(distance[known])
        if self.is_geographic:
            back = self._in_degrees(some, d, known)
            if groups is None:
                return _spread(back, known, self.layer.n_rows)
            return self._melted_degrees(back, groups.group[known], groups.n_groups)
        grid = grid_round(some, d, self.style, self.step)
        if groups is None:
            areas = buffered_rows(some, d, self.style, grid)
            return _spread(areas, known, self.layer.n_rows)
        curves = row_outlines(some, d, self.style, grid)
        group = groups.group[known][curves.row_of_part]
        return melt(*melt_heaps(curves, group, grid), groups.n_groups, grid)

    def _check(self, distance: F64Array) -> None:
        """Refuse distances that have no meaning, on the earth or on the grid of a plane."""
        furthest = float(np.abs(distance).max(initial=0.0))
        if self.layer.crs is not None and furthest > HALF_ROUND:
            raise DataError(
                f"a buffer of {metres_worded(furthest)} goes more than half round the earth; is the "
                "distance, or its unit, what you mean?"
            )
        if self.layer.crs is None and furthest > MOST_COARSENED * self.step * MAX_UNITS:
            raise DataError(
                f"a buffer of {furthest:g} is more than a grid of {self.step:g} can hold; is it what "
                "you mean? A coarser `precision` allows for more"
            )

    def _in_degrees(self, column: GeometryColumn, d: F64Array, rows: I64Array) -> GeometryColumn:
        crs = self.layer.crs
        assert crs is not None
        geod = crs.get_geod() or proj.Geod(ellps="WGS84")
        factor = float(np.degrees(crs.axis_info[0].unit_conversion_factor))
        found = buffered_in_degrees(
            column.with_xy(column.xy * factor), d, self.style, geod, self.step
        )
        self.is_parted[rows[found.is_parted]] = True
        self.error = max(self.error, found.error)
        return found.column.with_xy(found.column.xy / factor)

    def _melted_degrees(
        self, column: GeometryColumn, group: I64Array, n_groups: int
    ) -> GeometryColumn:
        from polygene.ops.dissolve import dissolve

        extent = column.extent()
        if extent is not None:
            grid = Grid.over([extent], DEFAULT_GEOGRAPHIC)
            column, group = melt_crowds(column, group, grid)
        table = pa.table({"group": group})
        layer = Layer(self.layer.name, column, table, self.layer.crs)
        joined = dissolve(layer, ["group"]).layer
        found = np.asarray(joined.table["group"])
        return _spread(joined.geometry, found, n_groups)

    def between(self, large: GeometryColumn, small: GeometryColumn) -> GeometryColumn:
        """Return what of each row's large area the small one leaves."""
        extent = large.extent()
        if extent is None:
            return large
        step = 1e-9 if self.is_geographic else self.step
        return left_over(large, small, Grid.over([extent], step))


def _spread(column: GeometryColumn, rows: I64Array, n_rows: int) -> GeometryColumn:
    """Return the rows of a column at their places among ``n_rows``, the others empty."""
    row_of_part = rows[owners(column.row_offsets)]
    order = np.argsort(row_of_part, kind="stable")
    return column.take_parts(order, row_of_part[order], n_rows)


def _range(distance: F64Array) -> list[float]:
    """Return the least and the greatest distance of rows, one if all are equal."""
    known = distance[np.isfinite(distance)]
    return sorted({float(known.min()), float(known.max())}) if len(known) else []


def _result(
    layer: Layer,
    rings: list[F64Array],
    given: list[float] | None,
    pieces: list[GeometryColumn],
    groups: Groups | None,
    admitted: Admitted,
    work: _Work,
    single_parts: bool,
    has_rings: bool,
) -> BufferResult:
    notes: list[str] = []
    skipped = ~np.isfinite(rings[0]) | layer.geometry.is_empty
    columns, tables, disagreements = [], [], {}
    base = layer.table
    if groups is not None:
        found = agreed(layer.table, groups, [])
        base, disagreements = found.table, found.disagreements
    vanished = np.zeros(layer.n_rows, bool)
    for i, column in enumerate(pieces):
        kept = np.flatnonzero(~column.is_empty)
        if groups is None:
            vanished |= column.is_empty & ~skipped
        table = pc.take(base, row_numbers(kept)) if base.num_columns else base
        if has_rings and given is not None:
            table = _with_distance(table, given[i], len(kept), layer.name)
        columns.append(column.take(kept))
        tables.append(table)
    column = concatenate(columns)
    proved = prove_valid(column, f"buffer of {layer.name}")
    n_parted = int(work.is_parted.sum())
    if n_parted:
        notes.append(f"{counted(n_parted, 'result')} parted at the 180th meridian")
    table = pa.concat_tables(tables) if tables[0].num_columns else tables[0]
    result = replace(layer, geometry=column.as_multi_as(), table=table, ids=None, total=None)
    if groups is None and len(rings) == 1 and layer.ids is not None:
        result = replace(result, ids=layer.ids[np.flatnonzero(~pieces[0].is_empty)])
    if single_parts:
        result = to_single_parts(result)
    notes += stretched(layer, ["distance", "area"])
    ruler = ruler_for(layer.crs)
    distances = given if given is not None else _range(rings[0])
    return BufferResult(
        result,
        BufferSummary(
            name=layer.name,
            total=layer.n_total,
            taken=layer.n_rows,
            distances=distances,
            unit=ruler.unit,
            out=result.n_rows,
            area=float(row_areas(result.geometry, ruler).sum()),
            area_unit=area_unit(ruler),
            vanished=NamedRows.of(layer, vanished),
            skipped=NamedRows.of(layer, skipped),
            admitted=admitted,
            disagreements=disagreements,
            method="on the ellipsoid" if work.is_geographic else "on the plane of the CRS",
            crs=label(layer.crs),
            notes=notes,
            proved=proved,
            error=work.error,
        ),
    )


def _with_distance(table: pa.Table, distance: float, n_rows: int, layer: str) -> pa.Table:
    taken = {name.casefold() for name in table.column_names}
    column = pc.column(np.full(n_rows, distance))
    field = pa.field(free_name("distance", layer, taken), pa.float64())
    if table.num_columns == 0:
        return pa.table([column], pa.schema([field]))
    return table.append_column(field, column)
