"""``polygene peek``."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, outcome, recording

if TYPE_CHECKING:
    from polygene.cli.facts import Peeked
    from polygene.ops.peek import Peek
    from polygene.table.expression import Expression


class RowsType(click.ParamType):
    """``10`` the first ten, ``-10`` the last ten, ``90-99`` those."""

    name = "N|-N|FROM-TO"

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        if isinstance(value, tuple):
            return value
        match = re.fullmatch(r"(-?\d+)|(\d+)-(\d+)", value)
        if not match:
            self.fail(
                f"{value!r} are no rows; write 10, -10 for the last ten, or 90-99", param, ctx
            )
        if match[1]:
            return int(match[1]), None
        if not 0 < int(match[2]) <= int(match[3]):
            self.fail(f"{value!r}: rows count from 1, the lower one first", param, ctx)
        return int(match[2]), int(match[3])


@recording.command()
@click.argument("address", metavar="LAYER")
@click.option("--rows", type=RowsType(), default="5", help="Which rows; 5 if not given.")
@click.option("--sort", metavar="FIELD", help="Sort first; -field falls. Nulls come last.")
@click.option("--distinct", metavar="FIELD", help="Count the values of a field instead.")
@options.where
@options.layout
@options.json
def peek(
    address: str,
    rows: tuple[int, int | None],
    sort: str | None,
    distinct: str | None,
    where: Expression | None,
    as_json: bool,
) -> None:
    """Show a layer's fields with types, nulls and ranges, and some of its features.

    \b
    Example:
      polygene peek tolva.gpkg#sectors --sort -depth_max --rows 3
    """
    from polygene.cli.words import peeked
    from polygene.cli.words.blocks import Words
    from polygene.formats import addressed
    from polygene.formats.packed import outermost
    from polygene.formats.wanted import Wanted
    from polygene.ops.peek import peek as peek_at
    from polygene.reading import single

    ref = single(address, "what is peeked at")
    reading = addressed.read(ref, Wanted(where=where))
    say, facts = Words(), []
    first, last = rows
    for layer in reading.layers:
        found = peek_at(
            layer,
            first if last is None else (first, last),
            sort=sort,
            distinct=distinct,
            where=where,
        )
        facts.append(_facts(found, outermost(ref.path), sort))
        peeked.peeked(facts[-1], say)
    say.note(*reading.notes)
    outcome.tell(outcome.Outcome("peek", facts, say, is_looked_at=True), as_json)


def _facts(found: Peek, file: str, sort: str | None) -> Peeked:
    facts: Peeked = {
        "file": file,
        "layer": found.layer,
        "geometry": found.geometry,
        "features": found.features,
        "of": found.of,
        "null geometry": found.null,
        "empty geometry": found.empty,
        "crs": found.crs,
        "extent": found.extent,
    }
    if found.of_field is not None:
        facts["distinct"], facts["field"] = found.distinct, found.of_field
        return facts
    facts["fields"], facts["rows"], facts["sorted by"] = (
        found.fields,
        found.rows,
        sort and sort.removeprefix("-"),
    )
    return facts
