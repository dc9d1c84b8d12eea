"""Files that chance has damaged: every end of a run on one has words, soon, and within bounds.

``python -m tests.support.mangled COUNT SEED`` prints what was wrong as JSON. Each case is a small sound
file with some bytes changed, cut or doubled, or some number or word of its text replaced; it is listed,
read, checked, laid over a box and written in another format.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import resource
import shutil
import signal
import sys
import tempfile
import time
import traceback
import warnings
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs, provenance, written
from polygene.errors import PolygeneError
from polygene.formats import address, addressed, destination
from polygene.formats.destination import Target
from polygene.formats.registry import readable_format
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.lined_yaml import load
from polygene.plane.validity import invalid_rows
from polygene.provenance import Made
from tests.support import generators as make
from tests.support import layers as some
from tests.support.arrays import by_arrays

LONGEST = 5  # seconds
ROOM = 100 << 20  # bytes of memory beyond ten times a file
PARTS = ("shp", "shx", "dbf", "cpg", "prj")  # of a Shapefile
BATCH = 40  # cases that share a process
_NUMBERS = (0, 1, 7, 0x7F, 0x80, 0xFF)
_WORDS = (
    b"", b"0", b"-1", b"1e999", b"NaN", b"null", b"true", b"[]", b"{}", b'""', b"9" * 20,
    b"\xff\xfe", b"\x00", b'"Point"', b'"Polygon"', b"[[[[]]]]", b"EPSG:0", b"&a [*a]", b"POLYGON ((",
)  # fmt: skip


def _sound(folder: Path) -> dict[str, Path]:
    """Write one small sound file of every kind; a Shapefile is damaged in each of its parts."""
    rng = np.random.default_rng(1)
    column = make.coverage(4, 3, 10.0, rng, 3)
    n = column.n_rows
    table = pa.table({
        "name": [f"bed {k}" if k % 5 else None for k in range(n)], "n": np.arange(n),
        "x": np.linspace(0, 1, n), "day": pa.array([k * 400 for k in range(n)], pa.date32()),
    })  # fmt: skip
    where = crs.parse("EPSG:32633")
    layer = Layer("beds", column, table, where)
    layer = Layer("beds", column, table, where, lineage=provenance.source(Made("beds", "b", n, "")))
    lines = (
        some.layer(some.geometries()["lines zm"], "ways")
        if "lines zm" in some.geometries()
        else None
    )
    found = {}
    for ending in ("gpkg", "parquet", "fgb", "shp", "geojson", "geojsons", "csv", "arrow"):
        path = folder / f"beds.{ending}"
        more = [(Target(path, "ways"), lines)] if lines is not None and ending == "gpkg" else []
        destination.write_all([(Target(path, "beds"), layer), *more])
        found[ending] = path
    for ending in ("shx", "dbf", "prj", "cpg"):
        found[ending] = folder / f"beds.{ending}"
    codes = replace(layer, geometry=GeometryColumn.nulls(n), crs=None, no_geometry="made here")
    found["xlsx"], found["codes"] = folder / "codes.xlsx", folder / "codes.dbf"
    destination.write_all([(Target(found["xlsx"], "codes"), codes)])
    destination.write_all([(Target(found["gpkg"], "codes"), codes)])
    shutil.copy(found["dbf"], found["codes"])
    with zipfile.ZipFile(folder / "beds.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for ending in ("shp", "shx", "dbf", "prj"):
            archive.write(folder / f"beds.{ending}", f"beds.{ending}")
    found["zip"] = folder / "beds.zip"
    found["lineage"] = folder / "beds.geojson.lineage.json"
    found["yaml"] = folder / "recipe.yaml"
    found["yaml"].write_text(
        "inputs:\n  beds: beds.gpkg#beds\nsteps:\n  - buffer: beds\n    distance: 5m\n    as: wide\n"
        "  - clip: wide\n    with: &park {a: [1, 2], b: '3'}\n    more: *park\n"
    )
    return found


def _mangled(data: bytes, chance: random.Random) -> bytes:
    """Return the bytes with one to four damages."""
    found = bytearray(data)
    for _ in range(chance.choice((1, 1, 2, 4))):
        at = chance.randrange(len(found)) if found else 0
        match chance.randrange(7):
            case 0:
                found[at : at + 1] = bytes([chance.choice(_NUMBERS)])
            case 1:
                found[at : at + 1] = (
                    bytes([found[at] ^ (1 << chance.randrange(8))]) if found else b""
                )
            case 2:
                del found[at:]
            case 3:
                size = chance.choice((1, 4, 8, 100))
                other = chance.randrange(len(found)) if found else 0
                found[at : at + size] = found[other : other + size]
            case 4:
                width = chance.choice((4, 8))
                number = chance.choice(
                    (-1, 0, 1 << 8 * width - 1, 1 << 20, (1 << 8 * width - 1) - 1)
                )
                raw = (number & ((1 << 8 * width) - 1)).to_bytes(
                    width, chance.choice(("little", "big"))
                )
                found[at : at + width] = raw
            case 5:
                stop = at
                while stop < len(found) and chr(found[stop]).isalnum() and stop - at < 20:
                    stop += 1
                found[at:stop] = chance.choice(_WORDS)
            case _:
                size = chance.choice((1, 8, 64))
                found[at:at] = found[at : at + size] * chance.choice((1, 3, 50))
    return bytes(found)


def _used(path: Path, out: Path, number: int) -> None:
    """Do with a file what people do who do not know yet what is in it."""
    if path.suffix == ".yaml":
        load(path)
        return
    if path.suffix != ".zip":
        readable_format(path).list_layers(path)
        if number % 4 == 1:
            polygene.check(path)
    for ref in address.resolve(f"{path}#*"):
        for layer in addressed.read(ref).layers:
            if layer.n_rows and layer.geometry.family == Family.POLYGONS:
                invalid_rows(layer.geometry)
                x0, y0, x1, y1 = layer.geometry.extent() or (0, 0, 1, 1)
                middle = make.polygons(
                    [[[make.square(x0, y0, max((x1 - x0) / 2, (y1 - y0) / 2, 1e-3))]]]
                )
                if np.isfinite([x0, y0, x1, y1]).all() and number % 4 == 0:
                    box = Layer("box", middle, pa.table({"row": [1]}), layer.crs)
                    with contextlib.suppress(PolygeneError):
                        polygene.clip(layer, box)
            if number % 3 == 0:
                ending = "xlsx" if layer.is_table else "geojson"
                destination.write_all([(Target(out / f"out.{ending}", "out"), layer)])


def _case(kind: str, number: int, seed: int, sound: dict[str, Path], folder: Path) -> Path:
    """Write the damaged file, with what belongs to it; return what is to be looked at."""
    chance = random.Random(f"{seed} {number}")
    if kind in PARTS:  # PROJ takes long to look at a .prj, so only where it is the one damaged
        for ending in PARTS[: None if kind == "prj" else -1]:
            shutil.copy(sound[ending], folder)
    if kind == "lineage":
        shutil.copy(sound["geojson"], folder)
    path = folder / sound[kind].name
    path.write_bytes(_mangled(sound[kind].read_bytes(), chance))
    looked = {"lineage": "beds.geojson"}.get(kind, path.name)
    return folder / ("beds.shp" if kind in PARTS else looked)


def _peak() -> int:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10


def _in_child(cases: range, seed: int, sound: dict[str, Path], pipe: int) -> None:
    def tell(text: str) -> None:
        os.write(pipe, f"{text}\n".encode())

    kinds = sorted(sound)
    with tempfile.TemporaryDirectory() as scratch:
        for number in cases:
            kind = kinds[number % len(kinds)]
            folder = Path(scratch, str(number))
            folder.mkdir()
            path = _case(kind, number, seed, sound, folder)
            tell(f"{kind} {number}")
            before, began = _peak(), time.monotonic()
            signal.setitimer(signal.ITIMER_REAL, 4 * LONGEST)  # the default action is to die
            try:
                with written.remarking(), by_arrays(number // len(kinds) % 2 == 0):
                    _used(path, folder, number)
            except (PolygeneError, OSError, MemoryError):
                pass
            except Exception:
                lines = traceback.format_exc().splitlines()
                tell(f"! {kind} {number}: {lines[-1][:200]} <- {lines[-3].strip()[:120]}")
            signal.setitimer(signal.ITIMER_REAL, 0)
            seconds, grown = time.monotonic() - began, _peak() - before
            if seconds > LONGEST:
                tell(f"! {kind} {number}: took {seconds:.1f} s")
            if grown > ROOM + 10 * path.stat().st_size:
                tell(f"! {kind} {number}: took {grown >> 20} MB")
            shutil.rmtree(folder, ignore_errors=True)


def run(count: int, seed: int, seconds: float, first: int = 0) -> dict[str, object]:
    """Run cases until they or the time are over; return how many, and what was wrong."""
    wrong: list[str] = []
    began, number = time.monotonic(), first
    with tempfile.TemporaryDirectory() as scratch:
        sound = _sound(Path(scratch))
        while number < first + count and time.monotonic() - began < seconds:
            cases = range(number, min(number + BATCH, first + count))
            reading, writing = os.pipe()
            child = os.fork()
            if child == 0:
                os.close(reading)
                try:
                    _in_child(cases, seed, sound, writing)
                finally:
                    os._exit(0)
            os.close(writing)
            with open(reading, encoding="utf-8", errors="replace") as told:
                lines = told.read().splitlines()
            _, ended = os.waitpid(child, 0)
            wrong += [line[2:] for line in lines if line.startswith("! ")]
            last = next((line for line in reversed(lines) if not line.startswith("! ")), "nothing")
            number = cases.stop
            if os.WIFSIGNALED(ended):
                wrong.append(f"{last}: ended by signal {os.WTERMSIG(ended)}")
                number = int(last.split()[1]) + 1
    return {"cases": number - first, "seconds": round(time.monotonic() - began, 1), "wrong": wrong}


def main() -> None:
    warnings.simplefilter("ignore")
    count, seed = int(sys.argv[1]), int(sys.argv[2])
    first = int(sys.argv[3]) if len(sys.argv) > 3 else 0
    print(json.dumps(run(count, seed, float("inf"), first), indent=1))


if __name__ == "__main__":
    main()
