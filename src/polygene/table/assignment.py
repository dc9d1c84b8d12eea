"""Pairs of rows and columns whose weights add up to most."""

from __future__ import annotations

import numpy as np

from polygene.arrays import F64Array, I64Array


def best_pairs(weights: F64Array) -> tuple[I64Array, I64Array]:
    """Return rows and columns, each at most once and as many as there can be, of the largest sum.

    Parameters
    ----------
    weights : (n, m) float64

    Returns
    -------
    rows, columns : (min(n, m),) int64, by row

    Notes
    -----
    Shortest augmenting paths (Crouse 2016, "On implementing 2D rectangular assignment algorithms"), a
    row at a time: n² m steps, of which the last m are one of NumPy.
    """
    if weights.shape[0] > weights.shape[1]:
        columns, rows = best_pairs(weights.T)
        order = np.argsort(rows)
        return rows[order], columns[order]
    costs = weights.max(initial=0.0) - weights
    n, m = costs.shape
    of_row, of_column = np.zeros(n), np.zeros(m)  # the dual prices
    row_of = np.full(m, -1)  # of each column
    for row in range(n):
        least, came_from = np.full(m, np.inf), np.full(m, -1)
        is_seen = np.zeros(m, bool)
        seen_rows, at, reached = [row], row, 0.0
        while True:
            reduced = reached + costs[at] - of_row[at] - of_column
            is_less = ~is_seen & (reduced < least)
            least[is_less], came_from[is_less] = reduced[is_less], at
            column = int(np.argmin(np.where(is_seen, np.inf, least)))
            reached = float(least[column])
            is_seen[column] = True
            if row_of[column] < 0:
                break
            at = int(row_of[column])
            seen_rows.append(at)
        _raise(of_row, of_column, row, row_of, is_seen, least, reached)
        while True:  # turn the path round
            at = int(came_from[column])
            before = np.flatnonzero(row_of == at)
            row_of[column] = at
            if at == row:
                break
            column = int(before[0])
    found = np.flatnonzero(row_of >= 0)
    order = np.argsort(row_of[found])
    return row_of[found][order], found[order]


def _raise(
    of_row: F64Array,
    of_column: F64Array,
    row: int,
    row_of: I64Array,
    is_seen: np.ndarray,
    least: F64Array,
    reached: float,
) -> None:
    """Change the prices so that what was reached has none left."""
    of_row[row] += reached
    inner = np.flatnonzero(is_seen & (row_of >= 0))
    of_row[row_of[inner]] += reached - least[inner]
    of_column[is_seen] -= reached - least[is_seen]
