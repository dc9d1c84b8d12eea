"""Data classes do what those of the standard library do."""

from __future__ import annotations

import copy
import dataclasses
import inspect
import pickle
import typing
import unittest
from dataclasses import field, fields, replace

from polygene.classes import NamedTuple, dataclass


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


def tuples_by(base):
    """Return the same tuples with names, by one base or the other."""

    class One(base):
        """Words."""

        a: int
        b: str = "x"
        self: float = 2.5  # a name that methods have too

        @property
        def twice(self):
            return 2 * self.a

        def __len__(self):
            return tuple.__len__(self)

    class Nothing(base):
        pass

    class Own(base):
        a: int

        def __repr__(self):
            return f"{self.a}!"

    return One, Nothing, Own


class Tuples(unittest.TestCase):
    def test_as_the_standard_library_has_them(self):
        acts = (
            lambda c: c(1), lambda c: c(1, "y"), lambda c: c(a=3, b="q"), lambda c: c(),
            lambda c: c(1, c=2), lambda c: c(1, 2, 3, 4), lambda c: c._make([1]),
            lambda c: c._make([1, 2, 3]),
            lambda c: c(1)._replace(a=5), lambda c: c(1)._replace(z=5), lambda c: c(1)._asdict(),
            lambda c: c._fields, lambda c: c._field_defaults, lambda c: c.__match_args__,
            lambda c: c.__doc__.replace(",)", ")"), lambda c: c(1) == (1, "x", 2.5),
            lambda c: (hash(c(1)), len(c(1))),
            lambda c: c(1).twice, lambda c: setattr(c(1), "a", 2), lambda c: setattr(c(1), "z", 2),
            lambda c: list(inspect.signature(c).parameters), lambda c: c.__new__.__annotations__.keys(),
            lambda c: c(7)[0:2], lambda c: sorted([c(2), c(1)]), lambda c: issubclass(c, tuple),
            lambda c: [*c(4)],
        )  # fmt: skip
        for ours, theirs in zip(tuples_by(NamedTuple), tuples_by(typing.NamedTuple), strict=True):
            for k, act in enumerate(acts):
                with self.subTest(ours.__name__, act=k):
                    found, wanted = (_what(act, c) for c in (ours, theirs))
                    self.assertEqual(found, wanted)

    def test_goes_to_a_worker_and_back(self):
        for made in (Pair(1), Pair(2, "y")):
            found = pickle.loads(pickle.dumps(made))
            self.assertEqual((found, type(found)), (made, Pair))
        self.assertEqual(
            copy.replace(Pair(1), a=3) if hasattr(copy, "replace") else Pair(3), (3, "x")
        )

    def test_what_has_no_default_comes_first(self):
        for base in (NamedTuple, typing.NamedTuple):
            with self.assertRaises(TypeError):

                class _Wrong(base):
                    a: int = 1
                    b: int


def _what(act, made):
    try:
        return repr(act(made))
    except Exception as err:
        return type(err).__name__


class Pair(NamedTuple):
    a: int
    b: str = "x"


@dataclass(frozen=True)
class Frozen:
    a: int
    b: str


if __name__ == "__main__":
    unittest.main()
