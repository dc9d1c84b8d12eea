"""SQLite's own functions (its C interface), as they are in the library of Python's own module.

The module makes an object of each value, which takes longer than all else; what stands here reads and
writes arrays. Both are one library, so each knows of the other's locks. Where it cannot be found, or
kernels are not compiled, there is the module alone.
"""

from __future__ import annotations

import contextlib
import ctypes
import sqlite3
from collections.abc import Iterator, Sequence
from functools import cache

import numpy as np

from polygene import kernels
from polygene.arrays import I64Array
from polygene.classes import NamedTuple

WHOLE, REAL, TEXT, BLOB = 1, 2, 3, 4  # storage classes by SQLite's numbers
DONE = 101  # what it says where there are no more rows
READING, WRITING = 0x1, 0x2
_SINGLE = 0x40 | 0x8000  # opened by a URI, used by one thread at a time
_TAKING = (
    *("step", "column_type", "column_int64", "column_double"),
    *("column_text", "column_blob", "column_bytes"),
)
_PUTTING = (
    *("step", "reset", "bind_null", "bind_int64", "bind_double"),
    *("bind_text", "bind_blob"),
)


class NotSoError(Exception):
    """It cannot be done in this way: the module is to be asked, which has words for what is wrong."""


class Library(NamedTuple):
    """The library, and addresses of functions for the kernels that take rows and that put them."""

    functions: ctypes.CDLL
    taking: I64Array
    putting: I64Array


@cache
def library() -> Library | None:
    """Return the library of Python's module, if it can be had."""
    if not kernels.IS_COMPILED:
        return None
    try:
        import _sqlite3

        functions = ctypes.CDLL(_sqlite3.__file__)
        functions.sqlite3_libversion.restype = ctypes.c_char_p
        is_same = functions.sqlite3_libversion().decode() == sqlite3.sqlite_version
        if not is_same or not functions.sqlite3_threadsafe():
            return None
        pointer, text = ctypes.c_void_p, ctypes.c_char_p
        functions.sqlite3_open_v2.argtypes = [text, pointer, ctypes.c_int, pointer]
        functions.sqlite3_prepare_v2.argtypes = [pointer, text, ctypes.c_int, pointer, pointer]
        functions.sqlite3_exec.argtypes = [pointer, text, pointer, pointer, pointer]
        functions.sqlite3_errmsg.argtypes = [pointer]
        functions.sqlite3_errmsg.restype = text
        for name in ("finalize", "close_v2", "column_count", "bind_parameter_count"):
            getattr(functions, f"sqlite3_{name}").argtypes = [pointer]
        return Library(functions, _addresses(functions, _TAKING), _addresses(functions, _PUTTING))
    except (ImportError, AttributeError, OSError):  # it is elsewhere, or its names are hidden
        return None


def _addresses(functions: ctypes.CDLL, names: Sequence[str]) -> I64Array:
    found = [getattr(functions, f"sqlite3_{name}") for name in names]
    addresses = [ctypes.cast(function, ctypes.c_void_p).value or 0 for function in found]
    return np.array(addresses, np.int64)


@contextlib.contextmanager
def connected(place: str, mode: int, before: Sequence[str]) -> Iterator[ctypes.c_void_p]:
    """Open the database at a URI and run some statements; give its handle.

    Raises
    ------
    NotSoError
        If one of that cannot be.
    """
    found = library()
    if found is None:
        raise NotSoError
    functions, connection = found.functions, ctypes.c_void_p()
    try:
        if functions.sqlite3_open_v2(
            place.encode(), ctypes.byref(connection), mode | _SINGLE, None
        ):
            raise NotSoError
        for statement in before:
            run(connection, statement)
        yield connection
    finally:
        functions.sqlite3_close_v2(connection)


def run(connection: ctypes.c_void_p, statement: str) -> None:
    """Run a statement that gives nothing.

    Raises
    ------
    NotSoError
    """
    found = library()
    assert found is not None
    if found.functions.sqlite3_exec(connection, statement.encode(), None, None, None):
        raise NotSoError


@contextlib.contextmanager
def prepared(connection: ctypes.c_void_p, statement: str, n_columns: int) -> Iterator[int]:
    """Give the handle of a statement that gives so many columns, or takes so many values.

    Raises
    ------
    NotSoError
        If it cannot be prepared.
    """
    found = library()
    assert found is not None
    functions, own = found.functions, ctypes.c_void_p()
    try:
        fault = functions.sqlite3_prepare_v2(
            connection, statement.encode(), -1, ctypes.byref(own), None
        )
        counts = (functions.sqlite3_column_count, functions.sqlite3_bind_parameter_count)
        if fault or n_columns != max(count(own) for count in counts):
            raise NotSoError
        yield own.value or 0
    finally:
        functions.sqlite3_finalize(own)
