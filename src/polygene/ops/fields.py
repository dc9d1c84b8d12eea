"""Fields: rename, retype, compute, tidy, drop and reorder the fields of a layer."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.classes import dataclass
from polygene.errors import UsageError, check_choice
from polygene.layer import Layer, names_alike
from polygene.notes import Warned, counted
from polygene.ops.given import Names, assignments, expression, names
from polygene.ops.ground import stretched_in
from polygene.ops.subset import with_fields
from polygene.table.arithmetic import BY_ZERO
from polygene.table.casting import fitted, rounded_by
from polygene.table.expression import Assignment, Expression
from polygene.table.types import kind_of, type_words, typed_field

LOSSES = ("refuse", "null", "cut")


@dataclass(frozen=True)
class FieldsSummary:
    """What became of the fields.

    geometry : what the layer holds, ``none`` if it is a table
    changed : (what was done) to each, in words of one line
    lost : values that did not fit, by field
    rows : features that were computed for, of ``total``
    """

    name: str
    geometry: str
    total: int
    rows: int
    changed: list[str]
    lost: dict[str, int]
    zero_divisions: int
    without_value: dict[str, int]
    fields: list[str]
    notes: list[str]


@dataclass(frozen=True)
class FieldsResult:
    layer: Layer
    summary: FieldsSummary


def fields(
    layer: Layer,
    *,
    rename: Mapping[str, str] | None = None,
    retype: Mapping[str, str] | None = None,
    dates: str | None = None,
    compute: Sequence[Assignment | str] | str = (),
    trim: bool = False,
    keep: Names = (),
    drop: Names = (),
    order: Names = (),
    where: Expression | str | None = None,
    on_loss: str = "refuse",
) -> FieldsResult:
    """Change the fields of a layer, in the order of the arguments; its geometry and features stay.

    Parameters
    ----------
    rename : old name → new name
    retype : name → type in words, as in ``integer`` or ``text(20)``
    dates : how dates are written in texts that become dates, as in ``DD.MM.YYYY``
    compute : assignments, ``name = expression``, each of which sees what those before it made
    trim : take blanks off the ends of all texts, and make empty ones null
    keep, drop : fields, one of the two
    order : fields to put first
    where : values change for those features alone for which it is true
    on_loss : what becomes of values that do not fit: ``refuse``, ``null`` or ``cut``

    Raises
    ------
    UnknownFieldError, ExpressionError
        If something does not fit the layer.
    UsageError
        If names clash, or a type or what to do on loss is unknown.
    LossError
        If values do not fit and ``on_loss`` is ``refuse``.
    """
    check_choice("on_loss", on_loss, LOSSES)
    work = _Work(layer, expression(where), on_loss)
    work.rename(rename or {})
    for name, words in (retype or {}).items():
        work.retype(name, words, dates)
    made = assignments(compute)
    for assignment in made:
        work.compute(assignment)
    if trim:
        work.trim()
    changed = work.layer
    kept = with_fields(changed, names(keep), names(drop))
    there = set(kept.table.column_names)
    gone = [n for n in changed.table.column_names if n not in there]
    if gone:
        work.changed.append(f"dropped {', '.join(gone)}")
    first = list(dict.fromkeys(names(order)))
    for name in first:
        kept.check_field(name)
    ordered = [*first, *(n for n in kept.table.column_names if n not in first)]
    kept = replace(kept, table=kept.table.select(ordered))
    return FieldsResult(
        kept,
        FieldsSummary(
            name=layer.name,
            geometry=layer.kind,
            total=layer.n_rows,
            rows=int(work.rows.sum()),
            changed=work.changed,
            lost=work.lost,
            zero_divisions=work.without_value[BY_ZERO],
            without_value={k: n for k, n in work.without_value.items() if k != BY_ZERO},
            fields=ordered,
            notes=[
                *stretched_in(layer, (one.expression.tree for one in made)),
                *(
                    Warned(f"{name}: {counted(n, 'value')} rounded to reals of 32 bits")
                    for name, n in work.rounded.items()
                ),
            ],
        ),
    )


class _Work:
    """A layer while its fields change."""

    def __init__(self, layer: Layer, only: Expression | None, on_loss: str) -> None:
        self.layer, self.on_loss = layer, on_loss
        self.rows: BoolArray = (
            np.ones(layer.n_rows, bool) if only is None else only.true_rows(layer)
        )
        self.changed: list[str] = []
        self.lost: dict[str, int] = {}
        self.rounded: dict[str, int] = {}
        self.without_value: Counter[str] = Counter()

    def rename(self, names: Mapping[str, str]) -> None:
        for name in names:
            self.layer.check_field(name)
        table = self.layer.table
        new = [names.get(name, name) for name in table.column_names]
        folded = [name.casefold() for name in new]
        for name in names.values():
            if not name.strip():
                raise UsageError("a field needs a name that is not empty")
            if folded.count(name.casefold()) > 1:
                raise UsageError(f"two fields would be called {name!r} (capitals do not count)")
        if names:
            self.layer = replace(self.layer, table=table.rename_columns(new))
            self.changed += [f"{old} is now {name}" for old, name in names.items()]

    def retype(self, name: str, words: str, dates: str | None) -> None:
        self.layer.check_field(name)
        old = self.layer.table.schema.field(name)
        field = typed_field(name, words)
        data = self._fitted(self.layer.table.column(name), field, dates)
        self._set(field, data)
        self.changed.append(f"{name} from {type_words(old)} to {type_words(field)}")

    def compute(self, assignment: Assignment) -> None:
        found = assignment.expression.values(self.layer)
        self.without_value.update(found.lost)
        table = self.layer.table
        pairs = names_alike([assignment.name], table.column_names)
        name = pairs.get(assignment.name, assignment.name)
        data = found.data
        if name in table.column_names:
            field = table.schema.field(name)
            data = self._fitted(self._chosen(data), field)
            data = (
                data
                if self.rows.all()
                else pc.if_else(pc.column(self.rows), data, table.column(name))
            )
            self.changed.append(f"{name} computed")
        else:
            kind = pa.string() if kind_of(data.type) == "null" else data.type
            field = pa.field(name, kind)
            data = self._chosen(pc.cast(data, kind))
            self.changed.append(f"{name} computed, {type_words(field)}")
        self._set(field, data)

    def _chosen(self, data: pa.ChunkedArray) -> pa.ChunkedArray:
        """Return values that are null in the rows that are not to change."""
        if self.rows.all():
            return data
        return pc.if_else(pc.column(self.rows), data, pa.scalar(None, data.type))

    def trim(self) -> None:
        for field in self.layer.table.schema:
            if kind_of(field.type) == "text":
                column = self.layer.table.column(field.name)
                text = pc.utf8_trim_whitespace(column)
                text = pc.if_else(pc.equal(text, ""), pa.scalar(None, text.type), text)
                text = pc.if_else(pc.column(self.rows), text, column)
                same = pc.fill_null(pc.equal(text, column), False)
                both_null = pc.and_(pc.is_null(text), pc.is_null(column))
                n = len(column) - int(pc.sum(pc.or_(same, both_null)).as_py() or 0)
                if n:
                    self._set(field, text)
                    self.changed.append(f"{field.name} trimmed in {n:,}")

    def _fitted(self, data: pa.ChunkedArray, field: pa.Field, dates: str | None = None) -> object:
        given = data
        data, n_lost = fitted(data, field, self.on_loss, self.layer, dates)
        if n_lost:
            self.lost[field.name] = n_lost
        n_rounded = rounded_by(given, field.type)
        if n_rounded:
            self.rounded[field.name] = n_rounded
        return data

    def _set(self, field: pa.Field, data: object) -> None:
        table = self.layer.table
        if table.num_columns == 0:
            table = pa.table([data], pa.schema([field]))
        elif field.name in table.column_names:
            table = table.set_column(table.column_names.index(field.name), field, data)
        else:
            table = table.append_column(field, data)
        self.layer = replace(self.layer, table=table)
