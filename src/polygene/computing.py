"""Arrow's functions on columns, with the names and options that ``pyarrow.compute`` has for them.

That module makes a function with a text of its own for each of three hundred when it is imported, 40 ms
of each command; the functions are there without it. A column's own methods ask for it too, so what a
small command does with columns is done by calling these.
"""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
import pyarrow as pa

try:
    from pyarrow import _compute as arrow
except ImportError:  # a version that keeps them elsewhere
    import pyarrow.compute as arrow


def cast(values: Any, kind: pa.DataType, safe: bool = True) -> Any:
    """Return values as of another type.

    Raises
    ------
    pyarrow.ArrowInvalid
        If one would not be the same any more, and that is not to be.
    """
    options = arrow.CastOptions
    return arrow.call_function("cast", [values], (options.safe if safe else options.unsafe)(kind))


def fill_null(values: Any, other: Any) -> Any:
    """Return values with another one in place of nulls."""
    if not isinstance(other, (pa.Scalar, pa.Array, pa.ChunkedArray)):
        other = pa.scalar(other, values.type)
    elif other.type != values.type:
        other = cast(other, values.type)
    return arrow.call_function("coalesce", [values, other])


def column(values: Any, kind: pa.DataType | None = None) -> pa.Array:
    """Return a column of values; numbers of NumPy are not copied.

    As ``pa.array``, which imports NumPy's masked arrays, 30 ms, to ask whether it is given one.
    """
    is_plain = isinstance(values, np.ndarray) and values.ndim == 1 and values.dtype.isnative
    if kind is not None or not is_plain or values.dtype.kind not in "iufb":
        return pa.array(values, kind)
    whole = np.ascontiguousarray(values)
    own = pa.from_numpy_dtype(whole.dtype)
    held = np.packbits(whole, bitorder="little") if whole.dtype.kind == "b" else whole
    return pa.Array.from_buffers(own, len(whole), [None, pa.py_buffer(held)])


def with_nulls(
    values: np.ndarray, is_null: np.ndarray, kind: pa.DataType | None = None
) -> pa.Array:
    """Return a column of values from NumPy with nulls in place of some, whatever is there."""
    whole = column(values, kind)
    if not is_null.any():
        return whole
    is_known = ~is_null
    if whole.null_count:
        is_known &= np.asarray(arrow.call_function("is_valid", [whole]))
    bits = pa.py_buffer(np.packbits(is_known, bitorder="little"))
    return pa.Array.from_buffers(whole.type, len(whole), [bits, *whole.buffers()[1:]])


def of_bytes(
    kind: pa.DataType, offsets: np.ndarray, data: np.ndarray, is_null: np.ndarray
) -> pa.Array:
    """Return texts or blobs that lie in a row, each from its offset to the next one; no copy."""
    is_large = pa.types.is_large_binary(kind) or pa.types.is_large_string(kind)
    ends = pa.py_buffer(np.ascontiguousarray(offsets, np.int64 if is_large else np.int32))
    bits = pa.py_buffer(np.packbits(~is_null, bitorder="little")) if is_null.any() else None
    return pa.Array.from_buffers(kind, len(is_null), [bits, ends, pa.py_buffer(data)])


def index(values: Any, value: Any) -> pa.Scalar:
    """Return the number of the first row that has a value, -1 if none has."""
    options = arrow.IndexOptions(pa.scalar(value, values.type))
    return arrow.call_function("index", [values], options)


def __getattr__(name: str) -> Any:
    """Return a function of Arrow's by its name; one that Python has a word for ends with ``_``."""
    if name.startswith("__"):
        raise AttributeError(name)
    try:
        function = arrow.function_registry().get_function(name.rstrip("_"))
    except KeyError as err:
        raise AttributeError(f"Arrow has no function {name!r}") from err
    found = functools.partial(_called, function, function.arity)
    globals()[name] = found
    return found


def _called(function: Any, n_columns: Any, *given: Any, **more: Any) -> Any:
    """Call a function with so many columns, or all; what is given besides are its options."""
    n = len(given) if n_columns is Ellipsis else n_columns
    columns = [column(v) if isinstance(v, np.ndarray) else v for v in given[:n]]
    if not more and len(given) <= n:
        return function.call(columns)
    options = getattr(arrow, function._doc.options_class or "", None)
    if options is None:
        raise TypeError(f"{function.name} takes {n} columns and nothing else")
    return function.call(columns, options(*given[n:], **more))
