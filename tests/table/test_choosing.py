"""What CASE, coalesce, least and greatest choose is a value that was given, or the run is refused."""

import random
import unittest

import numpy as np
import pyarrow as pa

from polygene.errors import ExpressionError
from polygene.geometry import GeometryColumn
from polygene.layer import Layer
from polygene.table.expression import Expression

EDGE = 2**53
WHOLE = [EDGE - 1, EDGE, EDGE + 1, EDGE + 3, -EDGE - 1, 2**63 - 1, -(2**63), 2**62 + 1, 5, None]
REAL = [float(EDGE), float(EDGE + 4), -float(EDGE), 2.0**63, 2.0**62, 0.5, 5.0, None, float("nan")]


def extreme(compute, values):
    return compute([v for v in values if v is not None and v == v], default=None)


# Of a whole number b, a real one r, a whole one c and a truth s; Python compares numbers exactly.
CHOOSING = {
    "coalesce(b, r)": lambda b, r, c, s: r if b is None else b,
    "coalesce(r, b, c)": lambda *v: next((w for w in (v[1], v[0], v[2]) if w is not None), None),
    "CASE WHEN s THEN b ELSE r END": lambda b, r, c, s: b if s else r,
    "CASE WHEN s THEN r WHEN c > 0 THEN b END": lambda b, r, c, s: (
        r if s else b if (c or 0) > 0 else None
    ),
    "least(b, r, c)": lambda b, r, c, s: extreme(min, [b, r, c]),
    "greatest(r, b)": lambda b, r, c, s: extreme(max, [b, r]),
    "coalesce(r, 9007199254740993)": lambda b, r, c, s: EDGE + 1 if r is None else r,
}  # fmt: skip


def is_same(found, wanted):
    if wanted is None or wanted != wanted:
        return found is None or found != found
    return found == wanted


class Choosing(unittest.TestCase):
    def test_whole_numbers_beside_real_ones(self):
        rng = random.Random(1)
        n_refused = 0
        for _ in range(120):
            n = rng.randint(1, 4)
            rows = [(rng.choice(WHOLE), rng.choice(REAL), rng.choice([1, -1, None, EDGE + 1]),
                     rng.choice([True, False, None])) for _ in range(n)]  # fmt: skip
            kinds = [pa.int64(), pa.float64(), pa.int64(), pa.bool_()]
            columns = [pa.array(c, k) for c, k in zip(zip(*rows, strict=True), kinds, strict=True)]
            table = pa.table(dict(zip("brcs", columns, strict=True)))
            given = Layer("marks", GeometryColumn.from_points(np.zeros((n, 2))), table)
            for text, choose in CHOOSING.items():
                wanted = [choose(*row) for row in rows]
                lost = [
                    k for k, w in enumerate(wanted) if isinstance(w, int) and int(float(w)) != w
                ]
                with self.subTest(text=text, rows=rows):
                    if not lost:
                        found = Expression(text).values(given).data.to_pylist()
                        self.assertTrue(all(map(is_same, found, wanted)), (found, wanted))
                        continue
                    with self.assertRaisesRegex(
                        ExpressionError, r"in marks, row \d+, would"
                    ) as refused:
                        Expression(text).values(given)
                    row = int(str(refused.exception).split("row ")[1].split(",")[0])
                    self.assertIn(row - 1, lost)
                    n_refused += 1
        self.assertGreater(n_refused, 100)

    def test_a_layer_without_rows(self):
        none = Layer(
            "n",
            GeometryColumn.from_points(np.zeros((0, 2))),
            pa.table({"b": pa.array([], pa.int64())}),
        )
        self.assertEqual(len(Expression("coalesce(b, 0.5)").values(none).data), 0)
        with self.assertRaisesRegex(
            ExpressionError, "9007199254740993 would become 9007199254740992"
        ):
            Expression("coalesce(9007199254740993, 0.5)").values(none)
