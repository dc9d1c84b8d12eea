"""Random cases of every operation, each run with the engine proving its own work.

Every run has seeds of its own and prints them; ``POLYGENE_SEED`` repeats one. How many there are
``POLYGENE_CASES`` says: a few in `make test`, 2,000 in `make random`.
"""

from __future__ import annotations

import os
import secrets
from unittest import mock

import numpy as np

import polygene
from polygene.ops.buffer import buffer
from polygene.ops.mend import mend
from polygene.plane.validity import invalid_rows
from tests.support import generators as make
from tests.support.cases import KINDS, STEPS

CASES = int(os.environ.get("POLYGENE_CASES", "12"))


def layers(seed: list[int]):
    """Two layers of one of the kinds, or a coverage and itself from another source."""
    rng = np.random.default_rng(seed)
    kind = int(rng.integers(len(KINDS) + 2))
    step = float(rng.choice(STEPS))
    if kind < len(KINDS):
        a, b = KINDS[kind](rng)
    else:
        a = make.national(rng, int(rng.integers(4, 12)), 1e6, (4e6, 3e6))
        how = make.DISTURBANCES[int(rng.integers(len(make.DISTURBANCES)))]
        b = make.disturbed(a, how, 10.0 ** rng.uniform(-6, 0), rng)
        step = 1e-4
    names = (("a", a), ("b", b))
    both = [make.layer(n, c, **{f"k{n}": np.arange(c.n_rows) % 3}) for n, c in names]
    return rng, step, *both


OPERATIONS = {
    "clip": lambda rng, step, a, b: polygene.clip(a, b, precision=step),
    "erase": lambda rng, step, a, b: polygene.erase(a, b, precision=step),
    "intersect": lambda rng, step, a, b: polygene.intersect(a, b, precision=step),
    "union": lambda rng, step, a, b: polygene.union(a, b, precision=step),
    "contrast": lambda rng, step, a, b: polygene.contrast(a, b, precision=step),
    "imprint": lambda rng, step, a, b: polygene.imprint(a, b, precision=step),
    "supersede": lambda rng, step, a, b: polygene.supersede(a, b, precision=step),
    "dissolve": lambda rng, step, a, b: polygene.dissolve(a, ["ka"], precision=step),
    "self": lambda rng, step, a, b: polygene.union(a, precision=step),
    "mend": lambda rng, step, a, b: mend(a, precision=step),
    "snap": lambda rng, step, a, b: polygene.imprint(
        a, b, precision=step, snap=10 * step, give_slivers=5 * step
    ),
    "buffer": lambda rng, step, a, b: buffer(a, float(rng.uniform(-9, 9))),
}


class Random:
    """Runs some of the operations; a module for each few, so that they run side by side."""

    names: tuple[str, ...] = ()

    def test_what_the_engine_proves_of_itself(self):
        first = int(os.environ.get("POLYGENE_SEED", secrets.randbelow(10**9)))
        print(f"{', '.join(self.names)}: {CASES:,} cases each, POLYGENE_SEED={first}")
        with mock.patch.dict(os.environ, POLYGENE_SELF_CHECK="1"):
            for k in range(CASES):
                rng, step, a, b = layers([first, k])
                for name in self.names:
                    try:
                        result = OPERATIONS[name](rng, step, a, b)
                    except Exception as err:
                        raise AssertionError(f"{name}, case {k} of seed {first}: {err}") from err
                    self.look_at(name, result, (first, k))

    def look_at(self, name: str, result, case: tuple[int, int]) -> None:
        """What came out is valid, and INPUT's features are all accounted for."""
        self.assertFalse(invalid_rows(result.layer.geometry).any(), (name, case))
        summary = result.summary
        if name in ("clip", "erase", "intersect", "imprint", "union", "contrast", "self", "snap"):
            counts = (summary.whole, summary.cut, summary.dropped, summary.without_geometry)
            self.assertEqual(sum(counts), summary.input.taken, (name, case))
            self.assertEqual(summary.out, result.layer.n_rows, (name, case))
            self.assertEqual(
                summary.out, summary.both + summary.input_only + summary.other_only, (name, case)
            )
