"""Exact ways between pieces: where they are nearest, and how far that is on the ellipsoid.

The nearest places of two courses are looked for by their chord first, which is nearest where the way on
the surface is, but for a few parts in a thousand of it; those far apart are then settled by the angle
at which the geodesic meets the course (Karney 2013 for the geodesic).
"""

from __future__ import annotations

import numpy as np

from polygene import parallel, proj
from polygene.arrays import F64Array
from polygene.classes import NamedTuple
from polygene.globe.pieces import EdgePieces, Sines, places_in_space

AT_A_TIME = 16_384  # pairs, so that what they need stays near
ROUNDS = 5
SHORT = 5000.0  # metres within which way and chord differ by a cube that is known to a micrometre
FAR = 5000.0  # metres from which on the foot is settled by angles
ANGLE_ROUNDS = 6


class Ways(NamedTuple):
    """Between pieces i: metres, and the two places (n, 2) in radians."""

    metres: F64Array
    mine: F64Array
    theirs: F64Array

    def better(self, other: Ways) -> Ways:
        """Return for each pair the shorter of two."""
        is_less = other.metres < self.metres
        return Ways(
            np.where(is_less, other.metres, self.metres),
            np.where(is_less[:, None], other.mine, self.mine),
            np.where(is_less[:, None], other.theirs, self.theirs),
        )


class Courses:
    """Pairs of pieces, each a course from ``start`` by ``way`` in radians."""

    def __init__(self, mine: EdgePieces, theirs: EdgePieces, geod: proj.Geod) -> None:
        self.geod = geod
        self.a, self.u = mine.start, mine.stop - mine.start
        self.b, self.v = theirs.start, theirs.stop - theirs.start
        self.are_points = not self.u.any() and not self.v.any()
        self.from_points = not self.u.any()
        self._ends = mine.ends, theirs.ends

    def take(self, chosen: np.ndarray | slice) -> Courses:
        some = object.__new__(Courses)
        some.geod, some.are_points, some.from_points = self.geod, self.are_points, self.from_points
        for name in ("a", "u", "b", "v"):
            setattr(some, name, getattr(self, name)[chosen])
        some._ends = self._ends[0][chosen], self._ends[1][chosen]
        return some

    def nearest(self) -> Ways:
        """Return the ways between the nearest places of each pair, by their chords."""
        cuts = range(0, len(self.a), AT_A_TIME)
        if len(cuts) <= 1:
            return self._nearest()
        some = parallel.each(
            lambda first, stop: self.take(slice(first, stop))._nearest(),
            [(k, k + AT_A_TIME) for k in cuts],
        )
        return Ways(*map(np.concatenate, zip(*some, strict=True)))

    def _nearest(self) -> Ways:
        n = len(self.a)
        zero, one = np.zeros(n), np.ones(n)
        if self.are_points:
            mine, theirs = (ends[:, :3] for ends in self._ends)
            return Ways(self._metres(self.a, self.b, mine - theirs), self.a, self.b)
        t, u = self._straight()
        found = self._ways(*self._closer(t, u))
        if self.from_points:
            for end in (zero, one):
                found = found.better(self._ways(zero, end))
            return found
        for end in (zero, one):
            found = found.better(self._ways(*self._closer(end, u, holds_mine=True)))
            found = found.better(self._ways(*self._closer(t, end, holds_theirs=True)))
        return found

    def _straight(self) -> tuple[F64Array, F64Array]:
        """Return where the straight lines between the ends are nearest."""
        mine, theirs = self._ends
        return _nearest_shares(
            mine[:, :3] - theirs[:, :3],
            mine[:, 3:] - mine[:, :3],
            theirs[:, 3:] - theirs[:, :3],
            np.zeros(len(mine)),
            np.zeros(len(mine)),
        )

    def _closer(
        self, t: F64Array, u: F64Array, holds_mine: bool = False, holds_theirs: bool = False
    ) -> tuple[F64Array, F64Array]:
        """Go on from shares of both courses to where they are nearest, along their tangents."""
        p, dp = self._place(self.a, self.u, t)
        is_still = holds_mine or self.from_points
        if is_still:
            dp = np.zeros_like(dp)
        for k in range(ROUNDS):
            if k and not is_still:
                p, dp = self._place(self.a, self.u, t)
            q, dq = self._place(self.b, self.v, u)
            if holds_theirs:
                dq = np.zeros_like(dq)
            t, u = _nearest_shares(p - q, dp, dq, t, u)
        return t, u

    def _place(self, a: F64Array, way: F64Array, t: F64Array) -> tuple[F64Array, F64Array]:
        """Return places in space at shares of courses, and how they go on from there."""
        at = a + t[:, None] * way
        sines = Sines.of(at)
        east, north = self._speeds(sines, way)
        on = np.empty((len(at), 3))
        on[:, 0] = -east * sines.sin_lon - north * sines.sin_lat * sines.cos_lon
        on[:, 1] = east * sines.cos_lon - north * sines.sin_lat * sines.sin_lon
        on[:, 2] = north * sines.cos_lat
        return sines.in_space(self.geod), on

    def _speeds(self, at: Sines, way: F64Array) -> tuple[F64Array, F64Array]:
        """Return metres to the east and to the north that courses go over all their way."""
        shrink = 1 - self.geod.es * at.sin_lat**2
        east = self.geod.a * way[:, 0] * at.cos_lat / np.sqrt(shrink)
        north = self.geod.a * way[:, 1] * (1 - self.geod.es) / shrink**1.5
        return east, north

    def _ways(self, t: F64Array, u: F64Array) -> Ways:
        p, q = self.a + t[:, None] * self.u, self.b + u[:, None] * self.v
        off = places_in_space(p, self.geod) - places_in_space(q, self.geod)
        return Ways(self._metres(p, q, off), p, q)

    def _metres(self, p: F64Array, q: F64Array, off: F64Array) -> F64Array:
        chord = np.sqrt((off**2).sum(axis=1))
        metres = chord * (1 + chord**2 / (24 * self.geod.a * self.geod.b))
        far = np.flatnonzero(chord > SHORT)
        metres[far] = self._inverse(p[far], q[far])[2]
        return metres

    def _inverse(self, p: F64Array, q: F64Array) -> tuple[F64Array, F64Array, F64Array]:
        """Return the azimuths at both ends of geodesics, each towards the other, and their metres."""
        there, back, metres = self.geod.inv(p[:, 0], p[:, 1], q[:, 0], q[:, 1], radians=True)
        return np.asarray(there), np.asarray(back), np.asarray(metres)

    def settled(self, ways: Ways) -> Ways:
        """Return the ways of pairs far apart, led to where the geodesic is square to the courses."""
        if self.are_points:
            return ways
        p, q = ways.mine, ways.theirs
        for _ in range(1 if self.from_points else 3):
            q = self._square(p, self.b, self.v)
            if not self.from_points:
                p = self._square(q, self.a, self.u)
        metres = self._inverse(p, q)[2]
        return ways.better(Ways(metres, p, q))

    def _square(self, p: F64Array, a: F64Array, way: F64Array) -> F64Array:
        """Return the places on courses nearest to places p: where the geodesic from there is square
        to the course, or an end (Illinois method, Dowell and Jarratt 1971).
        """
        low, high = np.zeros(len(a)), np.ones(len(a))
        at_low, at_high = self._slope(p, a, way, low), self._slope(p, a, way, high)
        share = np.where(at_low >= 0, 0.0, 1.0)
        open_ = np.flatnonzero((at_low < 0) & (at_high > 0))
        low, high, at_low, at_high = (v[open_] for v in (low, high, at_low, at_high))
        p, own, go = p[open_], a[open_], way[open_]
        middle = low
        side = np.zeros(len(open_))
        for _ in range(ANGLE_ROUNDS):
            middle = (low * at_high - high * at_low) / (at_high - at_low)
            slope = self._slope(p, own, go, middle)
            is_low = slope < 0
            at_high = np.where(is_low & (side < 0), at_high / 2, at_high)
            at_low = np.where(~is_low & (side > 0), at_low / 2, at_low)
            low, at_low = np.where(is_low, middle, low), np.where(is_low, slope, at_low)
            high, at_high = np.where(is_low, high, middle), np.where(is_low, at_high, slope)
            side = np.where(is_low, -1.0, 1.0)
        share[open_] = middle
        return a + share[:, None] * way

    def _slope(self, p: F64Array, a: F64Array, way: F64Array, t: F64Array) -> F64Array:
        """Return how the way from p grows as one goes on along courses, per share."""
        at = a + t[:, None] * way
        _, back, metres = self._inverse(p, at)
        east, north = self._speeds(Sines.of(at), way)
        slope = -(east * np.sin(back) + north * np.cos(back))
        return np.where(metres == 0, 0.0, slope)


def _nearest_shares(
    r: F64Array, dp: F64Array, dq: F64Array, t: F64Array, u: F64Array
) -> tuple[F64Array, F64Array]:
    """Return where two straight lines, r apart at shares t and u, are nearest within shares 0 to 1."""

    def dot(x: F64Array, y: F64Array) -> F64Array:
        return np.einsum("ij,ij->i", x, y)

    a, e, b, c, f = dot(dp, dp), dot(dq, dq), dot(dp, dq), dot(dp, r), dot(dq, r)
    det = a * e - b * b
    is_steep = det > 1e-12 * a * e
    step = np.divide(b * f - c * e, det, out=np.zeros(len(t)), where=is_steep)
    alone = np.divide(-c, a, out=np.zeros(len(t)), where=a > 0)
    new_t = np.clip(t + np.where(e > 0, step, alone), 0, 1)
    new_u = u + np.divide(b * (new_t - t) + f, e, out=np.zeros(len(t)), where=e > 0)
    new_u = np.clip(new_u, 0, 1)
    new_t = t + np.divide(b * (new_u - u) - c, a, out=np.zeros(len(t)), where=a > 0)
    return np.clip(new_t, 0, 1), new_u
