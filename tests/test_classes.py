"""Data classes do what those of the standard library do."""

from __future__ import annotations

import dataclasses
import inspect
import pickle
import unittest
from dataclasses import field, fields, replace

from polygene.classes import dataclass


def classes_by(make):
    """Return the same classes, made by one decorator or the other."""

    @make(frozen=True)
    class One:
        a: int
        b: str = "x"
        c: list[int] = field(default_factory=list)
        twice: int = field(init=False)

        def __post_init__(self):
            object.__setattr__(self, "twice", 2 * self.a)

    @make(frozen=True)
    class Below(One):
        d: float = 1.5
        b: str = "y"

    @make
    class Open:
        """Words."""

        a: int = 1

    @make(frozen=True)
    class Nothing:
        pass

    return One, Below, Open, Nothing


OURS, THEIRS = classes_by(dataclass), classes_by(dataclasses.dataclass)
CALLS = (
    ((), {}), ((1,), {}), ((1, "z"), {}), ((1, "z", [2]), {}), ((1, "z", [2], 3, 4, 5), {}),
    ((), {"a": 1, "b": "q"}), ((1,), {"a": 2}), ((1,), {"e": 2}), ((), {"b": "q"}),
    ((1,), {"twice": 2}), ((), {"a": 1, "d": 2.5}),
)  # fmt: skip


def outcome(act):
    try:
        return repr(act())
    except (TypeError, ValueError, dataclasses.FrozenInstanceError) as err:
        return type(err).__name__


def _name(self, value):
    self.a = value


class Classes(unittest.TestCase):
    def test_as_the_standard_library_has_them(self):
        for ours, theirs in zip(OURS, THEIRS, strict=True):
            for given, named in CALLS:
                made = [outcome(lambda: c(*given, **named)) for c in (ours, theirs)]  # noqa: B023
                with self.subTest(ours.__name__, given=given, named=named):
                    self.assertEqual(*made)
            names = [[f.name for f in fields(c)] for c in (ours, theirs)]
            self.assertEqual(*names)
            asked = [list(inspect.signature(c).parameters) for c in (ours, theirs)]
            self.assertEqual(*asked)

    def test_equal_where_all_fields_are(self):
        for one, below, free, nothing in (OURS, THEIRS):
            self.assertEqual(one(1), one(1))
            self.assertNotEqual(one(1), one(1, "z"))
            self.assertNotEqual(one(1, "y"), below(1, "y"))
            self.assertNotEqual(one(1), 1)
            self.assertRaises(TypeError, hash, one(1))  # for the list in it
            self.assertRaises(TypeError, hash, free())
            self.assertEqual(free(number := float("nan")), free(number))
            self.assertEqual((nothing(), hash(nothing())), (nothing(), hash(nothing())))

    def test_changed_only_into_another(self):
        for one, _, free, _ in (OURS, THEIRS):
            made = one(1, c=[5])
            self.assertEqual(replace(made, a=4).twice, 8)
            self.assertIs(replace(made, a=4).c, made.c)
            for act in (lambda: _name(made, 3), lambda: delattr(made, "a")):  # noqa: B023
                self.assertRaises(dataclasses.FrozenInstanceError, act)
            open_ = free()
            _name(open_, 3)
            self.assertEqual(open_, free(3))

    def test_each_object_has_its_own_list(self):
        one, two = OURS[0](1), OURS[0](1)
        one.c.append(3)
        self.assertEqual(two.c, [])

    def test_goes_to_a_worker_and_back(self):
        info = Frozen(1, "b")
        self.assertEqual(pickle.loads(pickle.dumps(info)), info)
        self.assertEqual(hash(info), hash(Frozen(1, "b")))


@dataclass(frozen=True)
class Frozen:
    a: int
    b: str


if __name__ == "__main__":
    unittest.main()
