"""Measure: areas, lengths and places of features as columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import F64Array
from polygene.classes import dataclass
from polygene.errors import DataError, UsageError
from polygene.geometry import Family
from polygene.layer import Layer, names_alike
from polygene.longitudes import doubted, opened, wrapped
from polygene.measures import PlaneRuler, ruler_for
from polygene.ops.given import Names, names
from polygene.ops.ground import stretched
from polygene.ops.places.extents import doubt_of
from polygene.ops.summary import NamedRows, area_unit
from polygene.places import centroids_of, inside_points
from polygene.plane.validity import invalid_rows
from polygene.table.sizes import COUNTED, GEOMETRY_FUNCTIONS

_FAMILY = {"area": Family.POLYGONS, "perimeter": Family.POLYGONS, "length": Family.LINES}


@dataclass(frozen=True)
class WantedMeasure:
    """One measure: area, length, perimeter, vertices or parts with a unit; or places.

    field : the name of its column, or for those of several columns what stands in front
    """

    measure: str
    unit: str | None = None
    field: str | None = None


@dataclass(frozen=True)
class Total:
    """A measured column: the sum over all features, and what the field held before.

    changed : features whose stored value differed by more than 1 in 1000; None for a new field
    """

    field: str
    unit: str
    total: float
    changed: int | None


@dataclass(frozen=True)
class MeasureSummary:
    """What was measured.

    invalid : polygons whose rings cross or lie wrongly: their area is the sum of their rings' by
        direction, which need not be what they cover
    """

    name: str
    features: int
    without_geometry: int
    method: str
    columns: list[str]
    totals: list[Total]
    invalid: NamedRows
    notes: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class MeasureResult:
    layer: Layer
    summary: MeasureSummary


def measure(
    layer: Layer,
    *,
    area: Names = (),
    length: Names = (),
    perimeter: Names = (),
    centroid: bool = False,
    label_point: bool = False,
    bounds: bool = False,
    vertices: bool = False,
    parts: bool = False,
) -> MeasureResult:
    """Add measures as columns; one whose field is there takes its place.

    Areas and lengths are planar in a projected CRS and on the ellipsoid in a geographic one.
    Features without geometry get null.

    Parameters
    ----------
    area, length, perimeter : units such as ``ha``, or ``field=ha`` with the name of the column;
        ``crs`` is the unit of the CRS
    centroid, label_point : x and y of the centroid, or of a point that is sure to lie inside
    bounds : the box round each feature
    vertices, parts : how many

    Raises
    ------
    DataError
        If the layer's features have no such measure.
    UsageError
        If a unit is unknown, there is no CRS for it, or nothing is asked for.
    """
    sized = (("area", area), ("length", length), ("perimeter", perimeter))
    wanted = [
        WantedMeasure(name, *_unit_and_field(text))
        for name, given in sized
        for text in names(given)
    ]
    flags = {
        "centroid": centroid,
        "label_point": label_point,
        "bounds": bounds,
        "vertices": vertices,
        "parts": parts,
    }
    wanted += [WantedMeasure(name) for name, is_asked in flags.items() if is_asked]
    if not wanted:
        raise UsageError("say what to measure: `area` ha, `length` km, `centroid` ...")
    return measured(layer, wanted)


def _unit_and_field(text: str) -> tuple[str | None, str | None]:
    field, equals, unit = text.rpartition("=")
    unit = unit.strip()
    return (None if unit == "crs" else unit), (field.strip() or None if equals else None)


def measured(layer: Layer, wanted: Sequence[WantedMeasure]) -> MeasureResult:
    """Do what `measure` does."""
    doubt = doubt_of(doubted(layer))
    if doubt:
        raise DataError(doubt)
    columns: dict[str, np.ndarray] = {}
    totals = []
    for item in wanted:
        if item.measure in GEOMETRY_FUNCTIONS:
            name, values, total = _of_function(layer, item)
            columns[name] = values
            totals.append(total)
        else:
            columns |= _places(layer, item)
    table = layer.table
    is_none = layer.geometry.is_empty
    for name, values in columns.items():
        array = pa.chunked_array([pc.with_nulls(values, is_none)])
        field = pa.field(name, array.type)
        if table.num_columns == 0:
            table = pa.table([array], pa.schema([field]))
        elif known := names_alike([name], table.column_names):
            table = table.set_column(table.column_names.index(known[name]), field, array)
        else:
            table = table.append_column(field, array)
    ruler = ruler_for(layer.crs)
    method = "on the plane of the CRS" if isinstance(ruler, PlaneRuler) else "on the ellipsoid"
    return MeasureResult(
        replace(layer, table=table),
        MeasureSummary(
            name=layer.name,
            features=layer.n_rows,
            without_geometry=int(is_none.sum()),
            method=method,
            columns=list(columns),
            totals=totals,
            invalid=_invalid(layer, wanted),
            notes=stretched(layer, (item.measure for item in wanted)),
        ),
    )


def _invalid(layer: Layer, wanted: Sequence[WantedMeasure]) -> NamedRows:
    if layer.geometry.family != Family.POLYGONS or all(w.measure != "area" for w in wanted):
        return NamedRows()
    return NamedRows.of(layer, invalid_rows(layer.geometry))


def _of_function(layer: Layer, item: WantedMeasure) -> tuple[str, np.ndarray, Total]:
    function = GEOMETRY_FUNCTIONS[item.measure]
    family = _FAMILY.get(item.measure, layer.geometry.family)
    layer = layer.without_geometry_as(family)
    if family != layer.geometry.family:
        family = layer.geometry.family
        raise DataError(f"layer {layer.name!r} holds {family.words}, which have no {item.measure}")
    if item.unit is not None and item.unit not in function.units:
        raise UsageError(
            f"{item.unit!r} is no unit of {item.measure}; there are {', '.join(function.units)}"
        )
    values = function.compute(layer, item.unit)
    unit = item.unit or ("" if item.measure in COUNTED else _own_unit(layer, item.measure))
    name = item.field or "_".join([item.measure, *([item.unit] if item.unit else [])])
    total = float(values.sum())
    if item.measure in COUNTED:
        values = values.astype(np.int64)
    return name, values, Total(name, unit, total, _changed(layer, name, values))


def _own_unit(layer: Layer, measure: str) -> str:
    ruler = ruler_for(layer.crs)
    return area_unit(ruler) if measure == "area" else ruler.unit


def _changed(layer: Layer, name: str, values: F64Array) -> int | None:
    """Count stored values that differ from the measured ones; None if there are none stored."""
    known = names_alike([name], layer.table.column_names).get(name)
    if known is None:
        return None
    column = layer.table.column(known)
    if not (pa.types.is_integer(column.type) or pa.types.is_floating(column.type)):
        return layer.n_rows
    stored = pc.cast(column, pa.float64(), safe=False).to_numpy()
    is_near = np.abs(stored - values) <= 1e-3 * np.abs(values)
    return int((~is_near & ~layer.geometry.is_empty).sum())


def _places(layer: Layer, item: WantedMeasure) -> dict[str, F64Array]:
    column, front = layer.geometry, item.field or ""
    if item.measure == "bounds":
        running, is_over, turn = opened(layer, np.arange(layer.n_rows), layer.n_rows)
        # Over the 180th meridian the west is more than the east (RFC 7946, section 5.2).
        bounds = np.where(is_over[:, None], running.row_bounds(), column.row_bounds())
        bounds[:, [0, 2]] = wrapped(bounds[:, [0, 2]], turn)
        names = ("x_min", "y_min", "x_max", "y_max")
        return {f"{front}{name}": bounds[:, k] for k, name in enumerate(names)}
    if item.measure == "label_point":
        xy, front = inside_points(column), front or "label_"
    elif item.measure == "centroid":
        xy, front = centroids_of(layer), front or "centroid_"
    else:
        raise UsageError(f"there is no measure {item.measure!r}")
    return {f"{front}x": xy[:, 0], f"{front}y": xy[:, 1]}
