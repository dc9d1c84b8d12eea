"""Supersede: OTHER replaces INPUT wherever it lies; the rest of INPUT stays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Unpack

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, BoolArray, I64Array, distinct
from polygene.errors import DataError, check_choice
from polygene.geometry import Family, concatenate, heights_of
from polygene.layer import Layer, names_alike
from polygene.measures import row_areas, ruler_for
from polygene.notes import Warned
from polygene.ops import part
from polygene.ops.attributes import free_name
from polygene.ops.given import Names, names
from polygene.ops.overlays.across import brought_for, with_bridges
from polygene.ops.overlays.balance import Counts
from polygene.ops.overlays.how import How, as_asked, resolved
from polygene.ops.overlays.laying import Laid, finished, laid_over
from polygene.ops.summary import Leftovers, NamedRows, OverlayResult, area_unit
from polygene.plane import rules
from polygene.table.keys import Key, coded
from polygene.table.tokens import quoted
from polygene.table.types import kind_of, widened

LEFTOVERS = ("keep", "drop", "only")


def supersede(
    layer: Layer,
    *others: Layer,
    key: Names = (),
    leftovers: str = "drop",
    **how: Unpack[How],
) -> OverlayResult:
    """Return INPUT without what lies inside the OTHERs, and the OTHERs.

    Of several OTHERs the first has precedence over the second, and so on. The fields are INPUT's,
    then those that only OTHERs have; types of one name widen as far as nothing is lost, else the
    field gets its layer's name in front. With ``key``, as ``bed = bed_no``, what is left of features
    whose key is in an OTHER is treated as ``leftovers`` says: ``keep`` it, ``drop`` it, or keep
    ``only`` that. For the rest see `polygene.ops.overlays.how.How`.

    Raises
    ------
    DataError
        If a layer holds no polygons.
    """
    check_choice("leftovers", leftovers, LEFTOVERS)
    layer = layer.without_geometry_as(Family.POLYGONS)
    if layer.geometry.family != Family.POLYGONS:
        raise DataError(
            f"INPUT, layer {layer.name!r}, holds {layer.geometry.family.words}; only polygons can "
            "be superseded"
        )
    for other in others:
        if other.geometry.n_vertices and other.geometry.family != Family.POLYGONS:
            raise DataError(
                f"OTHER, layer {other.name!r}, holds {other.geometry.family.words}; only polygons "
                "can supersede polygons"
            )
    told = resolved(how, layer)
    # A snap is of INPUT alone, slivers and parts are of the whole, measures of what INPUT had.
    plain = told._replace(
        snap=None, give_slivers=None, single_parts=False, refresh=[], apportion=[]
    )
    found = brought_for(layer, others, rules.ERASE, told, all_of_it=True)
    given, others = others, tuple(f.layer for f in found)
    rest = laid_over(layer, others, rules.ERASE, plain._replace(snap=told.snap), keeps_other=True)
    measured = plain._replace(refresh=told.refresh, apportion=told.apportion, snap=told.snap)
    keys = [Key.parse(text) for text in names(key)]
    own, above = rest.sources[0], rest.sources[1:]
    is_left = _is_left(own, above, keys)
    rest, told_left = _sorted_out(rest, keys, is_left, leftovers)
    kept = finished(rest, [rest.sources[0]], measured)
    if keys and leftovers == "only":
        others, above = (), []
    result, rows, is_made = kept.layer, _pieces(rest.rows[:, 0], NONE), [rest.is_made]
    for k in reversed(range(len(others))):
        # Each but the first gives way to those before it.
        other, made = rest.sources[1 + k], np.zeros(rest.sources[1 + k].n_rows, bool)
        if k:
            with part.working_on_some([1 + k, *range(1, 1 + k)]):
                laid = laid_over(other, rest.sources[1 : 1 + k], rules.ERASE, plain)
            other, made = laid.result.layer, laid.is_made
        else:
            is_core = part.core_of(other, 1)
            other, made = other.take(is_core), made[is_core]
        result = _stacked(result, other)
        rows = np.concatenate([rows, _pieces(np.full(other.n_rows, NONE), k)])
        is_made.append(made)
    notes = list(kept.summary.notes)
    lost = set(heights_of([y.geometry for y in (layer, *others) if y.geometry.n_vertices])) - set(
        heights_of([result.geometry])
    )
    if lost:
        notes.append(
            Warned(f"{' and '.join(sorted(lost))} values dropped: not all layers have them")
        )
    summary = replace(
        kept.summary,
        operation="supersede",
        out=result.n_rows,
        input_only=kept.layer.n_rows,
        other_only=result.n_rows - kept.layer.n_rows,
        notes=notes,
        proved=result.n_rows,
        leftovers=told_left or (_unasked(own, above, rest) if part.current() is None else None),
    )
    laid = Laid(OverlayResult(result, summary), rows, np.concatenate(is_made), rest.sources)
    last = plain._replace(give_slivers=told.give_slivers, single_parts=told.single_parts)
    done = finished(laid, [], last)
    done = replace(done, summary=replace(done.summary, stored=kept.summary.stored))
    return as_asked(with_bridges(done, found, given), how)


def _is_left(layer: Layer, others: Sequence[Layer], keys: Sequence[Key]) -> BoolArray:
    """Return which rows of INPUT have a key that an OTHER has too."""
    found = np.zeros(layer.n_rows, bool)
    for other in others if keys else ():
        codes = coded(layer, other, keys)
        there = np.zeros(codes.n + 1, bool)
        there[codes.theirs[codes.theirs != NONE]] = True
        found |= there[codes.mine]  # the last is that of no key
    return found


def _sorted_out(
    rest: Laid, keys: Sequence[Key], is_left: BoolArray, leftovers: str
) -> tuple[Laid, Leftovers | None]:
    """Keep what is left of rows whose key is in an OTHER, drop it, or keep it only."""
    if not keys:
        return rest, None
    layer, summary = rest.result.layer, rest.result.summary
    told = _told(rest, is_left, [key.text for key in keys], leftovers)
    if leftovers == "keep":
        return rest, told
    kept = np.flatnonzero(is_left[rest.rows[:, 0]] == (leftovers == "only"))
    rows, is_made = rest.rows[kept], rest.is_made[kept]
    n_before, n_now = (len(distinct(r[:, 0])) for r in (rest.rows, rows))
    counts = Counts.of(rows, is_made, rest.sources[0].geometry.is_empty)
    summary = replace(
        summary,
        whole=counts.whole,
        cut=counts.cut,
        dropped=summary.dropped + n_before - n_now,
    )
    return rest._replace(
        result=OverlayResult(layer.take(kept), summary), rows=rows, is_made=is_made
    ), told


def _told(rest: Laid, is_left: BoolArray, key: list[str], done: str) -> Leftovers:
    came = np.zeros(len(is_left), bool)
    came[rest.rows[:, 0]] = True
    ruler = ruler_for(rest.result.layer.crs)
    areas = row_areas(rest.result.layer.geometry, ruler)
    area = float(areas[is_left[rest.rows[:, 0]]].sum())
    return Leftovers(
        key, done, NamedRows.of(rest.sources[0], is_left & came), area, area_unit(ruler)
    )


def _unasked(layer: Layer, others: Sequence[Layer], rest: Laid) -> Leftovers | None:
    """Return what is left of features whose key is in an OTHER, by a field that looks like one.

    That is the first that all layers have, of texts or whole numbers without nulls that are different
    in each.
    """
    for name in layer.table.column_names:
        if all(_names_rows(y, name) for y in (layer, *others)):
            if len({kind_of(y.table.column(name).type) for y in (layer, *others)}) > 1:
                continue  # a text is never equal to a number
            is_left = _is_left(layer, others, [Key.parse(quoted(name))])
            told = _told(rest, is_left, [name], "")
            return told if told.rows.count else None
    return None


def _names_rows(layer: Layer, name: str) -> bool:
    if name not in layer.table.column_names or not layer.n_rows:
        return False
    column = layer.table.column(name)
    is_kind = pa.types.is_string(column.type) or pa.types.is_integer(column.type)
    return bool(
        is_kind and not column.null_count and pc.count_distinct(column).as_py() == len(column)
    )


def _pieces(own: I64Array, other: int) -> I64Array:
    """Return (n, 2): the row of INPUT of each row, and the number of the OTHER it is of."""
    return np.stack([own, np.full(len(own), other)], axis=1)


def _stacked(below: Layer, above: Layer) -> Layer:
    """Return the rows of two layers, the fields brought together by name."""
    fields = {field.name: field for field in below.table.schema}
    taken = {name.casefold() for name in fields}
    others = {name.casefold() for name in above.table.column_names}
    pairs = names_alike(above.table.column_names, below.table.column_names)
    source = {}  # name in the result → name in the layer above
    for field in above.table.schema:
        same = fields[pairs[field.name]] if field.name in pairs else None
        wide = None if same is None else widened(same, field)
        if same is not None and wide is not None:
            fields[same.name], source[same.name] = wide, field.name
        else:
            name = free_name(field.name, above.name, taken, others)
            fields[name], source[name] = field.with_name(name), field.name
    columns = [
        pa.chunked_array(
            [
                *_chunks(below, name if name in below.table.column_names else None, field.type),
                *_chunks(above, source.get(name), field.type),
            ],
            field.type,
        )
        for name, field in fields.items()
    ]
    flat = [replace(y.geometry, z=None, m=None) for y in (below, above)]
    has_heights = all((y.geometry.z is None) == (below.geometry.z is None) for y in (below, above))
    columns_of = [y.geometry for y in (below, above)] if has_heights else flat
    geometry = concatenate(columns_of).as_multi_as(*columns_of)
    table = pa.table(columns, pa.schema(list(fields.values())))
    return replace(below, geometry=geometry, table=table, ids=None)


def _chunks(layer: Layer, name: str | None, kind: pa.DataType) -> list[pa.Array]:
    """Return a field's values in a wider type, or nulls where the layer has no such field."""
    if name is None:
        return [pa.nulls(layer.n_rows, kind)]
    return pc.cast(layer.table.column(name), kind).chunks
