"""``polygene peek``."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show
from polygene.errors import UsageError

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.table.describe import FieldDescription
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


@options.command()
@click.argument("address", metavar="LAYER")
@click.option("--rows", type=RowsType(), default="5", help="Which rows; 5 if not given.")
@click.option("--sort", metavar="FIELD", help="Sort by a field first, nulls last.")
@click.option("--descending", is_flag=True, help="Sort from the highest down.")
@click.option("--distinct", metavar="FIELD", help="Count the values of a field instead.")
@options.where
@options.json
def peek(
    address: str,
    rows: tuple[int, int | None],
    sort: str | None,
    descending: bool,
    distinct: str | None,
    where: Expression | None,
    as_json: bool,
) -> None:
    """Show a layer's fields with types, nulls and ranges, and some of its rows.

    \b
    Example:
      polygene peek tolva.gpkg#sectors --sort depth_max --rows 3
    """
    from polygene.formats import address as addresses
    from polygene.formats.packed import outermost
    from polygene.formats.wanted import Wanted
    from polygene.ops.subset import where as chosen

    refs = addresses.resolve(address)
    if len(refs) > 1:
        raise UsageError(f"{address!r} stands for {len(refs)} layers; peek shows one")
    reading = addresses.read(refs[0], Wanted(where=where))
    facts = []
    for layer in reading.layers:
        if where is not None:
            layer = chosen(layer, where)
        if distinct:
            layer.check_field(distinct)
        if sort:
            layer.check_field(sort)
        facts.append(_facts(layer, rows, sort, descending, distinct))
        if not as_json:
            _print(outermost(refs[0].path), layer, facts[-1], sort)
    show.facts("peek", lambda: facts, as_json, notes=reading.notes)
    if as_json:
        return
    for text in reading.notes:
        show.note(text)


def _facts(
    layer: Layer,
    rows: tuple[int, int | None],
    sort: str | None,
    descending: bool,
    distinct: str | None,
) -> dict[str, Any]:
    from polygene.crs import label
    from polygene.table.describe import describe, value_counts

    facts: dict[str, Any] = {
        "layer": layer.name,
        "geometry": layer.geometry.family.words,
        "features": layer.n_rows,
        "of": layer.n_total,
        "null geometry": int(layer.geometry.is_null.sum()),
        "empty geometry": int((layer.geometry.is_empty & ~layer.geometry.is_null).sum()),
        "crs": label(layer.crs),
        "extent": layer.geometry.extent(),
    }
    if distinct:
        facts["distinct"] = value_counts(layer.table.column(distinct)).to_pylist()
        facts["field"] = distinct
        return facts
    facts["fields"] = describe(layer.table)
    facts["rows"] = _rows(layer, rows, sort, descending)
    return facts


def _rows(
    layer: Layer, rows: tuple[int, int | None], sort: str | None, descending: bool
) -> list[dict[str, Any]]:
    import numpy as np
    import pyarrow.compute as pc

    order = np.arange(layer.n_rows)
    if sort:
        direction = "descending" if descending else "ascending"
        order = np.asarray(pc.sort_indices(layer.table, sort_keys=[(sort, direction)])).astype(
            np.int64
        )
    first, last = rows
    if last is not None:
        order = order[first - 1 : last]
    elif first < 0:
        order = order[first:]
    else:
        order = order[:first]
    table = layer.take(order).table.to_pylist() if layer.table.num_columns else [{}] * len(order)
    identified = []
    for row, values in zip(order.tolist(), table, strict=True):
        head: dict[str, Any] = {"row": row + 1}
        if layer.ids is not None:
            head["id"] = int(layer.ids[row])
        identified.append(head | values)
    return identified


def _print(path: str, layer: Layer, facts: dict[str, Any], sort: str | None) -> None:
    count = f"{layer.n_rows:,} features" if layer.n_rows != 1 else "1 feature"
    if layer.n_rows != layer.n_total:
        count = f"{layer.n_rows:,} of {layer.n_total:,} features"
    show.title(f"{path}#{layer.name}", f"{facts['geometry']}, {count}")
    for kind in ("null", "empty"):
        if facts[f"{kind} geometry"]:
            show.line("geometry", f"{facts[f'{kind} geometry']:,} {kind}")
    show.line("CRS", facts["crs"])
    click.echo()
    if "distinct" in facts:
        values = facts["distinct"]
        show.table(
            [facts["field"], "features"],
            [[show.number(v["value"]), f"{v['count']:,}"] for v in values],
            right=[1],
            flexible=[0],
        )
        click.echo()
        show.line("values", f"{len(values):,} different")
        return
    show.table(
        ["field", "type", "nulls", "values"],
        [[f.name, f.type, f"{f.nulls:,}", _values(f)] for f in facts["fields"]],
        right=[2],
        flexible=[3, 0],
    )
    click.echo()
    _print_rows(facts["rows"], sort)


def _values(field: FieldDescription) -> str:
    if field.common:
        if field.distinct == 1:
            return f"always {show.number(field.common[0][0])}"
        is_unique = field.common[0][1] == 1
        shown = ", ".join(
            show.number(value) + ("" if is_unique else f" ({times:,})")
            for value, times in field.common
        )
        rest = (field.distinct or 0) - len(field.common)
        count = "all different" if is_unique else f"{field.distinct:,} different"
        return f"{count}: {shown}" + (" …" if rest > 0 else "")
    if field.low is None:
        return "only nulls" if field.nulls else "none"
    if field.low == field.high:
        return f"always {show.number(field.low)}"
    return f"{show.number(field.low)} … {show.number(field.high)}"


def _print_rows(rows: list[dict[str, Any]], sort: str | None) -> None:
    """Print as many fields side by side as the width has room for, and name the others."""
    import sys

    if not rows:
        show.line("rows", "none")
        return
    names = list(rows[0])
    cells = {name: [show.number(row[name]) for row in rows] for name in names}
    room = show.width_of(sys.stdout) - len(show.GAP)
    chosen: list[str] = []
    for name in names:
        width = min(max(len(name), *map(len, cells[name])), 24) + len(show.GAP)
        if room < width and chosen:
            break
        room -= width
        chosen.append(name)
    if sort and sort not in chosen:
        chosen[-1] = sort
    numeric = {
        k
        for k, name in enumerate(chosen)
        if all(isinstance(row[name], (int, float, type(None))) for row in rows)
    }
    shown = [[_cut(cells[name][k]) for name in chosen] for k in range(len(rows))]
    show.table(chosen, shown, right=sorted(numeric))
    left = [name for name in names if name not in chosen]
    if left:
        show.line("not shown", ", ".join(left))


def _cut(cell: str) -> str:
    return cell if len(cell) <= 24 else cell[:23] + "…"
