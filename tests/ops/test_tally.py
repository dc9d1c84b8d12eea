"""Tables for a report: against the obvious way, and what the totals and shares must hold."""

import math
import random
import unittest
from collections import defaultdict

import pyarrow as pa

import polygene
from polygene.errors import UsageError
from polygene.ops.tally import tally


def table(**columns):
    return polygene.as_layer(pa.table(columns), "t")


class Tables(unittest.TestCase):
    def random(self, rng, n=60):
        self.kinds = [
            rng.choice(["a", "b", "all", "total", "the rest (2)", None]) for _ in range(n)
        ]
        self.zones = [rng.choice(["x", "total", "y", None]) for _ in range(n)]
        self.numbers = [rng.choice([None, 0, 1, 7, 49, 50, 51, -3]) for _ in range(n)]
        return table(
            kind=pa.array(self.kinds, pa.string()), zone=pa.array(self.zones, pa.string()),
            n=pa.array(self.numbers, pa.int64()),
        )  # fmt: skip

    def sums(self, *keys):
        found = defaultdict(lambda: [0, 0, 0])
        for number, *key in zip(self.numbers, *keys, strict=True):
            cell = found[tuple(key)]
            cell[0] += 1
            cell[1] += number is not None
            cell[2] += number or 0
        return found

    def test_several_aggregates_across_a_field_with_shares(self):
        for seed in range(30):
            layer = self.random(random.Random(seed))
            asked = ["rows = count()", "s = sum(n)", "m = mean(n)"]
            found = tally(layer, "kind", asked, "zone", share="rows")
            cells, rows = self.sums(self.kinds, self.zones), self.sums(self.kinds)
            body = found.body.to_pylist()
            self.assertEqual({r["kind"] for r in body}, set(self.kinds))
            total = found.row_totals[0]
            self.assertEqual(total, "(total rows)" if "total" in self.zones else "total rows")
            for row in body:
                whole, shares = rows[(row["kind"],)], 0.0
                self.assertEqual((row[total], row[f"{total} %"]), (whole[0], 100.0))
                for zone in set(self.zones):
                    n, valid, summed = cells[(row["kind"], zone)]
                    name = "(null)" if zone is None else zone
                    self.assertEqual(row[f"{name} rows"], n)
                    self.assertEqual(row[f"{name} s"], summed if valid else None)
                    shares += row[f"{name} rows %"]
                self.assertAlmostEqual(shares, 100.0)
            self.assertEqual(found.totals[total][0].as_py(), 60)

    def test_top_sorted_and_the_rest_is_aggregated_anew(self):
        for seed in range(30):
            rng = random.Random(seed)
            layer = self.random(rng)
            top = rng.randrange(1, 5)
            asked = ["rows = count()", "s = sum(n)", "m = mean(n)"]
            found = tally(layer, "kind", asked, sort="-rows", top=top, share="columns")
            rows = self.sums(self.kinds)
            sizes = sorted((size for size, _, _ in rows.values()), reverse=True)
            got = found.body["rows"].to_pylist()
            self.assertEqual(got[:top], sizes[:top])
            self.assertEqual(sum(got), 60)
            self.assertAlmostEqual(sum(found.body["rows %"].to_pylist()), 100)
            self.assertEqual(found.rest, max(0, len(rows) - top))
            keys = found.body["kind"].to_pylist()
            if found.rest:
                self.assertTrue(keys[-1].strip("()").startswith("the rest"))
                shown = set(keys[:-1])
                self.assertNotIn(keys[-1], shown)
                rest = [n for n, k in zip(self.numbers, self.kinds, strict=True)
                        if k not in shown and n is not None]  # fmt: skip
                mean = found.body["m"].to_pylist()[-1]
                self.assertAlmostEqual(mean, math.fsum(rest) / len(rest))
            self.assertNotIn(found.total_name, keys)

    def test_classes_hold_their_lower_border(self):
        layer = self.random(random.Random(1))
        found = tally(layer, "n", classes=[0, 50])
        wanted = {"below 0": 0, "0 to below 50": 0, "50 and more": 0, None: 0}
        for number in self.numbers:
            name = None if number is None else list(wanted)[(number >= 0) + (number >= 50)]
            wanted[name] += 1
        body = found.body.to_pylist()
        self.assertEqual({r["n"]: r["count"] for r in body}, wanted)
        self.assertEqual([r["n"] for r in body], list(wanted))
        # Aggregates of what is shown as classes are of the numbers.
        found = tally(layer, "n", ["low = min(n)", "all = sum(n)"], classes=[0, 50])
        known = [n for n in self.numbers if n is not None and n < 0]
        self.assertEqual(
            found.body.to_pylist()[0], {"n": "below 0", "low": min(known), "all": sum(known)}
        )

    def test_totals_alone_and_what_has_no_value(self):
        layer = table(n=[1, None, 3])
        found = tally(layer, aggregate=["s = sum(n)", "c = count()"])
        self.assertEqual(found.body.to_pylist(), [{"s": 4, "c": 3}])
        self.assertEqual(found.without_value, {"s": 1})
        none = tally(table(n=pa.array([], pa.int64())), aggregate=["s = sum(n)", "c = count()"])
        self.assertEqual(none.body.to_pylist(), [{"s": None, "c": 0}])

    def test_zero_is_zero_whichever_comes_first(self):
        for kind in (pa.float64(), pa.float32()):
            layer = table(x=pa.array([-0.0, 0.0, 1.0], kind))
            found = tally(layer, "x").body
            self.assertEqual(str(found["x"].to_pylist()), "[0.0, 1.0]")
            self.assertEqual(found.schema.field("x").type, kind)
            self.assertEqual(tally(layer, [], across="x").body.column_names, ["0", "1", "total"])

    def test_real_keys_are_told_apart_and_expressions_are_keys(self):
        layer = table(
            x=[0.1, 0.1 + 2**-54, 0.30000000000000004, 0.3], code=["01a", "01b", "02", None]
        )
        self.assertEqual(len(set(tally(layer, "x", across=None).body["x"].to_pylist())), 4)
        crossed = tally(layer, [], across="x").body.column_names
        self.assertEqual(len(set(crossed)), 5)  # and the total
        self.assertIn("0.30000000000000004", crossed)
        found = tally(layer, "zone = substring(code, 1, 2)").body.to_pylist()
        self.assertEqual([r["zone"] for r in found], ["01", "02", None])

    def test_what_has_no_meaning(self):
        layer = table(n=[1, 2], k=["a", "b"])
        for wrong in ({"share": "rows"}, {"sort": "n"}, {"top": 3}, {"by": "k", "classes": [1]},
                      {"by": "n", "classes": [2, 1]}, {"by": "k", "sort": "z"},
                      {"by": "k", "share": "all", "aggregate": "mean(n)"},
                      {"by": "k = n"}, {"by": "k", "share": "half"}):  # fmt: skip
            with self.subTest(wrong=wrong), self.assertRaises(UsageError):
                tally(layer, **wrong)
