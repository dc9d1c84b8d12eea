"""Calls of kernels held to their twins in `plain.texts`."""

from __future__ import annotations

import itertools

from polygene.kernels import plain


class OfTexts:
    def lift_lists(self, c, n):
        wanted = plain.lift_lists(bytes(c.data), bytes(c.key))
        return (None if n < 0 else self._built(c, n)), wanted

    def lift_texts(self, c, n):
        texts = [bytes(c.data[a:b]).decode("latin-1") for a, b in itertools.pairwise(c.starts)]
        wanted = plain.lift_texts(texts)
        if n < 0:
            return None, wanted
        lists = iter(self._built(c, n))
        kinds = list(map(int, c.now("kind")))
        return [(k, next(lists) if 0 < k < 16 else None) for k in kinds], wanted

    def _built(self, c, n):
        text, ends, counts = bytes(c.now("text")), c.now("ends"), c.now("counts")
        at = [0, 0, 0, 0, 0]

        def built(level):
            if level < 0:
                at[4] += 1
                return float(text[ends[at[4] - 1] : ends[at[4]]])
            at[level] += 1
            return [built(level - 1) for _ in range(counts[level][at[level] - 1])]

        return [built(row[0] - 1) for row in c.now("lists")[:n]]
