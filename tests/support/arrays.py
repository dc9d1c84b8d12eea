"""Rows of a GeoPackage by arrays, which else is for large files only."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from unittest import mock

from polygene.formats.geopackage import putting, rows, stepping


@contextlib.contextmanager
def by_arrays(if_it_is: bool = True) -> Iterator[None]:
    """Read and write rows by arrays however few they are; or in no case."""
    with (
        mock.patch.object(stepping, "WORTH_IT", 0 if if_it_is else 1 << 62),
        mock.patch.object(rows, "FEW", -(1 << 62)),
        mock.patch.object(putting, "MANY", 0 if if_it_is else 1 << 62),
    ):
        yield
