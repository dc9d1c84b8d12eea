"""Tolva Sound: a marine park that does not exist, with the layers its office would have.

Two survey teams mapped its seagrass, each in its own habits; some of their outlines overlap, and
some are broken. Everything is drawn from one seed. The sound opens like a fan between two coasts and
lies in the open sea of a real map, so that nobody takes it for a place.
"""

from __future__ import annotations

import datetime
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import crs as crs_module
from polygene.arrays import F64Array
from polygene.between import transform
from polygene.classes import NamedTuple
from polygene.errors import FileError
from polygene.formats import geojson, geopackage
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.sample import shapes

SEED = 20269
CRS = "EPSG:32633"
SOUTH_WEST = np.array([471_000.0, 8_045_000.0])
UNIT = 3_000.0  # metres, about, of the plan that all is drawn on
COLUMNS, ROWS = 6, 4  # units of the plan that the sound is wide and long
FINE = 2  # cells a unit; sectors are made of them
SECTORS = 24
DISTRICTS = {
    "OS": "Osk Narrows",
    "TH": "Tolva Heads",
    "MI": "Midwater",
    "SK": "Skerry Field",
    "VA": "Vaskel Bight",
}

_SECTOR_NAMES = [
    "Aldin",
    "Bett",
    "Corrish",
    "Dunnel",
    "Eskel",
    "Fenna",
    "Garve",
    "Hollin",
    "Irsa",
    "Jorun",
    "Kettle",
    "Lomvi",
    "Maddow",
    "Nessa",
    "Orlo",
    "Pelk",
    "Quill",
    "Runa",
    "Sorrelow",
    "Tavi",
    "Ulda",
    "Verrin",
    "Wennet",
    "Yalder",
]
_ISLAND_NAMES = [
    "Great Tolva",
    "Little Tolva",
    "Oskey",
    "Grindle",
    "The Sisters",
    "Hask",
    "Vaskholm",
    "Low Skerry",
    "Outer Skerry",
    "Perrin",
    "Kittiwell",
    "Braddle",
]
_SURVEYORS = ["M. Ardlow", "S. Quist", "J. Ferro"]


class _Land(NamedTuple):
    """What several layers follow: the outline of sectors, where on the plan they lie, islands."""

    cells: shapes.Lattice
    sectors: list[F64Array]
    middles: F64Array
    islands: list[tuple[F64Array, float]]


def layers() -> list[Layer]:
    """Return the layers of the package, in its order."""
    rng = np.random.default_rng(SEED)
    land = _Land(*_sectors_at(rng), _islands_at(rng))
    return [
        _park(land, rng),
        _sectors(land, rng),
        _islands(land, rng),
        _ferry_lanes(rng),
        _cables(rng),
        _buoys(rng),
        _slipways(land, rng),
        _beds_marram(rng),
        _beds_kelda(rng),
    ]


def resurvey() -> Layer:
    """Return the patches mapped anew, in longitude and latitude."""
    rng = np.random.default_rng(SEED + 1)
    spots = _spots(14, rng)
    rings = [[[shapes.blob(at, rng.uniform(180, 420), 26, rng)]] for at in spots]
    column = GeometryColumn.from_rings(rings, Family.POLYGONS)
    degrees = crs_module.parse(crs_module.LONGITUDE_LATITUDE)
    column = transform(column, crs_module.parse(CRS), degrees, "resurvey")
    table = _table(
        len(spots),
        patch=[f"R{k + 1:02d}" for k in range(len(spots))],
        species=_some(["Zostera marina", "Zostera noltei", "Ruppia maritima"], len(spots), rng),
        cover_pct=rng.integers(10, 95, len(spots)).tolist(),
        surveyed=[f"2026-0{6 + k % 3}-{1 + k:02d}" for k in range(len(spots))],
    )
    return Layer("resurvey", column.with_xy(np.round(column.xy, 7)), table, degrees)


def write_recipe(folder: Path) -> Path:
    """Write the sample recipe, and the match sheet it uses, into a folder.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    for name in ("surveys.yaml", "recipe.yaml"):
        path = folder / name
        text = Path(__file__).with_name(name).read_text(encoding="utf-8")
        try:
            path.write_text(text, encoding="utf-8")
        except OSError as err:
            raise FileError(f"cannot write {path}: {str(err.strerror).lower()}") from err
    return path


def write(folder: Path) -> tuple[Path, Path]:
    """Write ``tolva.gpkg`` and ``resurvey.geojson`` into a folder, made if need be.

    Raises
    ------
    FileError
        If they cannot be written.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise FileError(f"cannot make the folder {folder}: {str(err.strerror).lower()}") from err
    package, patches = folder / "tolva.gpkg", folder / "resurvey.geojson"
    package.unlink(missing_ok=True)
    geopackage.write(package, layers())
    geojson.write(patches, [resurvey()])
    return package, patches


def _layer(
    name: str, family: Family, rings: list[Any], title: str, table: pa.Table, first_id: int = 1
) -> Layer:
    """Make a layer of nested lists, coordinates to the centimetre as surveyors give them."""
    column = GeometryColumn.from_rings(rings, family)
    column = column.with_xy(np.round(column.xy, 2))
    ids = np.arange(first_id, first_id + column.n_rows)
    return Layer(
        name=name, geometry=column, table=table, crs=crs_module.parse(CRS), ids=ids, title=title
    )


def _table(n_rows: int, **columns: Any) -> pa.Table:
    """Make a table; a column is a list, or a pair of list and type, or of list and text width."""
    arrays, fields = [], []
    for name, given in columns.items():
        values, kind = given if isinstance(given, tuple) else (given, None)
        assert len(values) == n_rows
        width = {"width": str(kind)} if isinstance(kind, int) else None
        array = pa.array(values, None if width else kind)
        arrays.append(array)
        fields.append(pa.field(name, array.type, metadata=width))
    return pa.table(arrays, pa.schema(fields))


def _some(options: list[Any], n: int, rng: shapes.Rng) -> list[Any]:
    return [options[k] for k in rng.integers(0, len(options), n)]


def _spots(n: int, rng: shapes.Rng) -> F64Array:
    """Return (n, 2) places spread over the sound."""
    return _at(rng.uniform((0.2, 0.2), (COLUMNS - 0.2, ROWS - 0.2), (n, 2)))


def _day(year: int, rng: shapes.Rng) -> datetime.date:
    return datetime.date(year, 1, 1) + datetime.timedelta(days=int(rng.integers(0, 364)))


def _park(land: _Land, rng: shapes.Rng) -> Layer:
    """The park's border follows the sectors in the south and goes its own way elsewhere."""
    first, last = FINE, FINE * (COLUMNS - 1)
    south = [land.cells.across[i][0] for i in range(first, last)]
    start, end = land.cells.corners[first, 0], land.cells.corners[last, 0]
    turns = _at([(5.55, 1.2), (5.2, 2.4), (4.3, 3.35), (2.9, 3.55), (1.5, 3.1), (0.55, 2.0)])
    path = [end, *turns, start]
    rest = [shapes.wiggly(a, b, 40, rng, 0.08) for a, b in zip(path[:-1], path[1:], strict=True)]
    outer = shapes.closed(np.concatenate([*south, *rest]))
    harbour = shapes.blob(_at((2.2, 1.3)), 650.0, 40, rng, 0.15)[::-1]
    skerry = shapes.blob(_at((0.3, 3.4)), 500.0, 36, rng)
    table = _table(
        1,
        code=(["TSMP"], 8),
        name=(["Tolva Sound Marine Park"], 60),
        founded=[datetime.date(1998, 5, 14)],
        warden=["H. Brandow"],
    )
    return _layer("park", Family.POLYGONS, [[[outer, harbour], [skerry]]], "Park boundary", table)


def _sectors(land: _Land, rng: shapes.Rng) -> Layer:
    n = len(land.sectors)
    keys = list(DISTRICTS)
    district = [keys[min(4, int(u // 2) + (2 if v >= ROWS / 2 else 0))] for u, v in land.middles]
    areas = [
        abs(float(np.sum(c[:-1, 0] * c[1:, 1] - c[1:, 0] * c[:-1, 1]))) / 2e4
        for c in (cell - SOUTH_WEST for cell in land.sectors)
    ]
    table = _table(
        n,
        sector=([f"S{k + 1:02d}" for k in range(n)], 4),
        name=(_SECTOR_NAMES, 40),
        district=(district, 2),
        district_name=([DISTRICTS[d] for d in district], 40),
        depth_max=np.round(rng.uniform(8, 140, n), 1).tolist(),
        no_take=[bool(v) for v in rng.random(n) < 0.3],
        area_ha=np.round(areas, 1).tolist(),
    )
    rings = [[[cell]] for cell in land.sectors]
    return _layer("sectors", Family.POLYGONS, rings, "Survey sectors", table)


def _at(places: Any) -> F64Array:
    """Return where places on the plan, (..., 2) in units, lie on the map.

    The plan is stretched here and there and bent like a fan.
    """
    plan = np.asarray(places, float)
    across = plan[..., 0] + 0.3 * np.sin(1.3 * plan[..., 0])
    out = plan[..., 1] + 0.25 * np.sin(1.7 * plan[..., 1] + 1)
    angle, reach = (across - COLUMNS / 2) / 7.5, 6.2 + 0.95 * out
    fan = np.stack([3 + reach * np.sin(angle), reach * np.cos(angle) - 6.2], axis=-1)
    return SOUTH_WEST + UNIT * fan


def _sectors_at(rng: shapes.Rng) -> tuple[shapes.Lattice, list[F64Array], F64Array]:
    """Return the cells, the outlines of sectors made of them, and (n, 2) middles on the plan."""
    plan = shapes.grid_corners(COLUMNS * FINE, ROWS * FINE, rng) / FINE
    cells = shapes.lattice(_at(plan), 12, rng)
    middles = (plan[1:, 1:] + plan[:-1, :-1]).reshape(-1, 2) / 2
    seeds = middles[rng.permutation(len(middles))[:SECTORS]]
    order = np.lexsort((seeds[:, 1], seeds[:, 0] // 1.5))
    owner = np.hypot(*(middles[:, None] - seeds[order][None]).T).argmin(axis=0)
    outlines = [
        shapes.joined([cells.cells[k] for k in np.flatnonzero(owner == n)]) for n in range(SECTORS)
    ]
    return cells, outlines, seeds[order]


def _islands_at(rng: shapes.Rng) -> list[tuple[F64Array, float]]:
    spots = _at(
        [
            (1.7, 2.1),
            (3.3, 1.1),
            (4.6, 2.4),
            (0.7, 1.1),
            (3.7, 3.3),
            (5.3, 0.7),
            (2.6, 2.75),
            (1.3, 0.35),
            (4.9, 3.6),
            (2.35, 0.8),
            (3.95, 1.9),
            (0.25, 2.9),
        ]
    )
    return [
        (spot, float(radius)) for spot, radius in zip(spots, rng.uniform(150, 620, 12), strict=True)
    ]


def _islands(land: _Land, rng: shapes.Rng) -> Layer:
    rings = []
    for k, (at, radius) in enumerate(land.islands):
        parts = [[shapes.blob(at, radius, 60, rng)]]
        if k in (0, 2, 6):  # a lake
            parts[0].append(shapes.blob(at, radius * 0.2, 16, rng)[::-1])
        if k == 4:  # the Sisters are two
            parts.append([shapes.blob(at + (radius * 2.6, 40), radius * 0.6, 40, rng)])
        rings.append(parts)
    people: list[int | None] = [412, 38, 0, 7, 0, None, 21, 0, 0, 3, None, 0]
    table = _table(
        12,
        name=(_ISLAND_NAMES, 30),
        people=(people, pa.int32()),
        landing=[k not in (4, 7, 8, 11) for k in range(12)],
    )
    return _layer("islands", Family.POLYGONS, rings, "Islands at mean high water", table)


def _path(rng: shapes.Rng, *turns: tuple[float, float], swing: float = 0.05) -> F64Array:
    points = [_at(turn) for turn in turns]
    pieces = [
        shapes.wiggly(a, b, 18, rng, swing) for a, b in zip(points[:-1], points[1:], strict=True)
    ]
    return np.concatenate([*pieces, points[-1][None]])


def _ferry_lanes(rng: shapes.Rng) -> Layer:
    paths = [
        [[_path(rng, (-0.6, 0.4), (1.7, 1.8), (3.6, 2.0))]],
        [[_path(rng, (3.0, -0.5), (3.2, 0.9))]],
        [[_path(rng, (6.5, 1.9), (4.9, 2.3), (3.9, 3.9), (4.2, 4.6))]],
        [[_path(rng, (0.7, 1.2), (1.2, 1.9))], [_path(rng, (1.4, 2.3), (2.4, 2.8))]],
        [[_path(rng, (2.0, 1.9), (2.9, 2.6), (3.6, 2.2), (3.0, 1.5), (2.0, 1.9), swing=0.03)]],
    ]
    table = _table(
        5,
        lane=(["Osk Line", "Heads Shuttle", "Outer Round", "Island Hopper", "Midwater Loop"], 30),
        operator=(
            ["Tolva Ferries", "Tolva Ferries", "Norvane & Daughters", None, "Tolva Ferries"],
            40,
        ),
        sailings=([14, 32, 2, 6, 9], pa.int16()),
        since=[
            datetime.date(2004, 3, 1),
            datetime.date(2011, 6, 15),
            datetime.date(1987, 1, 1),
            None,
            datetime.date(2019, 4, 20),
        ],
    )
    return _layer("ferry_lanes", Family.LINES, paths, "Ferry lanes", table)


def _cables(rng: shapes.Rng) -> Layer:
    """Power cables; the height of a vertex is the sea bed under it."""
    paths = [
        [[_path(rng, (-0.4, 3.2), (1.6, 2.2), (1.7, 2.1), swing=0.02)]],
        [[_path(rng, (1.9, 2.0), (3.3, 1.2), swing=0.02)]],
        [[_path(rng, (3.4, 1.0), (5.3, 0.75), (6.6, 0.2), swing=0.02)]],
        [[_path(rng, (4.6, 2.3), (4.9, 3.5), swing=0.02)]],
    ]
    table = _table(
        4,
        cable=(["TC-1", "TC-2", "TC-3", "TC-4"], 8),
        kilovolts=([66, 22, 22, 11], pa.int16()),
        laid=[_day(year, rng) for year in (1996, 2003, 2015, 2022)],
        buried=[True, None, False, True],
    )
    layer = _layer("cables", Family.LINES, paths, "Power cables", table)
    depth = -np.round(rng.uniform(4, 9, layer.geometry.n_vertices).cumsum() % 60 + 3, 1)
    return replace(layer, geometry=replace(layer.geometry, z=depth))


def _buoys(rng: shapes.Rng) -> Layer:
    n = 90
    spots = _spots(n, rng)
    rings: list[Any] = [[[spot[None]]] for spot in spots]
    rings[52] = []  # lost at sea: no position
    kinds = _some(["mooring", "mooring", "marker", "research"], n, rng)
    tonnes = [round(float(rng.uniform(2, 40)), 1) if kind == "mooring" else None for kind in kinds]
    inspected = [
        datetime.datetime(
            2026,
            int(rng.integers(1, 10)),
            int(rng.integers(1, 28)),
            8,
            15 * (k % 4),
            tzinfo=datetime.UTC,
        )
        if k % 7
        else None
        for k in range(n)
    ]
    table = _table(
        n,
        buoy=([f"B{k + 101}" for k in range(n)], 6),
        kind=(kinds, 12),
        tonnes=tonnes,
        inspected=(inspected, pa.timestamp("ms", tz="UTC")),
    )
    layer = _layer("buoys", Family.POINTS, rings, "Mooring buoys", table, first_id=101)
    is_null = layer.geometry.is_empty
    return replace(layer, geometry=replace(layer.geometry, is_null=is_null, is_multi=False))


def _slipways(land: _Land, rng: shapes.Rng) -> Layer:
    angles = rng.uniform(0, 2 * np.pi, 9)
    spots = [
        land.islands[k][0] + land.islands[k][1] * np.array([np.cos(a), np.sin(a)])
        for k, a in zip((0, 0, 1, 2, 3, 5, 6, 9, 10), angles, strict=True)
    ]
    table = _table(
        9,
        name=([f"{_ISLAND_NAMES[k]} slip" for k in (0, 0, 1, 2, 3, 5, 6, 9, 10)], 40),
        width_m=np.round(rng.uniform(2.5, 9, 9), 1).tolist(),
        lit=[True, False, True, True, None, False, True, False, None],
    )
    layer = _layer("slipways", Family.POINTS, [[[s[None]]] for s in spots], "Slipways", table)
    return replace(layer, geometry=replace(layer.geometry, is_multi=False))


def _bed_rings(n: int, rng: shapes.Rng) -> list[Any]:
    return [[[shapes.blob(at, rng.uniform(90, 420), 30, rng)]] for at in _spots(n, rng)]


def _bow_tie(ring: F64Array) -> F64Array:
    """Exchange two far vertices, so that the ring crosses itself."""
    ring = ring.copy()
    ring[[8, 20]] = ring[[20, 8]]
    return ring


def _beds_marram(rng: shapes.Rng) -> Layer:
    """The northern team: tidy fields, numbers as numbers, dates as dates."""
    n = 64
    rings = _bed_rings(n, rng)
    rings[6] = [[_bow_tie(rings[6][0][0])]]
    away = shapes.blob(rings[18][0][0][0] + (900, 0), 60, 12, rng)[::-1]
    rings[18] = [[rings[18][0][0], away]]
    ring = rings[32][0][0]
    spike = ring[3] + 2.0 * (ring[3] - ring[15])
    rings[32] = [[np.concatenate([ring[:4], spike[None], ring[3:]])]]
    species = ["Zostera marina", "Zostera marina", "Zostera noltei", "Ruppia maritima", None]
    table = _table(
        n,
        bed_id=([1000 + k for k in range(n)], pa.int32()),
        species=(_some(species, n, rng), 40),
        cover_pct=([int(v) if v < 96 else None for v in rng.integers(5, 100, n)], pa.int16()),
        surveyed=[_day(2024, rng) for _ in range(n)],
        surveyor=(_some(_SURVEYORS, n, rng), 30),
    )
    return _layer("beds_marram", Family.POLYGONS, rings, "Seagrass, Marram survey", table)


def _beds_kelda(rng: shapes.Rng) -> Layer:
    """The southern team: short codes, per cents as text, dates as they write them."""
    n = 52
    rings = _bed_rings(n, rng)
    rings[4] = [[_bow_tie(rings[4][0][0])]]
    rings[11] = [*rings[11], [rings[11][0][0] + (60, 40)]]
    rings[27] = [[rings[27][0][0][::-1]]]
    ring = rings[40][0][0]
    rings[40] = [[np.concatenate([ring[:9], ring[8:]])]]
    dates = [_day(2025, rng) for _ in range(n)]
    table = _table(
        n,
        BedNo=([f"K/{k + 1:03d}" for k in range(n)], 8),
        SPEC=(_some(["Z. mar", "Z. mar", "Z. nol", "Rup", "?"], n, rng), 8),
        Cover=([f"{v} %" if v < 92 else "" for v in rng.integers(5, 100, n)], 6),
        Date=([d.strftime("%d.%m.%Y") for d in dates], 10),
        Obs=(_some(["ford", "ford", "lind", None], n, rng), 10),
        Note=(_some([None, None, "patchy", "edge unsure", "grazed by swans"], n, rng), 60),
    )
    return _layer("beds_kelda", Family.POLYGONS, rings, "Seagrass, Kelda survey", table)
