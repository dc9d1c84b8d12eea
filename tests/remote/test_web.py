"""Layers over the web: files whole and in parts, what is kept of them, and servers that misbehave."""

from __future__ import annotations

import contextlib
import os
import shutil
import ssl
import subprocess
import tempfile
import threading
import time
import unittest
from collections.abc import Iterator
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from unittest import mock

import numpy as np

import polygene
from polygene.errors import FileError
from polygene.formats import address, addressed
from polygene.formats.destination import Target, write_all
from polygene.formats.wanted import Wanted
from polygene.provenance import sources
from polygene.record import checksum
from polygene.remote import cache, http
from polygene.remote.http import shown
from polygene.sample import tolva
from tests.support import generators as make
from tests.support.chance import some_of
from tests.support.cli import polygene_here
from tests.support.layers import same_geometry
from tests.support.web import Web, file_of, send, serving


@contextlib.contextmanager
def away(web: Web) -> Iterator[None]:
    """Let the server be out of reach while this lasts."""
    real = http.streamed

    def gone(url, headers=None):
        if url.startswith(web.address):
            raise http.OfflineError(f"{shown(url)} cannot be reached: no route")
        return real(url, headers)

    with mock.patch.object(http, "streamed", gone):
        yield


class OverTheWeb(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        cls.package, _ = tolva.write(cls.folder)
        rng = np.random.default_rng(1)
        column = make.coverage(60, 60, 10, rng)
        utm = polygene.crs.parse("EPSG:32633")
        cls.cells = make.layer("cells", column, utm, n=np.arange(column.n_rows))
        area = make.layer("area", make.polygons([[[make.star(rng, 20, 90, (300, 300))]]]), utm)
        write_all([(Target(cls.folder / "area.gpkg", "area"), area)])
        for ending in ("fgb", "parquet", "geojson"):
            write_all([(Target(cls.folder / f"cells.{ending}", "cells"), cls.cells)])

    def setUp(self):
        kept = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, kept)
        self.enterContext(mock.patch.dict(os.environ, {"XDG_CACHE_HOME": kept}))
        self.enterContext(mock.patch.object(cache, "_said", set()))
        self.enterContext(mock.patch.object(http, "LONGEST_PAUSE", 0.01))
        self.web = self.enterContext(serving(self.folder))

    def url(self, name: str) -> str:
        return f"{self.web.address}/{name}"

    def test_files_are_fetched_once_and_looked_after(self):
        own = polygene.read(f"{self.package}#sectors")
        for _ in range(2):
            back = polygene.read(self.url("tolva.gpkg#sectors"))
            same_geometry(self, back.geometry, own.geometry)
            self.assertEqual(back.table, own.table)
        self.assertEqual([status for _, status, _ in self.web.asked], [200, 304])
        with cache.fetching_so(is_fresh=True):
            polygene.read(self.url("tolva.gpkg#sectors"))
        self.assertEqual(self.web.asked[-1][1], 200)
        with (
            away(self.web),
            self.assertWarnsRegex(UserWarning, "what is kept of it is used, of 20"),
        ):
            same_geometry(
                self, polygene.read(self.url("tolva.gpkg#sectors")).geometry, own.geometry
            )
        with away(self.web), self.assertRaisesRegex(FileError, "no copy of it is kept"):
            polygene.read(self.url("cells.geojson"))

    def test_what_changed_is_fetched_anew(self):
        place = self.folder / "changing.geojson"
        shutil.copy(self.folder / "cells.geojson", place)
        self.assertEqual(polygene.read(self.url("changing.geojson")).n_rows, 3600)
        write_all([(Target(place, "changing"), self.cells.take(np.arange(7)))])
        self.assertEqual(polygene.read(self.url("changing.geojson")).n_rows, 7)

    def test_a_run_tells_where_from_and_when(self):
        done = polygene_here(
            "clip", self.url("tolva.gpkg#sectors"), "--with", self.url("tolva.gpkg#park"),
            "-o", "out.gpkg", "--replace", folder=self.folder,
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertEqual([status for _, status, _ in self.web.asked], [200], "once a run")
        told = polygene.read(f"{self.folder}/out.gpkg").lineage
        (one, other) = sources(told)
        self.assertEqual(one.place, self.url("tolva.gpkg#sectors"))
        self.assertRegex(one.retrieved, r"^20\d\d-")
        self.assertEqual(one.checksum, checksum(self.package))
        self.assertTrue(one.validator)
        self.assertEqual(other.features, 1)

    def test_of_large_files_only_what_is_wanted_comes(self):
        box = (200.0, 200.0, 260.0, 250.0)
        bounds = self.cells.geometry.row_bounds()
        meets = (bounds[:, 0] <= 260) & (bounds[:, 2] >= 200)
        meets &= (bounds[:, 1] <= 250) & (bounds[:, 3] >= 200)
        for ending, most in (("fgb", 0.35), ("parquet", 1.2)):
            self.web.asked.clear()
            size = (self.folder / f"cells.{ending}").stat().st_size
            (ref,) = address.resolve(self.url(f"cells.{ending}"))
            layer = addressed.read(ref, Wanted(box=box)).layers[0]
            kept = layer.take(np.isin(layer.table["n"].to_numpy(), np.flatnonzero(meets)))
            same_geometry(self, kept.geometry, self.cells.geometry.take(np.flatnonzero(meets)))
            self.assertLess(self.web.n_bytes, most * size, ending)
            before = self.web.n_bytes
            self.assertEqual(polygene.read(self.url(f"cells.{ending}")).n_rows, 3600)
            self.assertLess(self.web.n_bytes - before, 1.1 * size)

    def test_a_server_without_ranges_gives_the_whole(self):
        self.web.ranges = False
        self.assertEqual(polygene.read(self.url("cells.fgb")).n_rows, 3600)

    def test_a_file_that_changes_between_two_ranges_is_refused(self):
        place = self.folder / "moving.fgb"
        shutil.copy(self.folder / "cells.fgb", place)
        (ref,) = address.resolve(self.url("moving.fgb"))
        write_all([(Target(place, "moving"), self.cells.take(np.arange(3000)))])
        with self.assertRaisesRegex(FileError, "was changed while it was read"):
            addressed.read(ref, Wanted(box=(0.0, 0.0, 50.0, 50.0)))

    def test_mischief_is_told_with_its_address_and_a_remedy(self):
        def short(handler, web):
            send(handler, web, 200, b'{"type":', Content_Length="400")
            handler.close_connection = True

        def busy(handler, web):
            send(handler, web, 503)

        def elsewhere(handler, web):
            send(handler, web, 302, Location="file:///etc/passwd")

        def around(handler, web):
            send(handler, web, 302, Location=handler.path)

        def slow(handler, web):
            time.sleep(0.8)

        def page(handler, web):
            send(handler, web, 200, b"<html>Welcome</html>", Content_Type="text/html")

        for trick, name, words in (
            (lambda h, w: send(h, w, 401), "x.geojson", "POLYGENE_TOKEN"),
            (lambda h, w: send(h, w, 403), "x.geojson", "does not let everybody in"),
            (lambda h, w: send(h, w, 404), "x.geojson", "is not there; look at the address"),
            (short, "x.geojson", "broke off|another number"),
            (busy, "x.geojson", "HTTP 503"),
            (elsewhere, "x.geojson", "no address of the web|nothing of the web"),
            (around, "x.geojson", "in a circle"),
            (page, "x.geojson", "is no GeoJSON|JSON"),
            (page, "api", "HTML, a page for people"),
            (lambda h, w: send(h, w, 200, b"{}"), "api", "is no OGC API"),
            (slow, "x.geojson", "takes too long"),
        ):
            self.web.tricks = {f"/{name}": trick}
            quick = mock.patch.object(http, "WAIT", 0.2)
            http.close()
            with self.subTest(words), quick, self.assertRaisesRegex(FileError, words) as caught:
                polygene.read(self.url(name))
            self.assertIn(self.web.address, str(caught.exception))
            http.close()
        for own in cache.folder().iterdir():  # of what came whole, though it is no layer
            self.assertTrue((own / "about.json").exists(), "nothing half-written")

    def test_a_busy_server_is_asked_again(self):
        left = [1, 1]

        def busy(handler, web):
            if left:
                left.pop()
                send(handler, web, 429, Retry_After="0")
            else:
                send(handler, web, 200, (self.folder / "cells.geojson").read_bytes())

        self.web.tricks = {"/cells.geojson": busy}
        self.assertEqual(polygene.read(self.url("cells.geojson")).n_rows, 3600)
        self.assertEqual([status for _, status, _ in self.web.asked], [429, 429, 200])

    def test_secrets_are_in_no_message(self):
        url = f"http://me:hidden@{self.web.address[7:]}/x.geojson?api_key=hidden&page=2"
        with self.assertRaises(FileError) as caught:
            polygene.read(url)
        self.assertNotIn("hidden", str(caught.exception))
        self.assertIn("page=2", str(caught.exception))

    def test_tasks_and_checks_see_no_holes(self):
        for ending in some_of(("parquet", "fgb")):
            done = []
            for more in ((), ("--tasks", "4", "--workers", "2")):
                run = polygene_here(
                    "clip", self.url(f"cells.{ending}"), "--with", "area.gpkg", "-o", "part.gpkg",
                    "--replace", *more, folder=self.folder,
                )  # fmt: skip
                self.assertEqual(run.code, 0, run.err)
                layer = polygene.read(f"{self.folder}/part.gpkg")
                done.append(sorted(map(repr, layer.table.to_pylist())))
            self.assertEqual(*done)
            run = polygene_here("check", self.url(f"cells.{ending}"), folder=self.folder)
            self.assertIn("nothing found", run.out, ending)

    def test_names_and_passwords_are_those_of_netrc(self):
        names, got = self.folder / "netrc", []
        names.write_text("machine 127.0.0.1 login me password hidden\n")

        def look(handler, web):
            got.append(handler.headers.get("Authorization"))
            send(handler, web, 200, (self.folder / "cells.geojson").read_bytes())

        self.web.tricks = {"/cells.geojson": look}
        with mock.patch.dict(os.environ, {"NETRC": str(names)}):
            http.close()
            polygene.read(self.url("cells.geojson"))
        http.close()
        self.assertEqual(got, ["Basic bWU6aGlkZGVu"])

    def test_a_token_goes_to_its_host_alone(self):
        got = []

        def look(handler, web):
            got.append(handler.headers.get("Authorization"))
            send(handler, web, 200, (self.folder / "cells.geojson").read_bytes())

        self.web.tricks = {"/cells.geojson": look}
        for host in ("", "example.org", "127.0.0.1"):
            told = {"POLYGENE_TOKEN": "hidden", "POLYGENE_TOKEN_HOST": host}
            with mock.patch.dict(os.environ, told):
                polygene.read(self.url("cells.geojson"))
        self.assertEqual(got, [None, None, "Bearer hidden"])

    @unittest.skipUnless(shutil.which("openssl"), "no openssl to make a certificate with")
    def test_a_certificate_that_does_not_hold(self):
        key, made = self.folder / "key.pem", self.folder / "cert.pem"
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj",
             "/CN=localhost", "-addext", "subjectAltName=DNS:localhost", "-keyout", key, "-out", made],
            check=True, capture_output=True,
        )  # fmt: skip
        server = ThreadingHTTPServer(("127.0.0.1", 0), SimpleHTTPRequestHandler)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(made, key)
        server.socket = context.wrap_socket(server.socket, server_side=True)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        http.close()
        with self.assertRaisesRegex(FileError, "its certificate does not hold.*SSL_CERT_FILE"):
            polygene.read(f"https://localhost:{server.server_port}/x.geojson")
        http.close()

    def test_the_settings_name_variables_for_hosts(self):
        got = []

        def look(handler, web):
            got.append(handler.headers.get("Authorization"))
            send(handler, web, 200, (self.folder / "cells.geojson").read_bytes())

        self.web.tricks = {"/cells.geojson": look}
        settings = self.folder / "polygene.toml"
        for text in ("example.org SURVEY", "127.0.0.1 SURVEY, example.org OTHER"):
            settings.write_text(f'tokens = "{text}"')
            done = polygene_here(
                "convert", self.url("cells.geojson"), "-o", "c.gpkg", "--replace",
                folder=self.folder, SURVEY="hidden", OTHER="more",
            )  # fmt: skip
            self.assertEqual(done.code, 0, done.err)
        self.assertEqual(got, [None, "Bearer hidden"])
        self.assertNotIn("hidden", str(polygene.read(f"{self.folder}/c.gpkg").lineage))
        settings.write_text('tokens = "example.org"')
        done = polygene_here("layers", "c.gpkg", folder=self.folder)
        self.assertIn("tokens: 'example.org' is not a host and the name of a variable", done.words)

    def test_what_is_kept_is_bounded(self):
        with cache.fetching_so(is_fresh=False, most=400_000):
            for name in ("cells.geojson", "tolva.gpkg", "resurvey.geojson"):
                polygene.read(self.url(name if name != "tolva.gpkg" else "tolva.gpkg#park"))
        sizes = [
            file.stat().st_blocks * 512 for file in cache.folder().rglob("*") if file.is_file()
        ]
        self.assertLess(sum(sizes), 500_000)

    def test_a_run_goes_on_with_what_it_found_while_another_fetches_anew(self):
        """Whichever request the other comes between: what is read stays one state of the file."""
        for ending in ("fgb", "parquet"):
            path, url = self.folder / f"cells.{ending}", self.url(f"cells.{ending}")
            box = Wanted(box=(100.0, 100.0, 250.0, 250.0))
            wanted = addressed.read(address.resolve(str(path))[0], box).layers[0]
            for number in range(1, 6):
                shutil.rmtree(cache.folder(), ignore_errors=True)
                left = [number]

                def meddle(handler, web, url=url, left=left):
                    left[0] -= 1
                    if left[0] == 0:
                        with cache.fetching_so(is_fresh=True):
                            far = Wanted(box=(500.0, 500.0, 501.0, 501.0))
                            addressed.read(address.resolve(url)[0], far)
                    file_of(handler, web)

                self.web.tricks = {f"/cells.{ending}": meddle}
                for _ in range(2):
                    found = addressed.read(address.resolve(url)[0], box).layers[0]
                    self.assertEqual(found.table, wanted.table)
                    same_geometry(self, found.geometry, wanted.geometry)


if __name__ == "__main__":
    unittest.main()
