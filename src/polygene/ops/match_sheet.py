"""Match sheets: which fields of several layers feed which field of a merged one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import yaml

from polygene import computing as pc
from polygene.classes import dataclass
from polygene.errors import (
    ExpressionError,
    UsageError,
    did_you_mean,
    listed,
    nearest_first,
)
from polygene.layer import Layer, distinct_name, names_alike
from polygene.lined_yaml import Lined, SheetReader, load
from polygene.table.assignment import best_pairs
from polygene.table.casting import TRUTH, date_pattern
from polygene.table.expression import Expression
from polygene.table.likeness import Evidence, Profile, evidence, profile, width_of_codes
from polygene.table.types import is_whole, kind_of, type_words, typed_field, widened

ON_LOSS = ("refuse", "null", "cut")
_FIELD_KEYS = ("type", "from", "on-loss")
_SOURCE_KEYS = (
    "pad",
    "field",
    "join",
    "between",
    "values",
    "constant",
    "if-null",
    "dates",
    "without",
)
LEAST_CONFIDENCE = 0.5


@dataclass(frozen=True)
class Source:
    """What feeds a field from one layer.

    fields : one, or several texts to join with ``between``; none for a constant
    values : small map of what is there to what it becomes; None for all as they are
    if_null : what a null becomes
    dates : how dates are written in a text
    without : what to leave out of a text before it is read, as ``%``
    pad : digits that codes are filled up to with zeros in front
    """

    fields: tuple[str, ...] = ()
    between: str = " "
    values: Mapping[str, Any] | None = None
    constant: Any = None
    if_null: Any = None
    dates: str | None = None
    without: str | None = None
    pad: int | None = None
    line: int | None = None


@dataclass(frozen=True)
class TargetField:
    field: pa.Field
    sources: Mapping[str, Source]
    on_loss: str = "refuse"


@dataclass(frozen=True)
class Sheet:
    """A whole sheet; ``where`` filters layers by name, ``path`` is for messages."""

    fields: Sequence[TargetField]
    where: Mapping[str, Expression] = field(default_factory=dict)
    path: Path | None = None
    notes: Sequence[str] = ()


def sheet_by_name(layers: Sequence[Layer]) -> Sheet:
    """Return the sheet of what is certain: fields of one name are one, types widen without loss.

    Capitals do not count. Fields of one name whose types have none in common that loses nothing stay
    apart, the later with its layer's name in front.
    """
    targets: dict[str, TargetField] = {}
    notes = []
    given = {name.casefold() for layer in layers for name in layer.table.column_names}
    for layer in layers:
        pairs = names_alike(layer.table.column_names, targets)
        for mine in layer.table.schema:
            source = {layer.name: Source((mine.name,))}
            known = targets[pairs[mine.name]] if mine.name in pairs else None
            wide = None if known is None else _wide(known, mine, layer, layers)
            if known is not None and wide is not None:
                targets[pairs[mine.name]] = TargetField(wide, {**known.sources, **source})
                continue
            name = mine.name
            if known is not None:
                # Not that of another field either, which would fall together with it.
                taken = given | {name.casefold() for name in targets}
                name = distinct_name(f"{layer.name}_{name}", taken, folds=True)
                notes.append(
                    f"field {mine.name} of {layer.name} is {type_words(mine)} and elsewhere "
                    f"{type_words(known.field)}; it stays apart as {name}"
                )
            targets[name] = TargetField(mine.with_name(name), source)
    return Sheet(list(targets.values()), notes=notes)


def _has_beyond(column: pa.ChunkedArray, limit: int) -> bool:
    """Whether a whole number is larger than a limit, or smaller than it with a minus."""
    ends = pc.min_max(column).as_py()
    return any(end is not None and abs(end) > limit for end in ends.values())


def _wide(
    known: TargetField, mine: pa.Field, layer: Layer, layers: Sequence[Layer]
) -> pa.Field | None:
    """Return the type that a field of the result has with one more source; None if there is none."""
    wide = widened(known.field, mine)
    kinds = (known.field.type, mine.type)
    if wide is not None or {kind_of(kind) for kind in kinds} != {"number"}:
        return wide
    # No loss as long as all whole numbers are small enough for the other type.
    kind, most = (pa.int64(), 2**63 - 1) if all(map(is_whole, kinds)) else (pa.float64(), 2**53)
    columns = [
        y.table.column(known.sources[y.name].fields[0]) for y in layers if y.name in known.sources
    ]
    columns.append(layer.table.column(mine.name))
    if any(is_whole(own.type) and _has_beyond(own, most) for own in columns):
        return None
    return pa.field(known.field.name, kind)


# Reading


def read_sheet(path: Path, layers: Sequence[Layer]) -> Sheet:
    """Read a match sheet and check it against the layers.

    Raises
    ------
    SheetError
        If something does not parse or fit, with its line.
    """
    return _Reader(path, {layer.name: layer for layer in layers}).sheet(load(path))


class _Reader(SheetReader):
    def __init__(self, path: Path, layers: Mapping[str, Layer]) -> None:
        super().__init__(path)
        self.layers = layers

    def sheet(self, found: Lined) -> Sheet:
        self.check_keys(found, found, ("match sheet", "layers", "fields"), "a match sheet")
        where = self.filters(found)
        given = self.mapping(found, "fields")
        if not given:
            raise self.fail(found.lines.get("fields", 1), "the sheet has no fields")
        targets: list[TargetField] = []
        taken: dict[str, str] = {}
        for name in given:
            key = name.casefold()
            if key in taken:
                raise self.fail(given.lines[name], f"{name!r} is there already as {taken[key]!r}")
            taken[key] = name
            targets.append(self.target(name, self.mapping(given, name)))
        return Sheet(targets, where, self.path)

    def filters(self, found: Lined) -> dict[str, Expression]:
        where = {}
        given = self.mapping(found, "layers") if "layers" in found else Lined()
        for name in given:
            self.check_layer(name, given.lines[name])
            settings = self.mapping(given, name)
            self.check_keys(settings, settings, ("where",), f"layer {name!r}")
            condition = self.one_value(settings, "where")
            if condition is not None:
                try:
                    where[name] = Expression(condition)
                except ExpressionError as err:
                    raise self.fail(settings.lines["where"], str(err)) from err
        return where

    def check_layer(self, name: str, line: int) -> None:
        if name not in self.layers:
            raise self.fail(
                line,
                f"there is no layer {name!r}{did_you_mean(name, list(self.layers))} (those given "
                f"are {', '.join(self.layers)})",
            )

    def target(self, name: str, found: Lined) -> TargetField:
        self.check_keys(found, found, _FIELD_KEYS, f"field {name!r}")
        given_loss = self.one_value(found, "on-loss") or "null"  # YAML has a null of its own
        on_loss = given_loss if "on-loss" in found else "refuse"
        if on_loss not in ON_LOSS:
            raise self.fail(found.lines["on-loss"], f"{on_loss!r} is none of {', '.join(ON_LOSS)}")
        sources = {}
        given = self.mapping(found, "from")
        if not given:
            raise self.fail(found.line, f"field {name!r} is fed by no layer; say from which")
        for layer in given:
            self.check_layer(layer, given.lines[layer])
            sources[layer] = self.source(layer, given[layer], given.lines[layer])
        type_text = self.one_value(found, "type")
        if type_text is not None:
            try:
                kind = typed_field(name, type_text)
            except UsageError as err:
                raise self.fail(found.lines["type"], str(err)) from err
        else:
            kind = self.common_type(name, sources, found.line)
        return TargetField(kind, sources, on_loss)

    def common_type(self, name: str, sources: Mapping[str, Source], line: int) -> pa.Field:
        kind: pa.Field | None = None
        for layer, source in sources.items():
            if len(source.fields) != 1 or source.values is not None:
                raise self.fail(line, f"say which type field {name!r} has")
            mine = self.layers[layer].table.schema.field(source.fields[0]).with_name(name)
            kind = mine if kind is None else widened(kind, mine)
            if kind is None:
                raise self.fail(
                    line, f"the types that feed field {name!r} differ; say which it is to have"
                )
        assert kind is not None
        return kind

    def source(self, layer: str, given: Any, line: int) -> Source:
        if not isinstance(given, Lined):
            if not isinstance(given, str):
                raise self.fail(line, f"{given!r} is no field of layer {layer!r}")
            return Source((self.field(layer, given, line),), line=line)
        self.check_keys(given, given, _SOURCE_KEYS, "a source")
        ways = [key for key in ("field", "join", "constant") if key in given]
        if len(ways) != 1:
            raise self.fail(line, "give one of field, join and constant")
        names: tuple[str, ...] = ()
        if "field" in given:
            name = self.one_value(given, "field") or ""
            names = (self.field(layer, name, given.lines["field"]),)
        elif "join" in given:
            several = given["join"]
            if not isinstance(several, list):
                raise self.fail(given.lines["join"], "join needs a list of fields, [a, b]")
            names = tuple(self.field(layer, str(n), given.lines["join"]) for n in several)
        dates = self.one_value(given, "dates")
        if dates is not None:
            try:
                date_pattern(dates)
            except UsageError as err:
                raise self.fail(given.lines["dates"], str(err)) from err
        values = self.mapping(given, "values")
        for value in values:
            self.one_value(values, value)
        between = self.one_value(given, "between")
        return Source(
            fields=names,
            between=" " if between is None else between,
            values=values if "values" in given else None,
            constant=self.one_value(given, "constant"),
            if_null=self.one_value(given, "if-null"),
            dates=dates,
            without=self.one_value(given, "without"),
            pad=self.pad(given),
            line=line,
        )

    def pad(self, given: Lined) -> int | None:
        found = given.get("pad")
        if found is None:
            return None
        if not str(found).isdecimal() or not 0 < int(found) < 100:
            raise self.fail(given.lines["pad"], f"pad is how many digits codes have, not {found!r}")
        return int(found)

    def field(self, layer: str, name: str, line: int) -> str:
        names = self.layers[layer].table.column_names
        if name not in names:
            raise self.fail(
                line,
                f"layer {layer!r} has no field {name!r}{did_you_mean(name, names)} (its fields: "
                f"{listed(nearest_first(name, names), 8)})",
            )
        return name


# Proposing


@dataclass(frozen=True)
class Proposal:
    """A field of the merged layer and, for each layer that feeds it, the field and the evidence."""

    target: TargetField
    evidence: Mapping[str, Evidence]


@dataclass(frozen=True)
class Draft:
    """Proposals; ``unmatched`` are the fields that only one layer has, by layer."""

    proposals: list[Proposal]
    unmatched: dict[str, list[str]]


def propose(layers: Sequence[Layer]) -> Draft:
    """Say which fields seem to hold the same, for layers one after the other.

    Each layer's fields are paired with those found so far so that the confidences add up to most
    (`best_pairs`); pairs below one half are none.
    """
    profiles = {
        y.name: [profile(f, y.table.column(f.name)) for f in y.table.schema] for y in layers
    }
    found: list[dict[str, tuple[Profile, Evidence | None]]] = []
    for layer in layers:
        mine = profiles[layer.name]
        weights = [[_best(entry, p) for p in mine] for entry in found]
        sure = [[w.confidence for w in row] for row in weights]
        matrix = np.array(sure).reshape(len(found), len(mine))
        rows, columns = best_pairs(matrix)
        used = set()
        for row, column in zip(rows.tolist(), columns.tolist(), strict=True):
            if matrix[row, column] >= LEAST_CONFIDENCE:
                found[row][layer.name] = (mine[column], weights[row][column])
                used.add(int(column))
        found += [{layer.name: (p, None)} for k, p in enumerate(mine) if k not in used]
    taken: dict[str, Any] = {}
    proposals = []
    for entry in found:
        proposal = _proposal(entry, taken)
        taken[proposal.target.field.name.casefold()] = True
        proposals.append(proposal)
    unmatched = {
        y.name: [p.field.name for e in found if set(e) == {y.name} for p, _ in e.values()]
        for y in layers
    }
    return Draft(proposals, {name: fields for name, fields in unmatched.items() if fields})


def _best(entry: Mapping[str, tuple[Profile, Evidence | None]], mine: Profile) -> Evidence:
    return max((evidence(p, mine) for p, _ in entry.values()), key=lambda e: e.confidence)


def _proposal(
    entry: Mapping[str, tuple[Profile, Evidence | None]], taken: Mapping[str, Any]
) -> Proposal:
    profiles = [p for p, _ in entry.values()]
    name = distinct_name(profiles[0].field.name, taken, folds=True)
    width = width_of_codes(*profiles)
    wanted = typed_field(name, f"text({width})") if width else _common_type(name, profiles)
    kind = kind_of(wanted.type)
    sources = {}
    for layer, (p, _) in entry.items():
        source = Source((p.field.name,), pad=width if width and not p.code_width else None)
        if p.kind == "text" and kind == "number" and p.as_numbers:
            source = replace(source, without=p.as_numbers)
        if p.kind == "text" and kind in ("date", "time") and p.dates != "YYYY-MM-DD":
            source = replace(source, dates=p.dates)
        sources[layer] = source
    return Proposal(
        TargetField(wanted, sources), {y: e for y, (_, e) in entry.items() if e is not None}
    )


def _common_type(name: str, profiles: Sequence[Profile]) -> pa.Field:
    """Return the type that all can be brought to: of typed fields before texts that can be read."""
    known = [p for p in profiles if p.kind != "null"]
    if not known:
        return pa.field(name, pa.string())  # a sheet has no word for a type of nulls alone
    typed = [p for p in known if p.kind != "text"] or known
    wanted: pa.Field | None = typed[0].field.with_name(name)
    for p in typed[1:]:
        wanted = None if wanted is None else widened(wanted, p.field)
    texts = [p for p in known if p.kind == "text"]
    if wanted is None:
        both_numbers = all(p.kind == "number" for p in typed)
        return pa.field(name, pa.float64() if both_numbers else pa.string())
    kind = kind_of(wanted.type)
    can_read = {
        "number": lambda p: p.as_numbers is not None and not p.has_codes,
        "date": lambda p: p.dates is not None,
        "time": lambda p: p.dates is not None,
        "boolean": lambda p: p.values <= TRUTH,
        "text": lambda p: True,
    }.get(kind, lambda p: False)
    return wanted if all(map(can_read, texts)) else pa.field(name, pa.string())


def draft_text(draft: Draft, layers: Sequence[Layer], command: str) -> str:
    """Return a draft as YAML with the evidence in comments."""
    lines = [
        "# A match sheet: which field of which layer feeds which field of the merged one.",
        "# Correct it, then run",
        f"#   {command}",
        "# Beside a field: how sure the match is. What you take out of `from` is not in the result.",
        "# A source may also be written out:",
        '#   {field: SPEC, values: {"Z. mar": Zostera marina}, if-null: unknown}',
        '#   {field: Date, dates: DD.MM.YYYY}    {field: Cover, without: "%"}',
        '#   {join: [first, last], between: " "}    {constant: Kelda}    {field: code, pad: 5}',
        "# on-loss: refuse | null | cut says what becomes of values that do not fit.",
        "match sheet: 1",
        "",
        "layers:  # `where: expression` below a name takes only some of its features",
        *(f"  {_scalar(layer.name)}:" for layer in layers),
        "",
        "fields:",
    ]
    for proposal in sorted(draft.proposals, key=lambda p: len(p.target.sources) == 1):
        target = proposal.target
        if len(target.sources) == 1 and (not lines[-1].startswith("  #")):
            title = "  # In one layer only"
            if title not in lines:
                lines += ["", title]
        lines += [f"  {_scalar(target.field.name)}:", f"    type: {type_words(target.field)}"]
        lines.append("    from:")
        for layer, source in target.sources.items():
            words = _source_text(source)
            known = proposal.evidence.get(layer)
            comment = f"  # {known.words}" if known else ""
            lines.append(f"      {_scalar(layer)}: {words}{comment}")
    return "\n".join(lines) + "\n"


def _source_text(source: Source) -> str:
    given = (("dates", source.dates), ("without", source.without), ("pad", source.pad))
    more = {k: v for k, v in given if v}
    if not more:
        return _scalar(source.fields[0])
    pairs = {"field": source.fields[0], **more}
    return "{" + ", ".join(f"{k}: {_scalar(v)}" for k, v in pairs.items()) + "}"


def _scalar(value: str | int) -> str:
    text = yaml.safe_dump(value, allow_unicode=True, width=10_000, default_flow_style=True)
    return text.removesuffix("\n...\n").strip()
