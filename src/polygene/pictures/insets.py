"""A corner of a map drawn larger, where nearly all that is shown lies close together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.patches import Rectangle

from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.pictures.looks import INK

MOST_SHARE = 0.12  # of the map's width and height: what takes more needs no inset
LEAST_ROWS = 12
WITHIN = 0.8  # of all features
SIZE = 0.4  # of the map's width and height that an inset takes
ROOM = 0.015  # between it and the frame
Part = tuple[float, float, float, float]


def crowd(layers: Sequence[Layer], view: Extent) -> Extent | None:
    """Return the box in which most features lie, if it is a small part of the view; else None.

    The box holds four of five features about their median, and no more than is needed for that.
    What lies in one place, be it of many features, needs none.
    """
    bounds = np.concatenate([y.geometry.row_bounds()[~y.geometry.is_empty] for y in layers])
    if len(bounds) < LEAST_ROWS:
        return None
    middle = (bounds[:, :2] + bounds[:, 2:]) / 2
    size = np.array([view[2] - view[0], view[3] - view[1]])
    away = (np.abs(middle - np.median(middle, axis=0)) / size).max(axis=1)
    near = np.flatnonzero(away <= np.quantile(away, WITHIN))
    low, high = bounds[near, :2].min(axis=0), bounds[near, 2:].max(axis=0)
    # A large feature that is about the middle of all is no part of the crowd.
    if ((high - low) / size > 2 * MOST_SHARE).any():
        small = near[((bounds[near, 2:] - bounds[near, :2]) / size < MOST_SHARE).all(axis=1)]
        if len(small) < WITHIN * WITHIN * len(bounds):
            return None
        low, high = bounds[small, :2].min(axis=0), bounds[small, 2:].max(axis=0)
    if ((high - low) / size > MOST_SHARE).any():
        return None
    # What lies just beside belongs to it.
    beside = (middle >= low - (high - low) / 2) & (middle <= high + (high - low) / 2)
    beside &= (bounds[:, 2:] - bounds[:, :2]) / size < MOST_SHARE
    own = bounds[beside.all(axis=1)]
    low, high = own[:, :2].min(axis=0), own[:, 2:].max(axis=0)
    # As wide and high as the view, in proportion, with some room.
    half = float(((high - low) / size).max()) * size * 0.55
    if not half.any():
        return None  # all in one place, where larger shows no more
    centre = (low + high) / 2
    return (*(centre - half).tolist(), *(centre + half).tolist())


def emptiest(layers: Sequence[Layer], view: Extent, box: Extent) -> Part:
    """Return the part of the map, as shares of it, for an inset: the corner that hides least."""
    xy = np.concatenate([y.geometry.xy for y in layers])
    x = (xy[:, 0] - view[0]) / (view[2] - view[0])
    y = (xy[:, 1] - view[1]) / (view[3] - view[1])
    own_x = (np.array([box[0], box[2]]) - view[0]) / (view[2] - view[0])
    own_y = (np.array([box[1], box[3]]) - view[1]) / (view[3] - view[1])
    found: list[tuple[int, int, Part]] = []
    far = 1 - ROOM - SIZE
    for k, (left, bottom) in enumerate([(ROOM, far), (far, ROOM), (ROOM, 0.09), (far - 0.07, far)]):
        part = (left, bottom, left + SIZE, bottom + SIZE)
        hidden = int(((x > part[0]) & (x < part[2]) & (y > part[1]) & (y < part[3])).sum())
        hides_box = own_x[0] < part[2] and own_x[1] > part[0]
        hides_box = hides_box and own_y[0] < part[3] and own_y[1] > part[1]
        found.append((hidden + len(xy) * hides_box, k, part))
    return min(found)[2]


def mark(axes: Any, box: Extent) -> None:
    """Draw where on the map an inset is."""
    axes.add_artist(
        Rectangle(
            box[:2], box[2] - box[0], box[3] - box[1], facecolor="none", edgecolor=INK,
            linewidth=1.2, zorder=88,
        )
    )  # fmt: skip
