"""The R-tree of a layer, its pages built in bulk.

SQLite keeps an R-tree in three ordinary tables ("The SQLite R*Tree Module", section 6.1): pages of
cells in ``_node``, the page of each entry in ``_rowid``, the parent of each page in ``_parent``.
Inserting entry by entry costs more than writing all the rows; filling the pages in sort-tile order
(Leutenegger, Lopez and Edgington 1997) costs little and gives a better tree.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import F64Array, I64Array, U8Array
from polygene.formats.geopackage.putting import putting
from polygene.table.tokens import quoted

_CELL = np.dtype([("id", ">i8"), ("box", ">f4", (4,))])  # min x, max x, min y, max y
MOST_CELLS = 51  # SQLite's own limit for a page
_TABLES = {
    "_rowid": "rowid INTEGER PRIMARY KEY, nodeno",
    "_node": "nodeno INTEGER PRIMARY KEY, data",
    "_parent": "nodeno INTEGER PRIMARY KEY, parentnode",
}


def definition(index: str) -> str:
    """Return the statement that the schema has for an R-tree."""
    return f"CREATE VIRTUAL TABLE {quoted(index)} USING rtree(id, minx, maxx, miny, maxy)"


def build(
    connection: sqlite3.Connection, path: Path, index: str, ids: I64Array, bounds: F64Array
) -> None:
    """Make the tables of an R-tree and fill them; what is left to do is to enter its `definition`.

    Parameters
    ----------
    path : Path
        Of the database, which is open and in a transaction.
    index : str
        Name of the virtual table.
    ids : (n,) int64, bounds : (n, 4) float64
        x and y minimum, x and y maximum; all finite.
    """
    for table, columns in _TABLES.items():
        connection.execute(f"CREATE TABLE {quoted(index + table)}({columns})")
    room = connection.execute("PRAGMA page_size").fetchone()[0] - 64
    capacity = min(MOST_CELLS, (room - 4) // _CELL.itemsize)
    page_size = min(room, 4 + MOST_CELLS * _CELL.itemsize)
    cells = np.zeros(len(ids), _CELL)
    cells["id"] = ids
    cells["box"][:, 0::2] = _rounded(bounds[:, :2], -np.inf)
    cells["box"][:, 1::2] = _rounded(bounds[:, 2:], np.inf)
    depth, next_page = 0, 2
    parents, pages = [], []
    while len(cells) > capacity:
        cells = cells[_tiled(cells["box"].astype(np.float64), capacity)]
        page_of = np.arange(len(cells)) // capacity
        n_pages = int(page_of[-1]) + 1
        numbers = next_page + np.arange(n_pages)
        next_page += n_pages
        pages.append(
            (
                numbers,
                _packed(
                    cells=cells,
                    page_of=page_of,
                    n_pages=n_pages,
                    capacity=capacity,
                    page_size=page_size,
                    depth=0,
                ),
            )
        )
        parents.append((cells["id"].astype(np.int64), numbers[page_of], depth))
        cells = _parents(cells, page_of, numbers)
        depth += 1
    zeros = np.zeros(len(cells), np.int64)
    root = _packed(
        cells=cells, page_of=zeros, n_pages=1, capacity=capacity, page_size=page_size, depth=depth
    )
    parents.append((cells["id"].astype(np.int64), zeros + 1, depth))
    connection.execute(f"INSERT INTO {quoted(index + '_node')} VALUES (1, ?)", (root[0].tobytes(),))
    with putting(connection, path, len(ids)) as put:
        for numbers, data in pages:
            rows = np.arange(len(data) + 1) * data.shape[1]
            blobs = pc.of_bytes(
                pa.large_binary(), rows, data.reshape(-1), np.zeros(len(data), np.bool_)
            )
            put(quoted(index + "_node"), [pc.column(numbers), blobs])
        for items, page, level in parents:
            table = quoted(index + ("_rowid" if level == 0 else "_parent"))
            order = np.argsort(items)
            put(table, [pc.column(items[order]), pc.column(page[order])])


def _rounded(values: F64Array, towards: float) -> np.ndarray:
    """Round to float32, never to the wrong side."""
    single = values.astype(np.float32)
    is_wrong = single > values if towards < 0 else single < values
    return np.where(is_wrong, np.nextafter(single, np.float32(towards)), single)


def _tiled(box: F64Array, capacity: int) -> I64Array:
    """Return the order in which cells go into pages: strips in x, sorted in y within each."""
    middle_x, middle_y = box[:, 0] + box[:, 1], box[:, 2] + box[:, 3]
    n_pages = -(-len(box) // capacity)
    strip_size = capacity * int(np.ceil(np.sqrt(n_pages)))
    by_x = np.argsort(middle_x, kind="stable")
    strip = np.empty(len(box), np.int64)
    strip[by_x] = np.arange(len(box)) // strip_size
    return np.lexsort((middle_y, strip))


def _packed(
    cells: np.ndarray, page_of: I64Array, n_pages: int, capacity: int, page_size: int, depth: int
) -> U8Array:
    """Return (n_pages, page_size) bytes: depth (of the root only), number of cells, cells."""
    data = np.zeros((n_pages, page_size), np.uint8)
    counts = np.bincount(page_of, minlength=n_pages)
    data[:, 0], data[:, 1] = depth >> 8, depth & 255
    data[:, 2], data[:, 3] = counts >> 8, counts & 255
    room = np.zeros((n_pages, capacity), _CELL)
    room[page_of, np.arange(len(cells)) % capacity] = cells
    used = capacity * _CELL.itemsize
    data[:, 4 : 4 + used] = room.view(np.uint8).reshape(n_pages, used)
    return data


def _parents(cells: np.ndarray, page_of: I64Array, numbers: I64Array) -> np.ndarray:
    """Return one cell for each page, enclosing those in it."""
    starts = np.flatnonzero(np.diff(page_of, prepend=-1))
    above = np.zeros(len(numbers), _CELL)
    above["id"] = numbers
    for k, reduce in ((0, np.minimum), (1, np.maximum), (2, np.minimum), (3, np.maximum)):
        above["box"][:, k] = reduce.reduceat(cells["box"][:, k].astype(np.float32), starts)
    return above
