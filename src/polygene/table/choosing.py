"""Values that are chosen from several, row by row: numbers of several types among them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.errors import UsageError
from polygene.table.arithmetic import EXACT, Numbers

if TYPE_CHECKING:
    from polygene.layer import Layer


def chosen(
    compute: Callable[..., Any],
    pick: Callable[[int, list[Any]], Any],
    given: Sequence[Any],
    layer: Layer,
) -> Any:
    """Return what ``compute`` chooses from columns or single values, each as it was given.

    Of whole and real numbers it chooses reals. A whole number that is none of these would be another
    one then, and it may be a key: it is refused, unless it is not chosen anywhere.

    Parameters
    ----------
    pick : what is chosen of the values of one row, given its number
    layer : whose rows they are

    Raises
    ------
    UsageError
    """
    data = of_one_type(given)
    found = compute(*data)
    if not pa.types.is_floating(found.type):
        return found
    for one, value in zip(given, data, strict=True):
        if not pa.types.is_integer(one.type) or not (is_other := _is_rounded(one, value)).any():
            continue
        # Chosen it may be where the result is the real number nearest to it, which may be there too.
        for row in np.flatnonzero(is_other & _are_true(pc.equal(found, value))).tolist():
            number = _in_row(one, row)
            if pick(row, [_in_row(other, row) for other in given]) == number:
                raise UsageError(
                    f"whole numbers beside real ones become real, and {number} in {layer.name}, "
                    f"{layer.row_label(row)}, would become {int(_in_row(value, row))}; write "
                    "whole(...) about the real ones, or add 0.0 to the whole ones if they may be "
                    "rounded"
                )
    return found


def case(tests: Sequence[Any], *data: Any) -> Any:
    """Return the value behind the first test that is true; behind all values is what there is else."""
    *values, found = data
    for test, value in zip(tests[::-1], values[::-1], strict=True):
        found = pc.if_else(test, value, found)
    return found


def case_of_row(tests: Sequence[Any], row: int, values: list[Any]) -> Any:
    """Return what `case` does, of one row."""
    return next((v for t, v in zip(tests, values, strict=False) if _in_row(t, row)), values[-1])


def _extreme_of(compute: Callable[[list[Any]], Any]) -> Callable[[int, list[Any]], Any]:
    """Return an extreme of a row's values; Python compares whole and real numbers exactly."""
    return lambda _, values: compute([v for v in values if v is not None and v == v])


# What functions choose of the values of one row.
OF_ROW: dict[str, Callable[[int, list[Any]], Any]] = {
    "coalesce": lambda _, values: next((v for v in values if v is not None), None),
    "least": _extreme_of(min),
    "greatest": _extreme_of(max),
}


def _in_row(data: Any, row: int) -> Any:
    return data.as_py() if isinstance(data, pa.Scalar) else data[row].as_py()


def _are_true(data: Any) -> BoolArray:
    single = isinstance(data, pa.Scalar)
    return (
        np.array([data.as_py() is True]) if single else np.asarray(pc.fill_null(data, False), bool)
    )


def _is_rounded(data: Any, reals: Any) -> BoolArray:
    """Return where whole numbers (n,), or a single one, are others than the reals made of them."""
    whole, real = Numbers(data), Numbers(reals)
    if pa.types.is_float64(reals.type) and (np.abs(real.values) < EXACT).all():
        return np.zeros(1, bool)
    is_out = real.values >= 2.0**63
    back = np.where(is_out, 0.0, real.values).astype(np.int64)
    return (is_out | (back != whole.values)) & ~whole.is_null


def of_one_type(data: Sequence[Any]) -> list[Any]:
    """Return columns or single values in one type, where they are numbers of several types.

    Whole numbers have 64 bits then, and beside real ones they become the nearest of 64 bits; of 32 if
    all columns have these, and what is written out is the same in them.
    """
    kinds = {one.type for one in data}
    if len(kinds) < 2 or not all(map(_is_number, kinds)):
        return list(data)
    kind = pa.int64() if all(map(pa.types.is_integer, kinds)) else pa.float64()
    written = [one.as_py() for one in data if isinstance(one, pa.Scalar)]
    columns = {one.type for one in data if not isinstance(one, pa.Scalar)}
    if columns == {pa.float32()} and all(v is None or float(np.float32(v)) == v for v in written):
        kind = pa.float32()
    return [pc.cast(one, kind, safe=False) for one in data]


def _is_number(kind: pa.DataType) -> bool:
    return pa.types.is_integer(kind) or pa.types.is_floating(kind)
