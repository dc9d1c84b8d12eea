"""Values that are chosen from several, row by row: numbers of several types among them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.errors import UsageError
from polygene.table.arithmetic import EXACT, Numbers, order

if TYPE_CHECKING:
    from polygene.layer import Layer


_BETTER: dict[str, Callable[..., Any]] = {"least": pc.less, "greatest": pc.greater}


def chosen(name: str, compute: Callable[..., Any], given: Sequence[Any], layer: Layer) -> Any:
    """Return what ``compute`` chooses from columns or single values, each as it was given.

    Of whole and real numbers it chooses reals. A whole number that is none of these would be another
    one then, and it may be a key: it is refused, unless it is not chosen anywhere.

    Parameters
    ----------
    name : ``least`` and ``greatest`` choose by size, others by place
    layer : whose rows they are

    Raises
    ------
    UsageError
    """
    data = of_one_type(given)
    found = compute(*data)
    if not pa.types.is_floating(found.type):
        return found
    for k, (one, value) in enumerate(zip(given, data, strict=True)):
        if not pa.types.is_integer(one.type) or not (is_other := _is_rounded(one, value)).any():
            continue
        # Where the result is the real number nearest to it, that may be given beside it and chosen.
        is_wrong = is_other & _are_true(pc.equal(found, value))
        if is_wrong.any():
            is_wrong = is_wrong & _is_chosen(k, name, compute, given)
        if is_wrong.any():
            told = _told(one, value, int(np.argmax(is_wrong)), layer)
            raise UsageError(
                f"whole numbers beside real ones become real, and {told}; write whole(...) about the "
                "real ones, or add 0.0 to the whole ones if they may be rounded"
            )
    return found


def _told(one: Any, value: Any, row: int, layer: Layer) -> str:
    number, real = (v.as_py() if isinstance(v, pa.Scalar) else v[row].as_py() for v in (one, value))
    # A number that is written out is chosen where there are no rows too.
    where = f" in {layer.name}, {layer.row_label(row)}," if layer.n_rows else ""
    return f"{number}{where} would become {int(real)}"


def _is_chosen(k: int, name: str, compute: Callable[..., Any], given: Sequence[Any]) -> BoolArray:
    """Return where the kth of some values is chosen, or one that equals it exactly."""
    if name in _BETTER:
        others = [one for i, one in enumerate(given) if i != k]
        better = [_are_true(_BETTER[name](*order(one, given[k]))) for one in others]
        return ~np.logical_or.reduce(np.broadcast_arrays(*better))
    marks = [
        pc.if_else(pc.is_valid(one), i, pa.scalar(None, pa.int64())) for i, one in enumerate(given)
    ]
    return _are_true(pc.equal(compute(*marks), k))


def case(tests: Sequence[Any], *data: Any) -> Any:
    """Return the value behind the first test that is true; behind all values is what there is else."""
    *values, found = data
    for test, value in zip(tests[::-1], values[::-1], strict=True):
        found = pc.if_else(test, value, found)
    return found


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
