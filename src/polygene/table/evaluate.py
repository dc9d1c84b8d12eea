"""Computing parsed expressions on whole columns."""

from __future__ import annotations

import functools
import math
from collections import Counter
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.classes import NamedTuple
from polygene.errors import ExpressionError, UsageError, did_you_mean, listed, nearest_first
from polygene.table import arithmetic, choosing, spatial
from polygene.table.casting import recast
from polygene.table.functions import (
    FOREIGN,
    FUNCTIONS,
    Function,
    by_value,
)
from polygene.table.sizes import COUNTED, GEOMETRY_FUNCTIONS
from polygene.table.temporal import MOMENT, RELATIONS, Span, end_of_day, open_end, without_zeros
from polygene.table.tokens import field_name, unquoted
from polygene.table.types import TYPE_OF_KIND, kind_of, null_of

if TYPE_CHECKING:
    import lark

    from polygene.geometry import GeometryColumn
    from polygene.layer import Layer


class Value(NamedTuple):
    """A column or single value, and the kind of things in it: number, text, boolean, date, time."""

    data: Any
    kind: str


_COMPARISONS: dict[str, Callable[..., Any]] = {
    "=": pc.equal,
    "<>": pc.not_equal,
    "<": pc.less,
    "<=": pc.less_equal,
    ">": pc.greater,
    ">=": pc.greater_equal,
}


class Evaluator:
    """Computes trees of one text over one layer.

    written : how geometry in the text is to be read, if not as the layer's
    lost : how many values became null on the way, by the reason: see `arithmetic`
    """

    def __init__(self, text: str, layer: Layer, written: spatial.Written | None = None) -> None:
        self.text, self.layer, self.table, self.written = text, layer, layer.table, written
        self.lost: Counter[str] = Counter()

    def value_of(self, tree: lark.Tree) -> Value:
        return getattr(self, f"_{tree.data}")(tree)

    def _values(self, tree: lark.Tree) -> list[Value]:
        return [self.value_of(child) for child in tree.children if not isinstance(child, str)]

    def _refuse(self, tree: lark.Tree, reason: str) -> ExpressionError:
        return ExpressionError(reason, self.text, tree.meta.start_pos)

    def _expect(self, value: Value, kind: str, tree: lark.Tree, use: str) -> Any:
        if value.kind not in (kind, "null"):
            raise self._refuse(tree, f"{use} needs a {kind}, and this is a {value.kind}")
        return pc.cast(value.data, TYPE_OF_KIND[kind]) if value.kind == "null" else value.data

    # Logic

    def _booleans(self, tree: lark.Tree, use: str) -> list[Any]:
        return [
            self._expect(self.value_of(child), "boolean", child, use) for child in tree.children
        ]

    def _or_(self, tree: lark.Tree) -> Value:
        return Value(functools.reduce(pc.or_kleene, self._booleans(tree, "OR")), "boolean")

    def _and_(self, tree: lark.Tree) -> Value:
        return Value(functools.reduce(pc.and_kleene, self._booleans(tree, "AND")), "boolean")

    def _not_(self, tree: lark.Tree) -> Value:
        return Value(pc.invert(self._booleans(tree, "NOT")[0]), "boolean")

    # Predicates

    def _alike(self, tree: lark.Tree, left: Value, right: Value) -> tuple[Any, Any]:
        """Bring two values to types that can be compared."""
        kinds = {left.kind, right.kind}
        if kinds == {"date", "time"}:  # a date is all of its day, as intervals have it
            return pc.cast(left.data, pa.date32(), safe=False), pc.cast(
                right.data, pa.date32(), safe=False
            )
        if kinds == {"number"}:
            return arithmetic.order(left.data, right.data)
        if len(kinds) > 1 or "null" in kinds:
            hint = "; IS NULL tells whether a value is there" if "null" in kinds else ""
            if kinds & {"date", "time"} and "text" in kinds:
                hint = "; write a date as DATE('2026-05-31'), a time as TIMESTAMP('...Z')"
            elif kinds == {"number", "text"}:
                hint = "; texts stand in single quotes, numbers in none"
            raise self._refuse(tree, f"a {left.kind} is compared with a {right.kind}{hint}")
        return left.data, right.data

    def _compare(self, tree: lark.Tree) -> Value:
        left, right = self._values(tree)
        operator = next(c for c in tree.children if isinstance(c, str))  # a token
        return Value(_COMPARISONS[str(operator)](*self._alike(tree, left, right)), "boolean")

    def _between(self, tree: lark.Tree) -> Value:
        value, low, high = self._values(tree)
        return Value(
            pc.and_kleene(
                pc.greater_equal(*self._alike(tree, value, low)),
                pc.less_equal(*self._alike(tree, value, high)),
            ),
            "boolean",
        )

    def _like(self, tree: lark.Tree) -> Value:
        value, pattern = self._values(tree)
        data = self._expect(value, "text", tree.children[0], "LIKE")
        wanted = self._expect(pattern, "text", tree.children[1], "LIKE")
        if not isinstance(wanted, pa.Scalar):
            raise self._refuse(tree.children[1], "LIKE needs a pattern that is the same for all")
        return Value(pc.match_like(data, wanted.as_py()), "boolean")

    def _in_(self, tree: lark.Tree) -> Value:
        value, *options = self._values(tree)
        found = [pc.equal(*self._alike(tree, value, option)) for option in options]
        return Value(functools.reduce(pc.or_kleene, found), "boolean")

    def _is_null(self, tree: lark.Tree) -> Value:
        return Value(pc.is_null(self._values(tree)[0].data), "boolean")

    def _inverted(self, value: Value) -> Value:
        return Value(pc.invert(value.data), "boolean")

    def _not_like(self, tree: lark.Tree) -> Value:
        return self._inverted(self._like(tree))

    def _not_between(self, tree: lark.Tree) -> Value:
        return self._inverted(self._between(tree))

    def _not_in(self, tree: lark.Tree) -> Value:
        return self._inverted(self._in_(tree))

    def _not_null(self, tree: lark.Tree) -> Value:
        return self._inverted(self._is_null(tree))

    # Arithmetic

    def _power(self, tree: lark.Tree) -> Value:
        left, right = (
            self._expect(self.value_of(c), "number", c, "arithmetic") for c in tree.children
        )
        return self._computed("^", left, right)

    def _arithmetic(self, tree: lark.Tree) -> Value:
        first, operator, second = tree.children
        left, right = (
            self._expect(self.value_of(c), "number", c, "arithmetic") for c in (first, second)
        )
        return self._computed(str(operator).lower(), left, right)

    _sum_ = _product = _arithmetic

    def _computed(self, operator: str, left: Any, right: Any) -> Value:
        found = arithmetic.binary(operator, left, right, self.lost, self.layer.n_rows)
        return Value(found, "number")

    def _minus(self, tree: lark.Tree) -> Value:
        child = tree.children[0]
        data = self._expect(self.value_of(child), "number", child, "arithmetic")
        return Value(arithmetic.negated(data, self.lost, self.layer.n_rows), "number")

    def _plus(self, tree: lark.Tree) -> Value:
        child = tree.children[0]
        return Value(self._expect(self.value_of(child), "number", child, "arithmetic"), "number")

    # Literals, fields, functions

    def _number(self, tree: lark.Tree) -> Value:
        text = str(tree.children[0])
        is_whole = text.isdigit() and int(text) < 2**63
        if not is_whole and math.isinf(float(text)):
            raise self._refuse(tree, f"{text} is larger than any number that is computed with")
        return Value(pa.scalar(int(text) if is_whole else float(text)), "number")

    def _text(self, tree: lark.Tree) -> Value:
        return Value(pa.scalar(unquoted(tree.children[0]), pa.string()), "text")

    def _true(self, tree: lark.Tree) -> Value:
        del tree
        return Value(pa.scalar(True), "boolean")

    def _false(self, tree: lark.Tree) -> Value:
        del tree
        return Value(pa.scalar(False), "boolean")

    def _date(self, tree: lark.Tree) -> Value:
        return self._moment(tree, pa.date32(), "date", "a date like 2026-05-31")

    def _timestamp(self, tree: lark.Tree) -> Value:
        form = "a time like 2026-05-31T12:00:00Z, to the millisecond at the finest"
        return self._moment(tree, MOMENT, "time", form)

    def _moment(self, tree: lark.Tree, kind: pa.DataType, word: str, form: str) -> Value:
        text = unquoted(tree.children[0])
        try:
            return Value(pc.cast(pa.scalar(without_zeros(text)), kind), word)
        except pa.ArrowInvalid as err:
            raise self._refuse(tree, f"{text!r} is not {form}") from err

    def _casei(self, tree: lark.Tree) -> Value:
        child = tree.children[0]
        data = self._expect(self.value_of(child), "text", child, "CASEI")
        return Value(by_value(str.casefold, data), "text")

    def _accenti(self, tree: lark.Tree) -> Value:
        child = tree.children[0]
        data = self._expect(self.value_of(child), "text", child, "ACCENTI")
        apart = pc.utf8_normalize(data, form="NFKD")
        return Value(pc.replace_substring_regex(apart, pattern=r"\p{Mn}", replacement=""), "text")

    def _case(self, tree: lark.Tree) -> Value:
        """Return the value behind the first condition that is true (ISO/IEC 9075-2, 6.12)."""
        children = [child for child in tree.children if child is not None]
        is_open = len(children) % 2 == 0  # without ELSE
        otherwise = Value(pa.scalar(None), "null") if is_open else self.value_of(children.pop())
        tests = [
            self._expect(self.value_of(child), "boolean", child, "WHEN") for child in children[::2]
        ]
        values = [*map(self.value_of, children[1::2]), otherwise]
        kinds = list(dict.fromkeys(v.kind for v in values if v.kind != "null")) or ["null"]
        if len(kinds) > 1:
            words = " and a ".join(kinds)
            raise self._refuse(tree, f"what CASE gives is of one kind, and here it is a {words}")
        alike = next((v.data.type for v in values if v.kind != "null"), pa.null())
        given = [null_of(kinds[0], alike) if v.kind == "null" else v.data for v in values]
        tests = [pc.fill_null(pc.cast(test, pa.bool_()), False) for test in tests]
        try:
            choose = functools.partial(choosing.case, tests)
            found = choosing.chosen("CASE", choose, given, self.layer)
        except UsageError as err:
            raise self._refuse(tree, f"CASE: {err}") from err
        return Value(found, kinds[0])

    def _null(self, tree: lark.Tree) -> Value:
        del tree
        return Value(pa.scalar(None, pa.null()), "null")

    def _call(self, tree: lark.Tree) -> Value:
        name = str(tree.children[0])
        key = name.lower()
        if key in GEOMETRY_FUNCTIONS:
            return self._measure(tree, key, tree.children[1:])
        if key == "interval":
            return self._interval(tree)
        if key in RELATIONS:
            return self._temporal(tree, key)
        if key in spatial.FUNCTIONS:
            return self._spatial(tree, key)
        if key not in FUNCTIONS:
            known = sorted(
                [*FUNCTIONS, *GEOMETRY_FUNCTIONS, "interval", *RELATIONS, *spatial.FUNCTIONS]
            )
            if key in FOREIGN:
                raise self._refuse(tree, f"{name}() is {FOREIGN[key]} here")
            raise self._refuse(
                tree,
                f"there is no function {name!r}{did_you_mean(key, known)} (there are "
                f"{listed(nearest_first(key, known), 12)})",
            )
        function = FUNCTIONS[key]
        values = self._values(tree)
        kinds, same = self._arguments(tree, key, function, values)
        alike = next((v.data.type for v in values if v.kind == same), None)
        data = [
            v.data if v.kind != "null" else null_of(kind, alike if kind == same else None)
            for v, kind in zip(values, kinds, strict=True)
        ]
        try:
            if function.gives == "same":
                found = choosing.chosen(key, function.compute, data, self.layer)
            elif key == "abs":
                found = arithmetic.absolute(data[0], self.lost, self.layer.n_rows)
            else:
                found = function.compute(*data)
        except UsageError as err:
            raise self._refuse(tree, f"{key}: {err}") from err
        return Value(found, same if function.gives == "same" else function.gives)

    def _interval(self, tree: lark.Tree) -> Value:
        children = tree.children[1:]
        if len(children) != 2:
            raise self._refuse(tree, "INTERVAL takes a start and an end")
        ends = []
        for child, is_start in zip(children, (True, False), strict=True):
            if child.data == "text" and unquoted(child.children[0]) == "..":
                ends.append(open_end(is_start))
            elif child.data == "text":
                text = unquoted(child.children[0])
                read = recast(pa.chunked_array([[text]]), pa.field("", MOMENT)).cut[0]
                if not read.is_valid:
                    raise self._refuse(child, f"{text!r} is not a date, a time or '..'")
                is_day = len(text.strip()) <= len("2026-05-31")
                ends.append(end_of_day(read) if is_day and not is_start else read)
            else:
                span = self._span(child)
                ends.append(span.start if is_start else span.stop)
        is_written = all(isinstance(end, pa.Scalar) and end.is_valid for end in ends)
        if is_written and pc.greater(*ends).as_py():
            raise self._refuse(tree, "the interval ends before it begins")
        return Value(Span(*ends), "interval")

    def _span(self, tree: lark.Tree) -> Span:
        value = self.value_of(tree)
        if value.kind == "interval":
            return value.data
        if value.kind not in ("date", "time"):
            raise self._refuse(
                tree, f"a date, time or interval is needed, and this is a {value.kind}"
            )
        moment = pc.cast(value.data, MOMENT, safe=False)  # what is finer is cut
        return Span(moment, end_of_day(moment) if value.kind == "date" else moment)

    def _temporal(self, tree: lark.Tree, name: str) -> Value:
        children = tree.children[1:]
        if len(children) != 2:
            raise self._refuse(tree, f"{name.upper()} takes two dates, times or intervals")
        one, other = map(self._span, children)
        return Value(RELATIONS[name](one, other), "boolean")

    def _spatial(self, tree: lark.Tree, name: str) -> Value:
        children = tree.children[1:]
        if len(children) != 2:
            raise self._refuse(
                tree, f"{name.upper()} takes the geometry and one that is written out"
            )
        literals = [self._literals(child) for child in children]
        if (literals[0] is None) == (literals[1] is None):
            raise self._refuse(
                tree,
                f"{name.upper()} takes the feature's geometry, by any name as in geom, and one that is "
                "written out: POINT(...), POLYGON((...)) or BBOX(x, y, x, y)",
            )
        relation = spatial.FUNCTIONS[name]
        if literals[0] is not None:
            relation = spatial.TURNED.get(relation, relation)
        members = literals[0] if literals[0] is not None else literals[1]
        assert members is not None
        turns = [spatial.in_turns(one, self.layer) for one in members]
        is_several = len(members) > 1 or any(spatial.are_cut(some, self.layer) for some in turns)
        if is_several and relation not in ("intersects", "disjoint"):
            raise self._refuse(
                tree,
                "only S_INTERSECTS and S_DISJOINT take several geometries, as of a GEOMETRYCOLLECTION, "
                "or what lies over the longitude from which the layer counts",
            )
        found = [spatial.related_rows(self.layer, one, relation) for some in turns for one in some]
        join = np.logical_and if relation == "disjoint" else np.logical_or
        return Value(pa.chunked_array([pc.column(join.reduce(found))]), "boolean")

    def _literals(self, tree: lark.Tree) -> list[GeometryColumn] | None:
        """Return the members of a geometry that is written out; None for the features' own."""
        if tree.data == "wkt":
            from polygene.text import wkt

            try:
                members = wkt.members_of(str(tree.children[0]))
            except (ValueError, TypeError) as err:
                raise self._refuse(tree, "it is no geometry that is known") from err
            return members if self.written is None else list(map(self.written.here, members))
        if tree.data == "call" and str(tree.children[0]).lower() == "bbox":
            sides = [self.value_of(child) for child in tree.children[1:]]
            if len(sides) not in (4, 6) or any(not isinstance(v.data, pa.Scalar) for v in sides):
                raise self._refuse(
                    tree,
                    "BBOX takes four numbers: x and y minimum, x and y maximum; or six, with z behind "
                    "each two",
                )
            if len(sides) == 6:  # relations are those of the plane
                del sides[5], sides[2]
            return self._box(tree, [v.data.as_py() for v in sides])
        if tree.data == "field":
            if self.layer.is_table:
                raise self._refuse(tree, f"{self.layer.name} is a table without geometry")
            return None
        raise self._refuse(tree, "a geometry is needed here")

    def _box(self, tree: lark.Tree, sides: list[Any]) -> list[GeometryColumn]:
        from polygene.crs import turn_of  # with PROJ, which few expressions need

        try:
            numbers = [float(side) for side in sides]
            if self.written is not None:
                return self.written.box(numbers)
            return spatial.box(numbers, turn_of(self.layer.crs))
        except (UsageError, TypeError, ValueError) as err:
            why = str(err) if isinstance(err, UsageError) else "the sides of a box are numbers"
            raise self._refuse(tree, why) from err

    def _wkt(self, tree: lark.Tree) -> Value:
        raise self._refuse(tree, "a geometry stands only in spatial functions, as S_INTERSECTS")

    def _arguments(
        self, tree: lark.Tree, name: str, function: Function, values: list[Value]
    ) -> tuple[list[str], str]:
        """Return the kind of each argument, and of those that must be alike; refuse what is not."""
        must, _, may = function.takes.partition(" / ")
        wanted = [k.strip() for k in must.split(",")]
        optional = [k.strip() for k in may.split(",")] if may else []
        if wanted[-1] == "...":
            wanted = wanted[:-1] + [wanted[-2]] * max(0, len(values) - len(wanted) + 1)
        all_wanted = (wanted + optional)[: max(len(wanted), len(values))]
        if len(values) != len(all_wanted):
            takes = function.takes.replace(" / ", ", and perhaps ")
            raise self._refuse(tree, f"{name} takes {takes}; here it has {len(values)}")
        same = next(
            (
                v.kind
                for v, w in zip(values, wanted, strict=False)
                if w == "same" and v.kind != "null"
            ),
            "null",
        )
        kinds = []
        for child, value, want in zip(tree.children[1:], values, all_wanted, strict=True):
            kind = {"same": same, "any": value.kind}.get(want, want)
            fits = value.kind in (kind, "null") or (kind == "date" and value.kind == "time")
            if not fits:
                raise self._refuse(child, f"{name} needs a {kind} here, and this is a {value.kind}")
            kinds.append(kind)
        return kinds, same

    def _measure(self, tree: lark.Tree, name: str, arguments: list[lark.Tree]) -> Value:
        if self.layer.is_table:
            raise self._refuse(tree, f"{self.layer.name} is a table without geometry")
        function = GEOMETRY_FUNCTIONS[name]
        unit = None
        if arguments:
            is_name = len(arguments) == 1 and arguments[0].data == "field"
            unit = str(arguments[0].children[0]) if is_name else ""
            if unit not in function.units:
                known = f"one of {', '.join(function.units)}" if function.units else "nothing"
                raise self._refuse(arguments[0], f"{name} takes {known} in its brackets")
        try:
            values = function.compute(self.layer, unit)
        except UsageError as err:
            raise self._refuse(tree, str(err)) from err
        is_none = self.layer.geometry.is_empty
        kind = pa.int64() if name in COUNTED else pa.float64()
        data = pc.with_nulls(
            values if kind == pa.float64() else values.astype(np.int64), is_none, kind
        )
        return Value(pa.chunked_array([data]), "number")

    def _field(self, tree: lark.Tree) -> Value:
        token = tree.children[0]
        name = field_name(token)
        names = self.table.column_names
        if name not in names:
            likely = did_you_mean(name, names)
            if token.startswith('"'):
                likely += f"; a text stands in single quotes: '{name}'"
            fields = listed(nearest_first(name, names), 8)
            raise self._refuse(
                tree,
                f"layer {self.layer.name!r} has no field {name!r}{likely} (its fields: {fields})",
            )
        data = self.table.column(name)
        kind = kind_of(data.type)
        if kind == "number" and pa.types.is_decimal(data.type):
            data = pc.cast(data, pa.float64())
        if kind == "time" and data.type.tz != "UTC":  # without a zone as all readers take it
            data = pc.cast(data, pa.timestamp(data.type.unit, tz="UTC"))
        if kind == "date" and not pa.types.is_date32(data.type):
            data = pc.cast(data, pa.date32())
        return Value(data, kind)
