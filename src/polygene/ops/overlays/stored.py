"""Stored measures: fields that hold the area, length or perimeter of their features, and cuts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, F64Array, I64Array
from polygene.classes import NamedTuple, dataclass
from polygene.errors import DataError, did_you_mean, listed
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.table.sizes import GEOMETRY_FUNCTIONS
from polygene.table.types import kind_of

SAMPLE = 2000  # features looked at
FIRST, LIKELY = 100, 0.5  # of a field that is wrong in half of so few no more are looked at
LEAST = 3  # values without which nothing can be said
SHARE, CLOSENESS = 0.95, 0.01  # 95 % of the values within 1 %
_MEASURES = {Family.POLYGONS: ("area", "perimeter"), Family.LINES: ("length",), Family.POINTS: ()}


class Measure(NamedTuple):
    """A field that holds a measure of its features: which, and in which unit."""

    measure: str
    unit: str | None

    @property
    def words(self) -> str:
        return f"{self.measure} in {self.unit}" if self.unit else self.measure


@dataclass(frozen=True)
class Stored:
    """A stored measure of a source, and what became of it in the result.

    field : its name in the result
    cut : rows of the result that hold a piece of their feature
    done : ``kept``, ``refreshed`` or ``apportioned``
    """

    layer: str
    field: str
    measure: str
    unit: str | None
    cut: int
    done: str


def stored_measures(layer: Layer) -> dict[str, Measure]:
    """Return the fields that seem to hold a measure of their features.

    95 of 100 values must be within 1 % of the area, perimeter or length in some unit.
    """
    names = [f.name for f in layer.table.schema if kind_of(f.type) == "number"]
    if not names or not _MEASURES[layer.geometry.family] or layer.n_rows < LEAST:
        return {}
    # Most fields of numbers are no measure, and a few features tell; but not of a field that few have.
    if layer.n_rows > 4 * FIRST:
        likely = _fitting(layer, names, FIRST, LIKELY)
        rare = {n for n in names if layer.table.column(n).null_count > layer.n_rows // 2}
        names = [name for name in names if name in likely or name in rare]
    return _fitting(layer, names, SAMPLE, SHARE) if names else {}


def _fitting(
    layer: Layer, names: list[str], sample: int, share: float, least: int = LEAST
) -> dict[str, Measure]:
    """Return the measure that fields seem to hold: where a share of the values, of which there are at
    least so many, fits.
    """
    step = max(1, layer.n_rows // sample)
    some = layer.take(np.arange(0, layer.n_rows, step))
    has_unit = ruler_for(layer.crs).unit == "m"
    found: dict[str, Measure] = {}
    for measure in _MEASURES[layer.geometry.family]:
        function = GEOMETRY_FUNCTIONS[measure]
        sizes = function.compute(some, None)
        units = function.units if has_unit else {"": 1.0}
        for name in names:
            values = pc.cast(some.table.column(name), pa.float64(), safe=False).to_numpy()
            known = np.isfinite(values) & (sizes > 0)
            if known.sum() < least or name in found:
                continue
            ratio = values[known] / sizes[known]
            for unit, size in units.items():
                if np.mean(np.abs(ratio * size - 1) <= CLOSENESS) >= share:
                    found[name] = Measure(measure, unit or None)
    return found


class MeasuredSource(NamedTuple):
    """A layer that pieces are of: its row for each piece, NONE for none, and its fields' names."""

    layer: Layer
    rows: I64Array
    names: Sequence[str]


def adjusted(
    result: Layer,
    sources: Sequence[MeasuredSource],
    refresh: Sequence[str],
    apportion: Sequence[str],
) -> tuple[Layer, list[Stored]]:
    """Measure stored measures anew, or scale quantities by the share of the feature that is left.

    Parameters
    ----------
    refresh : fields of the result that are stored measures
    apportion : fields of numbers to multiply by the share of their feature's size in each row

    Raises
    ------
    DataError
        If a field is not there, or is no stored measure, or no number.
    """
    own_name = {
        name: (s, field)
        for s in sources
        for name, field in zip(s.names, s.layer.table.column_names, strict=True)
    }
    for name in (*refresh, *apportion):
        if name not in own_name:
            names = list(own_name)
            raise DataError(
                f"the result has no field {name!r} of its sources{did_you_mean(name, names)} (there "
                f"are {listed(names, 12)})"
            )
    known = {id(s.layer): stored_measures(s.layer) for s in sources}
    table, told = result.table, []
    for name, (source, field) in own_name.items():
        measure = known[id(source.layer)].get(field)
        share = None
        if name in apportion:
            share = _shares(result, source)
            table = _replaced(table, name, share)
        elif name in refresh:
            is_number = kind_of(source.layer.table.schema.field(field).type) == "number"
            if measure is None and is_number:  # one feature will do where the field is named
                measure = _fitting(source.layer, [field], SAMPLE, SHARE, least=1).get(field)
            if measure is None:
                raise DataError(
                    f"field {name!r} is not the area, perimeter or length of its features in any "
                    "unit, so it cannot be refreshed; measure adds one"
                )
            values = GEOMETRY_FUNCTIONS[measure.measure].compute(result, measure.unit)
            table = _set(table, name, values, source.rows == NONE)
        if measure is not None or share is not None:
            measure = measure or Measure("quantity", None)
            n_cut = int((_shares(result, source) < 1 - 1e-9).sum())
            done = (
                "apportioned" if share is not None else "refreshed" if name in refresh else "kept"
            )
            told.append(
                Stored(
                    layer=source.layer.name,
                    field=name,
                    measure=measure.measure,
                    unit=measure.unit,
                    cut=n_cut,
                    done=done,
                )
            )
    return replace(result, table=table), told


def _shares(result: Layer, source: MeasuredSource) -> F64Array:
    """Return how much of its feature each row of the result is; 1 where it has none."""
    ruler = ruler_for(result.crs)
    if source.layer.geometry.family != result.geometry.family:
        return np.ones(result.n_rows)
    before = row_measures(source.layer.geometry, ruler)
    now = row_measures(result.geometry, ruler)
    share = np.ones(result.n_rows)
    has = source.rows != NONE
    of = before[source.rows[has]]
    share[has] = np.divide(now[has], of, out=np.ones(int(has.sum())), where=of > 0)
    share[np.abs(share - 1) < 1e-12] = 1.0
    return share


def _replaced(table: pa.Table, name: str, share: F64Array) -> pa.Table:
    field = table.schema.field(name)
    if kind_of(field.type) != "number":
        raise DataError(f"field {name!r} is {kind_of(field.type)}; only numbers can be apportioned")
    values = pc.multiply(pc.cast(table.column(name), pa.float64(), safe=False), pc.column(share))
    return table.set_column(table.column_names.index(name), pa.field(name, pa.float64()), values)


def _set(table: pa.Table, name: str, values: F64Array, is_none: np.ndarray) -> pa.Table:
    array = pa.chunked_array([pc.with_nulls(values, is_none)])
    return table.set_column(table.column_names.index(name), pa.field(name, pa.float64()), array)
