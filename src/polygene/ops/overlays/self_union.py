"""A layer laid over itself: each feature gets the pieces that it shares as rows of its own."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import (
    NONE,
    BoolArray,
    I64Array,
    count_by,
    number_pairs,
    offsets_from,
    spans,
    sum_by,
)
from polygene.classes import NamedTuple
from polygene.crs import label
from polygene.geometry import Family, GeometryColumn, concatenate, extent_of
from polygene.layer import Layer
from polygene.measures import row_areas_and_lengths, ruler_for
from polygene.ops.admit import admit
from polygene.ops.attributes import free_name, joined
from polygene.ops.overlays.balance import Counts
from polygene.ops.overlays.how import Resolved
from polygene.ops.overlays.laying import Laid
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.proved import prove_valid
from polygene.ops.summary import (
    Balance,
    OverlayResult,
    OverlaySummary,
    Side,
    unit_of,
)
from polygene.plane import bounds as bounds_of
from polygene.plane.overlay import Overlay, face_areas, overlay_alone
from polygene.plane.proof import prove_pieces, proved_sums
from polygene.plane.rings import Pieces, rings_to_column, trace_rings
from polygene.plane.sums import Sums
from polygene.plane.thinning import thinned


def laid_over_itself(layer: Layer, origins: bool, how: Resolved) -> Laid:
    """Lay a layer over itself."""
    admission = admit(layer, how.invalid, precision=how.precision)
    layer = admission.layer
    bounds = finite_bounds(layer)
    grid = grid_for(layer, [extent_of(bounds)], how.precision)
    ruler = ruler_for(layer.crs)
    how.progress.stage(f"union of {layer.name} with itself")
    plan = overlay_alone(layer.geometry, grid)
    face, row = plan.own_labels()
    faces = proved_sums(plan)
    areas = face_areas(plan, ruler, faces)
    found = _regions(plan, face, row)
    geometry, is_whole = _region_geometry(layer, plan, found, faces)
    sizes = sum_by(found.region_of_face, areas[found.face], len(found.depth))
    before, length = row_areas_and_lengths(layer.geometry, ruler)
    own = sum_by(row, areas[face], layer.n_rows)
    step = grid.step * ruler.map_unit
    table = joined([layer], found.row[:, None], origins)
    taken = {name.casefold() for name in table.column_names}
    columns = dict(zip(table.column_names, table.columns, strict=True))
    for name, values in (("piece", found.region + 1), ("features", found.depth[found.region])):
        columns[free_name(name, layer.name, taken)] = pa.chunked_array([pc.column(values)])
    more = [pa.field(name, pa.int64()) for name in list(columns)[-2:]]
    table = pa.table(list(columns.values()), pa.schema([*table.schema, *more]))
    result = replace(layer, geometry=geometry.take(found.region), table=table, ids=None)
    # A piece that features share counts as one in both.
    shares = np.where(found.depth[found.region] > 1, 0, NONE)
    rows = np.stack([found.row, shares], axis=1)
    is_made = ~is_whole[found.region]
    counts = Counts.of(rows, is_made, layer.geometry.is_empty)
    n_vanished = admission.facts.vanished.count
    counts = counts._replace(
        dropped=counts.dropped + n_vanished, without_geometry=counts.without_geometry - n_vanished
    )
    alone = float(sizes[found.depth == 1].sum())
    balance = Balance(
        before=float(before.sum()),
        inside=float(own.sum()) - alone,
        outside=alone,
        bound=float(bounds_of.area_moved(length, step).sum()),
        unit=unit_of(Family.POLYGONS, ruler),
        other_only=None,
        moved=bounds_of.MOST_MOVED * step,
    )
    side = Side(
        layer.name, layer.n_total, layer.n_rows, layer.n_rows, Family.POLYGONS, admission.facts
    )
    summary = OverlaySummary(
        "union", side, [], *counts, balance, label(layer.crs), grid.step, [], proved=counts.out
    )
    return Laid(OverlayResult(result, summary), rows, is_made, [layer])


class _Regions(NamedTuple):
    """Faces under the same set of rows are one region; each of those rows gets it.

    face, region_of_face : (n,) covered faces and their region
    depth : (n_regions,) how many rows cover it
    region, row : (n_rows_out,) in rising order of row, then region
    """

    face: I64Array
    region_of_face: I64Array
    depth: I64Array
    region: I64Array
    row: I64Array


def _regions(plan: Overlay, face: I64Array, row: I64Array) -> _Regions:
    n_faces = plan.arrangement.n_faces
    counts = count_by(face, n_faces)
    starts = offsets_from(counts)[:-1]
    key = np.zeros(n_faces, np.int64)
    active, depth = np.flatnonzero(counts > 0), 0
    covered = active
    while active.size:  # as often as the deepest overlap is deep
        key[active] = number_pairs(key[active], row[starts[active] + depth]).numbers
        depth += 1
        active = active[counts[active] > depth]
    numbering = number_pairs(key[covered], counts[covered])
    first_face = covered[numbering.firsts]
    depths = counts[first_face]
    region = np.repeat(np.arange(len(first_face)), depths)
    of_row = row[spans(starts[first_face], depths)]
    order = np.lexsort((region, of_row))
    return _Regions(covered, numbering.numbers, depths, region[order], of_row[order])


def _region_geometry(
    layer: Layer, plan: Overlay, found: _Regions, faces: Sums
) -> tuple[GeometryColumn, BoolArray]:
    """Trace the regions and prove them; one that is all of a sound row is that row's own geometry.

    Returns also which (n_regions,) are.
    """
    n_regions, arrangement = len(found.depth), plan.arrangement
    pieces = Pieces.of_sorted(found.face, found.region_of_face, arrangement.n_faces, n_regions)
    rings = trace_rings(arrangement, pieces)
    # A node stays on a region's border if any row has a vertex or crossing there.
    owner = np.full(n_regions, NONE)
    lone = found.depth[found.region] == 1
    owner[found.region[lone]] = found.row[lone]
    kept = thinned(arrangement, plan.noded, rings, owner[:, None], plan.row_of_part)
    column, _ = rings_to_column(arrangement, rings, kept, plan.node_xy, n_regions)
    wanted = faces.by_group(found.region_of_face, found.face, n_regions)
    prove_pieces(plan, rings, kept, wanted)
    faces_of_row = count_by(plan.own_labels()[1], plan.n_own_rows)
    faces_of_region = count_by(found.region_of_face, n_regions)
    is_whole = (owner != NONE) & (faces_of_region == faces_of_row[np.maximum(owner, 0)])
    is_whole &= ~plan.row_is_crossed[np.maximum(owner, 0)]
    flat = replace(layer.geometry, z=None, m=None)
    made = np.flatnonzero(~is_whole)
    whole = np.flatnonzero(is_whole)
    prove_valid(column, f"union of {layer.name} with itself", ~is_whole)
    both = concatenate([column.take(made), flat.take(owner[whole])])
    both = both.take(np.argsort(np.concatenate([made, whole])))
    return both.as_multi_as(flat), is_whole
