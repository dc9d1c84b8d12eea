"""Kill a writing run at each call that changes the disk, and see what is there afterwards.

Run under the library of ``stops.c``: ``python -m tests.support.kills STRIDE FIRST``. The calls of all
scenarios are counted through, and every ``STRIDE``-th from ``FIRST`` on ends a run of its own; what was
wrong is printed as JSON.
"""

from __future__ import annotations

import contextlib
import ctypes
import itertools
import json
import os
import shutil
import signal
import sys
import tempfile
import warnings
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs, provenance
from polygene.commit.together import replacing, together
from polygene.errors import FileError
from polygene.formats import address, destination, geopackage
from polygene.formats.destination import Target
from polygene.layer import Layer
from polygene.provenance import Made
from tests.support import generators as make

FORMATS = ("gpkg", "parquet", "fgb", "geojson", "geojsons", "csv", "shp")


def layer(name: str, version: str) -> Layer:
    """A layer that tells its version in geometry, attributes, CRS and lineage."""
    side = 20 if version == "old" else 30
    rows = [[[make.square(100 * k, 50 * k, side)]] for k in range(60)]
    table = pa.table({"version": [version] * 60, "number": np.arange(60)})
    made = Made(name, f"{version}.gpkg#{name}", 60, "")
    where = crs.parse("EPSG:32633" if version == "old" else "EPSG:32632")
    return Layer(name, make.polygons(rows), table, where, lineage=provenance.source(made))


def single(ending: str) -> Callable[[Path, str], None]:
    def write(folder: Path, version: str) -> None:
        path = folder / f"beds.{ending}"
        destination.write_all([(Target(path, "beds"), layer("beds", version))])

    return write


def folder_of_many(folder: Path, version: str) -> None:
    places = [("a.shp", "a"), ("b.csv", "b"), ("c.gpkg", "c")]
    destination.write_all([(Target(folder / p, n), layer(n, version)) for p, n in places])


def two_folders(folder: Path, version: str) -> None:
    """As a recipe does: layers here and there, and a figure."""
    for name in ("one", "two"):
        (folder / name).mkdir(exist_ok=True)
    with together():
        destination.write_all([
            (Target(folder / "one" / "a.geojson", "a"), layer("a", version)),
            (Target(folder / "two" / "b.shp", "b"), layer("b", version)),
        ])  # fmt: skip
        with replacing(folder / "two" / "map.svg") as temporary:
            temporary.write_text(f"<svg>{version}</svg>" * 1000)


def without_links(folder: Path, version: str) -> None:
    """On a disk that has no hard links."""
    with mock.patch("os.link", side_effect=OSError(95, "not supported")):
        single("shp")(folder, version)


SCENARIOS = {
    **{one: single(one) for one in FORMATS},
    "folder": folder_of_many,
    "two": two_folders,
    "without links": without_links,
}


def state(folder: Path) -> dict[str, str]:
    """What the files of a folder hold, as one sees it who lists and reads them."""
    found = {}
    for path in sorted(p for p in folder.rglob("*") if p.is_file() and not p.name.startswith(".")):
        name = str(path.relative_to(folder))
        if path.suffix == ".gpkg":
            for one in geopackage.layer_names(path):
                got = geopackage.read(path, one).layers[0]
                sums = (float(got.geometry.xy.sum()), crs.label(got.crs), got.lineage.this)
                found[f"{name}#{one}"] = str((got.table.to_pydict(), *sums))
        else:
            found[name] = path.read_bytes().hex()
    return found


def look(folder: Path) -> None:
    """Read all layers: what is half done is put in order by that."""
    for place in [folder, *(p for p in folder.iterdir() if p.is_dir())]:
        with contextlib.suppress(FileError):  # of a folder without layers
            for path in address.files_of(str(place)):
                polygene.read(str(path))


def lineages_fit(folder: Path, version: str) -> bool:
    places = [p for p in folder.rglob("*") if p.suffix[1:] in FORMATS]
    own = [polygene.read(str(path)).lineage for path in places]
    return all(one is not None and version in str(one.this["prov:location"]) for one in own)


def in_child(work: Callable[[], None], stop: ctypes.CDLL, at: int) -> tuple[int, int]:
    """Run in a process of its own that dies at a call; return how it ended, and its calls."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        stop.stop_at(at)
        work()
        n_calls = stop.calls_made()
        stop.stop_at(-1)
        os.write(writing, str(n_calls).encode())
        os._exit(0)
    os.close(writing)
    with open(reading, "rb") as pipe:
        told = pipe.read()
    return os.waitpid(child, 0)[1], int(told or 0)


def kill_all(name: str, calls: slice, stop: ctypes.CDLL, has_old: bool) -> dict[str, object]:
    write, wrong = SCENARIOS[name], []
    with tempfile.TemporaryDirectory() as scratch:
        old, new = Path(scratch, "old"), Path(scratch, "new")
        for place, versions in ((old, ["old"] * has_old), (new, ["old"] * has_old + ["new"])):
            place.mkdir()
            for version in versions:
                write(place, version)
        states = {"old": state(old), "new": state(new)}
        place = Path(scratch, "counted")
        shutil.copytree(old, place)
        _, n_calls = in_child(lambda: write(place, "new"), stop, -1)
        kills = 0
        for at in range(n_calls)[calls]:
            place = Path(scratch, f"run{at}")
            shutil.copytree(old, place)
            ended, _ = in_child(lambda place=place: write(place, "new"), stop, at)
            kills += os.WIFSIGNALED(ended) and os.WTERMSIG(ended) == signal.SIGKILL
            look(place)
            now = state(place)
            is_which = [version for version, known in states.items() if known == now]
            if not is_which:
                parts = {k: [v for v, s in states.items() if s.get(k) == now.get(k)] for k in now}
                wrong.append(f"{name} at {at} of {n_calls}: neither old nor new: {parts}")
            elif now and not lineages_fit(place, is_which[0]):
                wrong.append(
                    f"{name} at {at} of {n_calls}: the lineage is not that of {is_which[0]}"
                )
            in_child(lambda place=place: write(place, "new"), stop, -1)
            left = [str(p.relative_to(place)) for p in place.rglob(".*")]
            if left or state(place) != states["new"]:
                wrong.append(f"{name} at {at} of {n_calls}: after the next run there is {left}")
            shutil.rmtree(place)
    return {"calls": n_calls, "kills": kills, "wrong": wrong}


def main() -> None:
    stride, first = map(int, sys.argv[1:3])
    warnings.simplefilter("ignore")  # what was put in order is said as a warning
    stop = ctypes.CDLL(None)
    found: dict[str, dict] = {}
    for name, has_old in itertools.product(SCENARIOS, (True, False)):
        before = sum(one["calls"] for one in found.values())
        calls = slice((first - before) % stride, None, stride)
        found[f"{name}{'' if has_old else ', new'}"] = kill_all(name, calls, stop, has_old)
    print(json.dumps(found, indent=1))


if __name__ == "__main__":
    main()
