"""Work in parts: all of it once, in order, also when it fails or asks for more of the same."""

from __future__ import annotations

import os
import threading
import time
import unittest
from unittest import mock

import numpy as np

from polygene import parallel
from polygene.arrays import (
    appended,
    bucket,
    number_pairs,
    number_texts,
    offsets_from,
    present,
    spans,
    take_spans,
)


class Parts(unittest.TestCase):
    def setUp(self):
        mock.patch.dict("os.environ", POLYGENE_THREADS="3").start()
        self.addCleanup(mock.patch.stopall)

    def test_ranges_cover_all_groups_once(self):
        rng = np.random.default_rng(1)
        for n, most in ((0, None), (1, None), (7, 10), (5000, None), (5000, 777), (300, 1)):
            offsets = offsets_from(rng.integers(0, 200, n))
            parts = parallel.parted(offsets, most)
            self.assertEqual([k for a, b in parts for k in range(a, b)], list(range(n)))
            if most is not None and n:
                largest = max(offsets[b] - offsets[a] for a, b in parts)
                self.assertLessEqual(largest, most + 200)
        for n in (0, 1, 100_000):
            self.assertEqual(sum(b - a for a, b in parallel.split(n)), n)

    def test_results_come_in_order_and_work_may_nest(self):
        def inner(k):
            return k, threading.current_thread().name

        def outer(k):
            return parallel.each_of(inner, [10 * k, 10 * k + 1])

        with mock.patch.object(parallel.kernels, "IS_COMPILED", True):
            found = parallel.each_of(outer, range(20))
            later = parallel.meanwhile(lambda: 7)
            self.assertEqual(later(), 7)
        self.assertEqual([k for pair in found for k, _ in pair], [
            k for n in range(20) for k in (10 * n, 10 * n + 1)
        ])  # fmt: skip
        for (_, first), (_, second) in found:
            self.assertEqual(first, second)  # what is asked for within a thread is done in it
            self.assertNotEqual(first, threading.current_thread().name)

    def test_one_ahead_is_made_while_one_is_used_and_nothing_goes_on_after(self):
        made, at_work = [], threading.Event()

        def items(n):
            for k in range(n):
                at_work.set()
                time.sleep(0.01)
                made.append(k)
                at_work.clear()
                yield k

        with mock.patch.object(parallel.kernels, "IS_COMPILED", True):
            self.assertEqual(list(parallel.one_ahead(items(5))), list(range(5)))
            made.clear()
            ahead = parallel.one_ahead(items(100))
            self.assertEqual(next(ahead), 0)
            ahead.close()
            self.assertFalse(at_work.is_set())
            self.assertLessEqual(len(made), 2)
            own = parallel._pool(3, os.getpid())

            def handed_over(*work):
                own.submit(*work)
                raise KeyboardInterrupt  # before anybody knows of it

            with mock.patch.object(parallel, "_pool", lambda *_: mock.Mock(submit=handed_over)):
                self.assertRaises(KeyboardInterrupt, next, parallel.one_ahead(items(100)))
            n_made = len(made)
            self.assertFalse(at_work.is_set())
            time.sleep(0.05)
            self.assertEqual(len(made), n_made)
            failing = parallel.one_ahead(1 // k for k in (1, 0))
            self.assertEqual(next(failing), 1)
            self.assertRaises(ZeroDivisionError, next, failing)

    def test_an_error_comes_out_and_stops_the_rest(self):
        done = []

        def work(k):
            if k == 3:
                raise ValueError("three")
            done.append(k)

        with self.assertRaisesRegex(ValueError, "three"):
            parallel.each_of(work, range(5000))
        self.assertLess(len(done), 5000)

    def test_uncompiled_there_is_one_thread(self):
        with mock.patch.object(parallel.kernels, "IS_COMPILED", False):
            self.assertEqual(parallel.n_workers(), 1)


class Arrays(unittest.TestCase):
    def test_pairs_are_numbered_as_they_appear(self):
        rng = np.random.default_rng(2)
        for n, size in ((0, 5), (1, 5), (5000, 40), (5000, 2**41)):
            a, b = rng.integers(0, size, (2, n))
            found = number_pairs(a, b)
            known = {}
            numbers = [known.setdefault(p, len(known)) for p in zip(a, b, strict=True)]
            self.assertEqual(found.numbers.tolist(), numbers)
            pairs = zip(a[found.firsts], b[found.firsts], strict=True)
            self.assertEqual(list(pairs), list(known))

    def test_pairs_of_one_part_are_numbered_too(self):
        """Threads look for pairs by their hashes: also where nearly all are of one part."""
        rng = np.random.default_rng(5)
        a, b = rng.integers(0, 2**40, (2, 120_000))
        seen = np.full(len(a), -1, np.int32)
        slots, waiting = np.full(1 << 18, -1, np.int32), np.empty((2, 32), np.int64)
        run, kernel = parallel.kernels.run, parallel.kernels.pairs.first_equals
        n_distinct = run(kernel, a, b, 1, 2, slots, waiting, seen)
        self.assertEqual(n_distinct, int((seen >= 0).sum()))
        one = np.concatenate([np.flatnonzero(seen >= 0), [7, 8, 9], np.flatnonzero(seen >= 0)[:99]])
        self.assertGreater(len(one), 50_000)
        few = np.full(1 << 10, -1, np.int32)
        self.assertEqual(run(kernel, a, b, 1, 2, few, waiting, seen.copy()), -1)
        for at in (one, np.arange(len(a)), np.repeat(one[:3], 30_000)):
            found = []
            for threads in ("1", "2", "3", "40"):
                with mock.patch.dict("os.environ", POLYGENE_THREADS=threads):
                    found.append(number_pairs(a[at], b[at]))
            known = {}
            pairs = zip(a[at].tolist(), b[at].tolist(), strict=True)
            numbers = [known.setdefault(pair, len(known)) for pair in pairs]
            for numbering in found:
                self.assertEqual(numbering.numbers.tolist(), numbers)
                self.assertEqual(a[at][numbering.firsts].tolist(), [p for p, _ in known])

    def test_ranges_of_rows_are_those_that_spans_names(self):
        rng = np.random.default_rng(3)
        starts, counts = rng.integers(0, 90, 60), rng.integers(0, 9, 60)
        for values in (rng.random((100, 2)), rng.random(100), rng.integers(0, 9, 100)):
            found = take_spans(values, starts, counts)
            np.testing.assert_array_equal(found, values[spans(starts, counts)])
        self.assertEqual(take_spans(np.zeros((0, 2)), starts[:0], counts[:0]).shape, (0, 2))

    def test_texts_of_any_length_are_numbered_as_they_appear(self):
        """Of few different bytes, so that many begin or end alike, in pieces, a zero among them."""
        for seed in range(20):
            rng = np.random.default_rng(seed)
            some = [bytes(rng.choice([0, 65, 255], int(rng.integers(0, 27)))) for _ in range(60)]
            pieces, texts = [], []
            for _ in range(3):
                own = [some[int(k)] for k in rng.integers(0, 60, int(rng.integers(0, 50)))]
                texts += own
                before = int(rng.integers(0, 3))  # bytes that belong to none
                data = np.frombuffer(b"x" * before + b"".join(own), np.uint8)
                pieces.append((data, before + offsets_from(list(map(len, own)))))
            found = number_texts(pieces)
            known: dict[bytes, int] = {}
            expected = [known.setdefault(text, len(known)) for text in texts]
            self.assertEqual(found.numbers.tolist(), expected)
            self.assertEqual([texts[k] for k in found.firsts.tolist()], list(known))

    def test_small_ones(self):
        values = np.array([3, 1, 3, 0])
        self.assertEqual(present(values, 5).tolist(), [0, 1, 3])
        self.assertEqual(bucket(values, 5).order.tolist(), [3, 1, 0, 2])
        self.assertEqual(bucket(np.array([2, 0, 2], np.int32), 4).offsets.tolist(), [0, 1, 1, 3, 3])
        for wrong in (-1, 5):
            with self.assertRaises(ValueError):
                bucket(np.array([0, wrong]), 5)
        self.assertEqual(appended(values, values[:2], 10).tolist(), [3, 1, 3, 0, 13, 11])
        self.assertIs(appended(values, values[:0], 10), values)


if __name__ == "__main__":
    unittest.main()
