"""Which piece each item belongs to: the rules of the overlays.

An item is a face with a row of INPUT over it, a step of a line, or a point. A *piece* is what an
overlay puts into one row of its result: all items with the same key, the row of INPUT and the rows of
the OTHERs that it has the attributes of.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import NONE, I64Array, number_pairs, offsets_from, spans
from polygene.classes import NamedTuple
from polygene.plane.members import Members
from polygene.plane.rules import Rule


class Keyed(NamedTuple):
    """Entries: item ``item[k]`` belongs to piece ``piece[k]``; in the order of items.

    rows : (n_pieces, 1 + number of OTHERs) the row of each layer, NONE where it has no part; pieces
        are in rising order of them, those without INPUT last
    """

    item: I64Array
    piece: I64Array
    rows: I64Array

    @property
    def n_pieces(self) -> int:
        return len(self.rows)


def keyed(rule: Rule, own_row: I64Array, members: Members, other_starts: I64Array) -> Keyed:
    """Give each item its pieces.

    Parameters
    ----------
    own_row : (n_items,) row of INPUT, NONE where only OTHERs are
    members : of the items
    other_starts : (number of OTHERs + 1,) first row of each among the rows of all

    Notes
    -----
    Where rows of one layer overlap, an item belongs to a piece for each of them.
    """
    items, n_others = np.arange(len(own_row)), len(other_starts) - 1
    # The rule is asked about columns of truth: has each layer a part in the item?
    has_own = own_row != NONE
    if not rule.is_keyed_by_other:
        # Only INPUT's row keys the piece: whether any OTHER covers it is all the rule needs.
        items = items[rule.keeps(np.stack([has_own, members.counts > 0], axis=1))]
        return _numbered(items, [own_row[items]] + [np.full(len(items), NONE)] * n_others)
    # For each OTHER the stretch of an item's members that are its own.
    layers = [_of_layer(members, *other_starts[k : k + 2]) for k in range(n_others)]
    has = np.stack([has_own, *(counts > 0 for _, counts in layers)], axis=1)
    items = items[rule.keeps(has)]
    columns = [own_row[items]]
    # The combinations of all layers' rows, one layer after the other: items are repeated as often
    # as the layer has rows there, or once with none.
    for k, (first, counts) in enumerate(layers):
        n_here = np.maximum(counts[items], 1)
        repeat = np.repeat(np.arange(len(items)), n_here)
        place = spans(first[items], n_here)
        is_none = counts[items][repeat] == 0
        row = np.full(len(place), NONE, np.int64)
        row[~is_none] = members.rows[place[~is_none]] - other_starts[k]
        items = items[repeat]
        columns = [column[repeat] for column in columns] + [row]
    return _numbered(items, columns)


def _of_layer(members: Members, start: int, stop: int) -> tuple[I64Array, I64Array]:
    """Return where the members of one layer begin for each item, and how many they are.

    Members rise, so those of a layer lie together.
    """
    # Running counts turn "how many below" into a subtraction for each item.
    below = offsets_from((members.rows < start).astype(np.int64))
    within = offsets_from(((members.rows >= start) & (members.rows < stop)).astype(np.int64))
    low, high = members.offsets[:-1], members.offsets[1:]
    return low + below[high] - below[low], within[high] - within[low]


def _numbered(item: I64Array, columns: list[I64Array]) -> Keyed:
    """Number the distinct keys in rising order of their rows."""
    # NONE becomes 0: the numbering wants numbers that are not negative.
    key = columns[0] + 1
    firsts = None
    # Numbered pair by pair, (INPUT, first OTHER), then (that, second OTHER) and so on.
    for column in columns[1:]:
        numbering = number_pairs(key, column + 1)
        key, firsts = numbering.numbers, numbering.firsts
    if firsts is None:
        numbering = number_pairs(key, np.zeros_like(key))
        key, firsts = numbering.numbers, numbering.firsts
    rows = np.stack([column[firsts] for column in columns], axis=1)
    # Numbers by first appearance would hang on the order of faces; by rows they do not.
    order = order_of(rows)
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    return Keyed(item, rank[key], rows[order])


def order_of(rows: I64Array) -> I64Array:
    """Return the order of pieces by their rows (n, layers); where a layer has no part comes last."""
    last = np.where(rows == NONE, np.iinfo(np.int64).max, rows)
    return np.lexsort(last.T[::-1])
