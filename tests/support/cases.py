"""Pairs of polygon layers with every kind of trouble, and their exact reading."""

from __future__ import annotations

import itertools

import numpy as np

from tests.support import exact
from tests.support import generators as make
from tests.support.chance import some_of

STEPS = (1e-4, 1.0, 10.0, 100.0)


def stars(rng):
    return (
        make.polygons([[[make.star(rng, 15, 60, rng.uniform(30, 70, 2))]] for _ in range(4)]),
        make.polygons([[[make.star(rng, 20, 50, (50, 50))]] for _ in range(2)]),
    )


def cells_by_stars(rng):
    return (
        make.coverage(4, 4, 25, rng),
        make.polygons([[[make.star(rng, 20, 50, (50, 50))]] for _ in range(2)]),
    )


def stars_by_cells(rng):
    return stars(rng)[0], make.coverage(3, 3, 30, rng)


def tangles(rng):
    """Rings that cross, retrace and touch themselves, holes anywhere, parts that overlap."""
    rows = [
        [
            [make.tangle(rng, 6, 100, 10), make.tangle(rng, 4, 100, 25)],
            [make.tangle(rng, 4, 100, 25)],
        ]
        for _ in range(3)
    ]
    return make.polygons(rows), make.polygons([[[make.tangle(rng, 7, 100, 10)]] for _ in range(2)])


def nearly_shared(rng):
    """OTHER's borders lie within a tenth of a grid unit of INPUT's."""
    cells = make.coverage(3, 3, 30, rng)
    other = cells.take(np.arange(4))
    return cells, other.with_xy(other.xy + rng.uniform(-1e-5, 1e-5, other.xy.shape))


def squares(rng):
    """Shared edges, collinear stretches, touching corners, duplicates."""

    def some(n):
        sides = 10.0 * rng.integers(1, 4, n)
        corners = 10.0 * rng.integers(0, 6, (n, 2))
        return make.polygons(
            [[[make.square(x, y, side)]] for (x, y), side in zip(corners, sides, strict=True)]
        )

    return some(5), some(3)


def ring_inside(rng):
    """OTHER has a hole and an island that lie wholly within features of INPUT."""
    at = rng.uniform(20, 60, 2)
    hole = make.star(rng, 8, 6, at)[::-1]
    island = make.star(rng, 6, 2, at)
    other = make.polygons([[[make.square(-9, -9, 120), hole], [island]]])
    return make.coverage(2, 2, 50, rng), other


KINDS = (stars, cells_by_stars, stars_by_cells, tangles, nearly_shared, squares, ring_inside)


def each(test, n_seeds, steps=STEPS, kinds=KINDS):
    """Yield generator, grid step and two columns, as sub-tests: a third of each kind each time."""
    for kind, seed in ((kind, k) for kind in kinds for k in some_of(range(n_seeds), 3)):
        step = steps[seed % len(steps)]
        with test.subTest(kind=kind.__name__, seed=seed, step=step):
            rng = np.random.default_rng([seed, KINDS.index(kind)])
            yield rng, step, *kind(rng)


def as_given(*columns):
    """Rows as they were given, to tell those that passed untouched."""
    return {tuple(map(str, parts)) for column in columns for parts in make.rows_of(column)}


def borders(column):
    """The edges of each row, whichever way its rings go and wherever they begin."""
    return [
        frozenset(
            frozenset(edge)
            for part in row
            for ring in part
            for edge in itertools.pairwise(map(tuple, ring))
        )
        for row in make.rows_of(column)
    ]


def rows_over(rows, x, y):
    """The rows that cover a point."""
    return [k for k, row in enumerate(rows) if exact.is_covered(row, (float(x), float(y))) > 0]
