"""The page to look at layers: its size, how long it takes to write, and how it goes in a browser.

Measured in headless Chromium without a graphics card, so that all painting is done by the processor.
"""

from __future__ import annotations

import statistics
import tempfile
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tests.support.browser import Browser, browser_or_reason

from benchmarks.measure import Row, paired
from polygene.files import read
from polygene.formats import geojson, geopackage
from polygene.pages.making import page

SECONDS, RUNS = 2.0, 5  # of each measurement of frames, of which the median counts
# Frames are counted while the view is moved or zoomed in each of them, as a hand would do it.
_FRAMES = """
([how, seconds]) => new Promise((done) => {
  const { map } = document.querySelector(".polygene-look").look;
  const times = [];
  let k = 0;
  const step = (now) => {
    times.push(now);
    k++;
    const turn = k % 80 < 40 ? 1 : -1;
    if (how === "pan") map.pan(6 * turn, 4 * turn);
    else map.zoom(turn > 0 ? 1.03 : 1 / 1.03);
    map.isAsked = false;
    map.drawNow();
    if (now - times[0] < 1000 * seconds) requestAnimationFrame(step);
    else done(times.slice(1).map((time, n) => time - times[n]));
  };
  requestAnimationFrame(step);
})
"""
_BACK = """
(view) => {
  const { map } = document.querySelector(".polygene-look").look;
  map.view = view;
  map.repaint();
}
"""
_CLICK = """
([x, y]) => new Promise((done) => {
  const { map, page } = document.querySelector(".polygene-look").look;
  const began = performance.now();
  page.addEventListener("chosen", () => requestAnimationFrame(() => requestAnimationFrame(
    () => done([performance.now() - began, page.current ? page.current.row : -1]))), { once: true });
  map.click(x, y, false);
})
"""
_SORT = """
async (name) => {
  const look = document.querySelector(".polygene-look").look;
  const table = look.tables[0];
  const k = look.page.layers[0].columns.findIndex((column) => column.name === name);
  table.sort = { column: -1, falls: false };
  const began = performance.now();
  await table.sortBy(k);
  await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
  return performance.now() - began;
}
"""


def pages() -> Iterator[Row]:
    from benchmarks.cases import coverage  # which imports this module

    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        large = coverage(400, 250, 3)
        yield from _files(large, place)
        small = coverage(100, 50, 3)
        page(small, place / "small.html", colour_by="code")
        if reason := browser_or_reason():
            print(f"skipped: {reason}")
            return
        with Browser() as browser:
            yield from _looked_at(browser, place / "look.html", 20, "100,000 polygons")
            yield from _looked_at(browser, place / "small.html", 60, "5,000 polygons")


def _files(large: Any, place: Path) -> Iterator[Row]:
    package = place / "cells.gpkg"
    geopackage.write(package, [large])
    with zipfile.ZipFile(place / "cells.zip", "w", zipfile.ZIP_DEFLATED) as packed:
        packed.write(package, "cells.gpkg")
    paths = (place / "look.html", place / "cells.geojson")

    def make() -> None:
        paths[0].unlink(missing_ok=True)
        page(read(package), paths[0], colour_by="flag")

    def convert() -> None:
        paths[1].unlink(missing_ok=True)
        geojson.write(paths[1], [read(package)])

    mine, other = paired(make, convert)
    n = f"{large.n_rows:,} polygons, {large.geometry.n_vertices:,} vertices"
    yield Row(f"page of {n}, written", mine, other, "GeoJSON, written", 3)
    sizes = [(p.stat().st_size / 1e6) for p in (paths[0], place / "cells.zip")]
    yield Row("the same, megabytes", *sizes, "GeoPackage zipped", 1.2)


def _looked_at(browser: Browser, path: Path, rate: float, what: str) -> Iterator[Row]:
    began = time.perf_counter()
    tab = browser.open(path)
    yield Row(f"{what}: page opens, s", time.perf_counter() - began, 1.0, "a second", 3)
    for where in ("full view", "the middle"):
        if where == "the middle":
            tab.run("() => document.querySelector('.polygene-look').look.map.zoom(16)")
        tab.settle()
        view = tab.ask("look.map.view")
        for how in ("pan", "zoom"):
            runs = []
            for _ in range(RUNS):
                tab.run(_BACK, view)
                tab.settle()
                runs.append(tab.run(_FRAMES, [how, SECONDS]))
            gaps = sorted(runs, key=statistics.fmean)[RUNS // 2]
            words = f"{what}: {how}, {where}, ms a frame (slowest {max(gaps):.0f})"
            yield Row(words, statistics.fmean(gaps), 1000 / rate, f"{rate:g} frames a second", 1.02)
        tab.run(_BACK, view)
        tab.settle()
        painted = tab.ask("look.map.picture.ms")
        yield Row(f"{what}: painted anew, {where}, ms", painted, 1000, "a second", 1)
    clicks = [tab.run(_CLICK, [200 + 40 * k, 300])[0] for k in range(5)]
    yield Row(f"{what}: click, ms", statistics.median(clicks), 100, "100 ms", 1)
    for name in ("share", "code", "n"):
        took = statistics.median(tab.run(_SORT, name) for _ in range(3))
        yield Row(f"{what}: sort by {name}, ms", took, 300, "300 ms", 1)
    tab.close()
