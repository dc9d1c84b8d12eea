"""The integer grid on which the plane is computed."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import F64Array, I64Array
from polygene.classes import dataclass
from polygene.errors import DataError

# Exactness rests on grid integers below 2**41, see kernels/crossings.py.
MAX_UNITS = 2**41 - 16
DEFAULT_PROJECTED = 1e-4  # 0.1 mm on a metre grid
DEFAULT_GEOGRAPHIC = 1e-9  # degrees; about 0.1 mm on the ground
DIGITS = 12  # of the largest coordinate where nothing else is known
MAX_MULTIPLES = 2**50
MARGIN = 8  # units left free below the lowest coordinate


def default_step(
    is_geographic: bool | None, extents: Sequence[tuple[float, float, float, float]]
) -> float:
    """Return the step of the grid where none is asked for: about a tenth of a millimetre.

    Without a CRS (None) nobody knows what a unit is; then the largest coordinate has twelve digits: the
    step is 1e-9 where that has three before the point, as degrees have.
    """
    if is_geographic is not None:
        return DEFAULT_GEOGRAPHIC if is_geographic else DEFAULT_PROJECTED
    # Twelve digits of the largest coordinate, as 1e-4 m has of national grids and 1e-9 of degrees.
    largest = max((abs(v) for extent in extents for v in extent), default=0.0)
    if largest == 0:
        return DEFAULT_PROJECTED
    return float(f"1e{math.ceil(math.log10(largest)) - DIGITS}")


@dataclass(frozen=True)
class Grid:
    """A decimal grid: integer i stands for the coordinate ``(origin + i) * step``.

    Attributes
    ----------
    step : float
        Distance of grid lines in map units.
    origin_x, origin_y : int
        Multiples of the step, taken off so that grid integers are small and positive.
    is_coarsened : bool
        Whether the asked step was too fine for the extent and had to grow.
    """

    step: float
    origin_x: int
    origin_y: int
    is_coarsened: bool = False

    @staticmethod
    def over(extents: list[tuple[float, float, float, float]], step: float) -> Grid:
        """Lay a grid over some extents (x, y minimum, x, y maximum), coarser if it must be.

        Raises
        ------
        DataError
            If a coordinate is too far out for any grid; callers that know rows refuse them before.
        """
        if not extents:
            return Grid(step, 0, 0)
        # One grid for all that takes part, so that what is equal in two layers falls together.
        low_x, low_y = min(e[0] for e in extents), min(e[1] for e in extents)
        high_x, high_y = max(e[2] for e in extents), max(e[3] for e in extents)
        largest = max(abs(low_x), abs(low_y), abs(high_x), abs(high_y))
        if largest > 1e300:
            raise DataError(
                f"coordinates as large as {largest:g} cannot be computed with; "
                "check the layer's coordinates and CRS"
            )
        if step <= 0:
            raise DataError(
                f"coordinates as small as {largest:g} cannot be computed with; "
                "check the layer's coordinates and CRS"
            )
        asked = step
        # The span must fit, and a step be several times the distance of one float64 to the next, or a
        # coordinate would not come back to the grid point that it was written for.
        while (
            largest / step > MAX_MULTIPLES or max(high_x - low_x, high_y - low_y) / step > MAX_UNITS
        ):
            step *= 10
        # The origin is a multiple of the step, so that grid points stay decimals of the step.
        to_units = Grid(step, 0, 0)
        return Grid(
            step,
            to_units._units(low_x) - MARGIN,
            to_units._units(low_y) - MARGIN,
            is_coarsened=step > asked,
        )

    def _factor(self) -> tuple[float, bool]:
        """Return what to multiply coordinates with for units of the grid, or to divide them by."""
        # Multiplying by 10000 rounds once, dividing by 0.0001 twice (0.0001 is not exact).
        # 1e-4 is no double; 10,000 is.
        inverse = round(1 / self.step) if self.step < 1 else 0
        if inverse and abs(inverse * self.step - 1) < 1e-12:
            return float(inverse), False
        return self.step, True

    def _units(self, value: float) -> int:
        factor, divides = self._factor()
        return math.floor((value / factor if divides else value * factor) + 0.5)

    def to_units(self, xy: F64Array) -> tuple[I64Array, I64Array]:
        """Return the grid integers of (n, 2) coordinates, halves rounded up, as x and y (n,)."""
        x, y = np.empty((2, len(xy)), np.int64)

        factor, divides = self._factor()
        xy = np.ascontiguousarray(xy)

        def convert(first: int, stop: int) -> None:
            kernels.run(
                kernels.vertices.to_grid,
                xy[first:stop],
                factor,
                int(divides),
                self.origin_x,
                self.origin_y,
                x[first:stop],
                y[first:stop],
            )

        parallel.each(convert, parallel.split(len(xy)))
        return x, y

    def beside(self, xy: F64Array, x: I64Array, y: I64Array) -> tuple[F64Array, F64Array]:
        """Return how far coordinates (n, 2) lie beside grid points, in units, in x and y (n,)."""
        factor, divides = self._factor()
        units = xy / factor if divides else xy * factor
        return (
            (units[:, 0] - self.origin_x) - x,
            (units[:, 1] - self.origin_y) - y,
        )

    def to_map(self, x: I64Array, y: I64Array) -> F64Array:
        """Return the (n, 2) map coordinates of grid integers: the nearest float64 to each decimal."""
        # Dividing an integer by the inverse gives the double nearest to the decimal: what a file
        # says comes back.
        xy = np.stack([x + self.origin_x, y + self.origin_y], axis=1).astype(np.float64)
        factor, divides = self._factor()
        return xy * factor if divides else xy / factor
