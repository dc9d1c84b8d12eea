"""The service of features: held to the standards' tests, and read by our own client."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import threading
import unittest
import urllib.error
import urllib.parse
import urllib.request
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa

import polygene
from polygene.crs import CRS84, of_uri, to_uri
from polygene.errors import FileError
from polygene.formats import address, addressed
from polygene.formats.wanted import Wanted
from polygene.measures import row_areas
from polygene.ops.places.boxes import box_layer
from polygene.provenance import sources
from polygene.remote import cache, features, http
from polygene.sample import tolva
from polygene.serving import app
from polygene.serving.app import CONFORMS, Service
from polygene.serving.listening import server_for
from polygene.table.expression import Expression
from tests.support import generators as make
from tests.support.cli import polygene_here
from tests.support.layers import same_geometry
from tests.support.web import send, serving

of_4326 = "http://www.opengis.net/def/crs/EPSG/0/4326"
UTM = "http://www.opengis.net/def/crs/EPSG/0/32633"


class Served(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        cls.package, _ = tolva.write(cls.folder)
        names = ("sectors", "buoys", "cables", "beds_kelda", "park")
        layers = {name: polygene.read(f"{cls.package}#{name}") for name in names}
        north = polygene.reproject(layers["buoys"], "EPSG:3035").layer
        layers["north"] = replace(north, name="north")
        cls.service = Service("Tolva Sound", layers, "1")
        cls.log: list[str] = []
        cls.server = server_for(cls.service, "127.0.0.1", 0, cls.log.append)
        threading.Thread(target=cls.server.serve_forever, daemon=True).start()
        cls.server.daemon_threads = False
        cls.addClassCleanup(cls.server.server_close)
        cls.addClassCleanup(cls.server.shutdown)
        cls.addClassCleanup(http.close)
        cls.url = f"http://127.0.0.1:{cls.server.server_port}"

    def setUp(self):
        kept = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, kept)
        self.enterContext(mock.patch.dict(os.environ, {"XDG_CACHE_HOME": kept}))
        self.enterContext(mock.patch.object(cache, "_said", set()))
        self.log.clear()

    def get(self, path: str, **query: object):
        """Ask as any client does; return the status, the headers, the JSON."""
        text = urllib.parse.urlencode({k.replace("_", "-"): v for k, v in query.items()})
        try:
            with urllib.request.urlopen(f"{self.url}{path}{'?' if text else ''}{text}") as found:
                return found.status, found.headers, json.loads(found.read())
        except urllib.error.HTTPError as err:
            return err.code, err.headers, json.loads(err.read())


class Standard(Served):
    """Abstract tests of OGC 17-069r4 (annex A), 18-058r1 and 19-079r2 that apply."""

    def test_landing_page_conformance_and_api(self):
        _, headers, told = self.get("/")
        self.assertEqual(headers.get_content_type(), "application/json")
        rels = {link["rel"]: link["href"] for link in told["links"]}
        self.assertLessEqual({"self", "service-desc", "conformance", "data"}, set(rels))
        for rel in ("conformance", "data", "service-desc"):
            self.assertEqual(self.get(rels[rel][len(self.url) :])[0], 200)
        self.assertEqual(self.get("/conformance")[2]["conformsTo"], list(CONFORMS))
        api = self.get("/api")[2]
        self.assertTrue(api["openapi"].startswith("3.0"))
        self.assertIn("/collections/sectors/items", api["paths"])

    def test_collections(self):
        told = self.get("/collections")[2]
        self.assertEqual([own["id"] for own in told["collections"]], list(self.service.layers))
        for own in told["collections"]:
            _, _, alone = self.get(f"/collections/{own['id']}")
            self.assertEqual(alone, own)
            x0, y0, x1, y1 = own["extent"]["spatial"]["bbox"][0]
            self.assertTrue(13 < x0 < x1 < 16 and 71 < y0 < y1 < 73, own["extent"])
            self.assertEqual(own["crs"][0], CRS84)
            self.assertIn(own["storageCrs"], own["crs"])
            link = next(one for one in own["links"] if one["rel"] == "items")
            self.assertEqual(link["type"], "application/geo+json")
        self.assertEqual(self.get("/collections/nothing")[0], 404)

    def test_items_and_pages(self):
        status, headers, told = self.get("/collections/buoys/items", limit=7)
        self.assertEqual((status, headers.get_content_type()), (200, "application/geo+json"))
        self.assertEqual((told["numberMatched"], told["numberReturned"]), (90, 7))
        seen = []
        while True:
            seen += [own["id"] for own in told["features"]]
            following = [link["href"] for link in told["links"] if link["rel"] == "next"]
            if not following:
                break
            told = self.get(following[0][len(self.url) :])[2]
        self.assertEqual(len(seen), 90)
        self.assertEqual(len(set(seen)), 90)
        _, _, told = self.get("/collections/buoys/items", limit="9" * 5000)
        self.assertEqual(told["numberReturned"], 90)
        _, _, one = self.get(f"/collections/buoys/items/{seen[3]}")
        self.assertEqual((one["type"], one["id"]), ("Feature", seen[3]))
        self.assertEqual(self.get("/collections/buoys/items/999999")[0], 404)

    def test_boxes(self):
        own = self.service.layers["sectors"]
        for crs, box in ((UTM, (475_000.0, 8_046_000.0, 480_000.0, 8_050_000.0)),
                         (CRS84, (14.3, 72.52, 14.5, 72.55))):  # fmt: skip
            _, _, told = self.get(
                "/collections/sectors/items", bbox=",".join(map(str, box)), bbox_crs=crs, limit=1000
            )
            area = box_layer(box, of_uri(crs))
            wanted = polygene.subset(own, other=area, relation="intersects").layer
            self.assertEqual([f["id"] for f in told["features"]], wanted.ids.tolist())
            self.assertTrue(0 < len(wanted.ids) < 24)
        # The lower left corner of a box over the 180th meridian lies to its east.
        _, _, told = self.get("/collections/sectors/items", bbox="170,70,15,80")
        self.assertEqual(told["numberMatched"], 24)
        x, y = self.service.layers["buoys"].geometry.xy[5].tolist()
        for box in ((x, y, x, y), (x - 1, y, x + 1, y), (x, y - 1, x, y + 1)):
            text = ",".join(map(repr, box))
            _, _, told = self.get("/collections/buoys/items", bbox=text, bbox_crs=UTM)
            self.assertEqual(
                [f["id"] for f in told["features"]], [106], "a place or a line is a box"
            )

    def test_geometry_in_a_filter_is_in_the_crs_of_the_filter(self):
        """Longitude and latitude unless it is said (OGC 19-079r2, 7.3), in the CRS's own order."""
        north = "http://www.opengis.net/def/crs/EPSG/0/3035"
        for name, uri, (x0, y0, x1, y1), turned in (
            ("sectors", None, (14.3, 72.52, 14.5, 72.55), False),
            ("sectors", UTM, (475_000.0, 8_046_000.0, 480_000.0, 8_050_000.0), False),
            ("north", None, (14.3, 72.52, 14.5, 72.55), False),
            ("north", north, (4_466_000.0, 5_487_500.0, 4_471_000.0, 5_492_000.0), True),
        ):
            own, crs = self.service.layers[name], of_uri(uri or CRS84)
            area = box_layer((x0, y0, x1, y1), crs)
            inside = polygene.subset(own, other=area, relation="intersects").layer.ids.tolist()
            outside = polygene.subset(own, other=area, relation="disjoint").layer.ids.tolist()
            self.assertTrue(inside and outside)
            if turned:
                x0, y0, x1, y1 = y0, x0, y1, x1
            ring = f"{x0} {y0}, {x1} {y0}, {x1} {y1}, {x0} {y1}, {x0} {y0}"
            for text, wanted in (
                (f"S_INTERSECTS(geometry, BBOX({x0}, {y0}, {x1}, {y1}))", inside),
                (f"S_DISJOINT(geometry, POLYGON(({ring})))", outside),
            ):
                more = {"filter_crs": uri} if uri else {}
                _, _, told = self.get(f"/collections/{name}/items", filter=text, limit=99, **more)
                self.assertEqual([f["id"] for f in told.get("features", told)], wanted, text)

    def test_time(self):
        """Of a field of time, and all that have none (OGC 17-069r4, requirements 24 and 25)."""
        own = self.service.layers["buoys"].table
        when = [(k, v) for k, v in zip(self.service.layers["buoys"].ids.tolist(),
                                       own["inspected"].to_pylist(), strict=True)]  # fmt: skip
        day = lambda text: datetime.fromisoformat(text).replace(tzinfo=UTC)  # noqa: E731
        for text, test in (
            ("2026-03-18", lambda v: v.date().isoformat() == "2026-03-18"),
            ("2026-03-18T08:30:00Z", lambda v: v == day("2026-03-18T08:30")),
            ("2026-03-18T10:30:00+02:00", lambda v: v == day("2026-03-18T08:30")),
            ("2026-03-01/2026-05-31", lambda v: day("2026-03-01") <= v < day("2026-06-01")),
            ("../2026-03-18T08:30:00Z", lambda v: v <= day("2026-03-18T08:30")),
            ("2026-03-18/", lambda v: v >= day("2026-03-18")),
        ):
            wanted = [k for k, v in when if v is None or test(v)]
            _, _, told = self.get("/collections/buoys/items", datetime=text, limit=99)
            self.assertEqual([f["id"] for f in told.get("features", told)], wanted, text)
            self.assertTrue(sum(v is None for _, v in when) < len(wanted) < 90, text)
        moment = next(v for _, v in when if v is not None)
        text = f"{moment:%Y-%m-%dT%H:%M:%S}.000000Z"  # as Python and others write it
        for query in ({"inspected": text}, {"filter": f"inspected = TIMESTAMP('{text}')"}):
            _, _, told = self.get("/collections/buoys/items", **query, limit=99)
            self.assertEqual(told["numberMatched"], sum(v == moment for _, v in when), query)
        for text in ("", "..", "../..", "2026", "2026-02-30", "2026-01-02/2026-01-01", "1/2/3"):
            self.assertEqual(self.get("/collections/buoys/items", datetime=text)[0], 400, text)
        _, _, told = self.get("/collections/sectors/items", datetime="1990-01-01")
        self.assertEqual(told["numberMatched"], 24, "none of them has a time")
        moments = [v for _, v in when if v is not None]
        _, _, told = self.get("/collections/buoys")
        self.assertEqual(
            told["extent"]["temporal"]["interval"],
            [[f"{v:%Y-%m-%dT%H:%M:%S}.000Z" for v in (min(moments), max(moments))]],
        )

    def test_any_name_and_no_other_method(self):
        odd = dict.fromkeys(("a/b", "ü & ?", "50%2F"), self.service.layers["park"])
        with mock.patch.object(self.service, "layers", odd):
            for own in self.get("/collections")[2]["collections"]:
                items = next(link["href"] for link in own["links"] if link["rel"] == "items")
                _, _, told = self.get(items[len(self.url) :])
                self.assertEqual(told["numberReturned"], 1, own["id"])
                self.assertEqual(polygene.read(f"{self.url}#{own['id']}").n_rows, 1)
        for method in ("POST", "PUT", "DELETE", "OPTIONS"):
            ask = urllib.request.Request(f"{self.url}/collections", b"x", method=method)
            with self.assertRaises(urllib.error.HTTPError) as caught:
                urllib.request.urlopen(ask)
            self.assertEqual((caught.exception.code, caught.exception.headers["Allow"]),
                             (405, "GET, HEAD"))  # fmt: skip
            caught.exception.close()

    def test_coordinates_in_the_crs_asked_for_and_in_its_order(self):
        for name, uri in (("buoys", UTM), ("north", "http://www.opengis.net/def/crs/EPSG/0/3035")):
            _, headers, told = self.get(f"/collections/{name}/items", crs=uri, limit=100)
            self.assertEqual(headers["Content-Crs"], f"<{uri}>")
            points = [own["geometry"] for own in told["features"] if own["geometry"]]
            xy = np.array([own["coordinates"] for own in points])
            own = self.service.layers[name].geometry.xy
            self.assertTrue(np.array_equal(xy, own[:, ::-1] if name == "north" else own))
        _, headers, _ = self.get("/collections/buoys/items")
        self.assertEqual(headers["Content-Crs"], f"<{CRS84}>")

    def test_filters(self):
        for text in ("district = 'OS' OR area_ha > 1000", "name LIKE 'S%' AND NOT area_ha IS NULL",
                     "area_ha BETWEEN 300 AND 900", "district IN ('MI', 'TH')"):  # fmt: skip
            wanted = int(Expression(text).true_rows(self.service.layers["sectors"]).sum())
            _, _, told = self.get(
                "/collections/sectors/items", filter=text, filter_lang="cql2-text"
            )
            self.assertEqual(told["numberMatched"], wanted, text)
        _, _, told = self.get("/collections/sectors/items", district="OS")
        self.assertTrue(all(f["properties"]["district"] == "OS" for f in told["features"]))
        _, _, told = self.get("/collections/sectors/queryables")
        self.assertEqual(told["properties"]["area_ha"], {"type": "number"})

    def test_what_is_wrong_is_a_clear_400(self):
        for query, words in (
            ({"limit": "0"}, "limit"), ({"limit": "x"}, "limit"), ({"bbox": "1,2,3"}, "bbox"),
            ({"bbox": "1,2,3,nan"}, "bbox"), ({"what": "1"}, "no parameter 'what'"),
            ({"crs": "EPSG:1"}, "crs"), ({"filter": "district ="}, "filter"),
            ({"filter": "nothing = 1"}, "nothing"), ({"filter_lang": "cql2-json"}, "cql2-text"),
            ({"offset": "-1"}, "offset"), ({"bbox_crs": "x", "bbox": "1,2,3,4"}, "bbox-crs"),
            ({"f": "xml"}, "json or html"),
        ):  # fmt: skip
            status, _, told = self.get("/collections/sectors/items", **query)
            self.assertEqual(status, 400, query)
            self.assertIn(words, told["description"])
        self.assertEqual(self.get("/nowhere")[0], 404)

    def test_people_get_pages(self):
        of_one = "/collections/sectors"
        for path in ("/", "/api", "/conformance", "/collections", of_one, f"{of_one}/items",
                     f"{of_one}/queryables", f"{of_one}/items/1"):  # fmt: skip
            ask = urllib.request.Request(f"{self.url}{path}", headers={"Accept": "text/html"})
            with urllib.request.urlopen(ask) as found:
                text = found.read().decode()
                self.assertEqual(found.headers.get_content_type(), "text/html")
            self.assertIn("<h1>", text)


class OurClient(Served):
    def test_a_collection_is_the_layer_it_was(self):
        for name in ("sectors", "buoys", "cables", "beds_kelda", "north"):
            own = self.service.layers[name]
            back = polygene.read(f"{self.url}#{name}")
            same = np.sort(back.geometry.xy, axis=0), np.sort(own.geometry.xy, axis=0)
            self.assertTrue(np.array_equal(*same), name)  # rings may run the other way
            self.assertEqual(back.table.schema.names, own.table.schema.names)
            for field in own.table.column_names:
                self.assertEqual(back.table[field].to_pylist(), own.table[field].to_pylist(), field)
            self.assertTrue(polygene.crs.is_same(back.crs, own.crs))

    def test_only_what_is_wanted_is_asked_for(self):
        (ref,) = address.resolve(f"{self.url}#sectors")
        where = Expression("district = 'OS'")
        layer = addressed.read(ref, Wanted((468_000, 8_045_000, 480_000, 8_056_000), where)).layers[
            0
        ]
        self.assertTrue(0 < layer.n_rows < layer.n_total == 24)
        asked = [text for text in self.log if "filter=" in text]
        self.assertTrue(asked and "bbox=" in asked[0] and "bbox-crs=" in asked[0])
        none = addressed.read(ref, Wanted(where=Expression("area_ha < 0"))).layers[0]
        self.assertEqual((none.n_rows, none.table.schema), (0, layer.table.schema))
        self.log.clear()
        layer = addressed.read(ref, Wanted(where=Expression("upper(district) = 'OS'"))).layers[0]
        self.assertEqual(layer.n_rows, 24, "what it cannot do is done here")

    def test_what_others_state_of_their_fields(self):
        """Several types of one field, one that is no type, and fields that no feature has."""
        told = {
            "sector": {"type": ["string", "null"]}, "area_ha": {"type": ["null", "number"]},
            "more": {"type": ["null", "integer"]}, "odd": {"type": {"a": 1}, "format": []},
            "either": {"type": ["string", "number"]}, "none": 7, "shape": {"format": "geometry-any"},
        }  # fmt: skip
        (ref,) = address.resolve(f"{self.url}#sectors")
        with mock.patch.object(features, "schema_of", return_value=told):
            whole, none, by_more = (
                addressed.read(ref, Wanted(where=Expression(text)) if text else Wanted()).layers[0]
                for text in ("", "area_ha < 0", "more IS NULL")
            )
        self.assertEqual(whole.table.schema, self.service.layers["sectors"].table.schema)
        kinds = {"sector": pa.string(), "area_ha": pa.float64(), "more": pa.int64()}
        self.assertEqual(none.table.schema, pa.schema(kinds))
        self.assertEqual(by_more.table["more"].type, pa.int64())

    def test_a_clip_is_that_of_the_files(self):
        words = ("--where", "area_ha > 500", "--replace", "-o")
        for source, out in ((self.url, "web.gpkg"), (str(self.package), "file.gpkg")):
            done = polygene_here(
                "clip",
                f"{source}#sectors",
                "--with",
                f"{source}#park",
                *words,
                out,
                folder=self.folder,
            )
            self.assertEqual(done.code, 0, done.err)
        one, other = (polygene.read(f"{self.folder}/{f}.gpkg") for f in ("web", "file"))
        self.assertEqual(one.table.to_pylist(), other.table.to_pylist())
        self.assertAlmostEqual(
            *(float(row_areas(y.geometry).sum()) for y in (one, other)), places=3
        )
        place = sources(one.lineage)[0].place
        self.assertEqual(place, f"{self.url}#sectors")

    def test_only_what_is_near_the_other_side_comes_over(self):
        """INPUT or OTHER of the service, in its CRS or another: as from files, with a box asked for."""
        sectors = polygene.read(f"{self.package}#sectors").take(np.array([2, 3]))
        near = self.folder / "two.gpkg"
        polygene.write(sectors, near, on_existing="replace")
        for crs in ("EPSG:32633", "OGC:CRS84"):
            here = polygene.reproject(sectors, crs).layer if crs != "EPSG:32633" else sectors
            polygene.write(replace(here, name="two"), near, on_existing="replace")
            for command, is_other, more in (
                ("clip", True, ()), ("erase", True, ()), ("imprint", True, ()), ("clip", False, ()),
                ("subset", True, ("--relation", "intersects")), ("join", True, ()),
            ):  # fmt: skip
                found = []
                for source, out in ((self.url, "web.gpkg"), (str(self.package), "file.gpkg")):
                    self.log.clear()
                    sides = (str(near), f"{source}#beds_kelda")
                    first, second = sides if is_other else sides[::-1]
                    done = polygene_here(
                        command, first, "--with", second, *more, "--replace", "-o", out,
                        folder=self.folder,
                    )  # fmt: skip
                    self.assertEqual(done.code, 0, done.err)
                    if source == self.url:
                        asked = [line for line in self.log if "/items" in line]
                        self.assertTrue(asked and "bbox=" in asked[0], asked)
                    found.append(polygene.read(f"{self.folder}/{out}"))
                with self.subTest(crs=crs, command=command):
                    one, other = found
                    self.assertEqual(one.table.to_pylist(), other.table.to_pylist())
                    np.testing.assert_array_equal(one.geometry.xy, other.geometry.xy)

    def test_pages_are_followed_and_their_number_is_checked(self):
        with mock.patch.object(features, "PAGE", 13):
            self.assertEqual(polygene.read(f"{self.url}#buoys").n_rows, 90)
        self.assertEqual(sum("offset=" in text for text in self.log), 6)
        whole = Service._items

        def less(service, name, layer, request):
            found = whole(service, name, layer, request)
            return replace(
                found, body=found.body.replace(b'"numberMatched":90', b'"numberMatched":91')
            )

        with (
            mock.patch.object(Service, "_items", less),
            self.assertRaisesRegex(FileError, "says that 91 features match and sent 90"),
        ):
            polygene.read(f"{self.url}#buoys")

    def test_a_service_that_is_moved_is_followed(self):
        """Relative links start at where the document was found (RFC 3986, 5.1.3)."""
        pages = {
            "/api/": {"links": [{"rel": "data", "href": "collections", "type": "application/json"}]},
            "/api/collections": {"collections": [{"id": "x", "links": [
                {"rel": "items", "href": "collections/x/items", "type": "application/geo+json"}]}]},
            "/api/collections/x/items": {"type": "FeatureCollection", "features": [
                {"type": "Feature", "geometry": None, "properties": {"n": 1}}]},
        }  # fmt: skip
        with serving(self.folder) as web:
            for path, told in pages.items():
                body = json.dumps(told).encode()
                web.tricks[path] = lambda h, w, body=body: send(h, w, 200, body)
            web.tricks["/api"] = lambda h, w: send(h, w, 301, Location="/api/")
            self.assertEqual(polygene.read(f"{web.address}/api#x").table.to_pylist(), [{"n": 1}])

    def test_a_page_that_is_none_and_a_crs_that_is_none(self):
        """In whichever page: a sentence with the address, and nothing kept of it."""
        uri = "http://www.opengis.net/spec/ogcapi-features-2/1.0/conf/crs"
        one = {
            "type": "Feature",
            "geometry": {"type": "Point", "coordinates": [1, 2]},
            "properties": {},
        }
        with serving(self.folder) as web:

            def answer(path, told):
                body = told if isinstance(told, bytes) else json.dumps(told).encode()
                web.tricks[path] = lambda h, w: send(h, w, 200, body)

            links = [{"rel": "data", "href": "/c"}, {"rel": "conformance", "href": "/k"}]
            answer("/api", {"links": links})
            answer("/k", {"conformsTo": [uri]})
            items = [{"rel": "items", "href": "/p0", "type": "application/geo+json"}]
            answer("/c", {"collections": [{"id": "x", "links": items}]})
            for k in range(7):
                following = [{"rel": "next", "href": f"/p{k + 1}", "type": "application/geo+json"}]
                answer(
                    f"/p{k}", {"type": "FeatureCollection", "features": [one], "links": following}
                )
            for body, said in (
                (b'{"type": "FeatureCollection", "features": [', "no valid JSON"),
                (b"<html>Sorry</html>", "HTML, a page for people"),
                (b'{"type": "FeatureCollection"}', "page 8, is no GeoJSON feature collection"),
            ):
                answer("/p7", body)
                with (
                    self.subTest(said),
                    self.assertRaisesRegex(FileError, f"{web.address}/p7.*{said}"),
                ):
                    polygene.read(f"{web.address}/api#x")
            own = {"id": "x", "links": items, "crs": ["urn:nothing"], "storageCrs": "urn:nothing"}
            answer("/c", {"collections": [own]})
            answer("/p7", {"type": "FeatureCollection", "features": [one]})
            layer = polygene.read(f"{web.address}/api#x")  # in that which needs no statement
            self.assertEqual((layer.n_rows, to_uri(layer.crs)), (8, CRS84))
            ((info,),) = polygene.layers(f"{web.address}/api").values()
            self.assertEqual(to_uri(info.crs), CRS84)

    def test_pages_in_a_circle_and_on_other_hosts_are_refused(self):
        whole = app._items_at
        for old, new, words in (
            ("offset=26", "offset=13", "in a circle"),
            (self.url, "http://127.0.0.9:1", "another host"),
        ):

            def wrong(request, name, more=None, old=old, new=new):
                found = whole(request, name, more)
                return found if more is None else found.replace(old, new)

            with (
                mock.patch.object(app, "_items_at", wrong),
                mock.patch.object(features, "PAGE", 13),
                cache.fetching_so(is_fresh=True),
                self.assertRaisesRegex(FileError, words),
            ):
                polygene.read(f"{self.url}#buoys")

    def test_pages_of_two_states_are_refused(self):
        whole = Service._items
        for change, words in (
            ((b'"id":120,', b'"id":119,'), "sent a feature twice"),
            ((b'"numberMatched":90', b'"numberMatched":91'), "not of one state"),
        ):

            def second(service, name, layer, request, change=change):
                found = whole(service, name, layer, request)
                is_second = request.query.get("offset") == ["13"]
                return replace(found, body=found.body.replace(*change)) if is_second else found

            with (
                mock.patch.object(Service, "_items", second),
                mock.patch.object(features, "PAGE", 13),
                cache.fetching_so(is_fresh=True),
                self.assertRaisesRegex(FileError, words),
            ):
                polygene.read(f"{self.url}#buoys")
        with mock.patch.object(features, "PAGE", 13), cache.fetching_so(is_fresh=True):
            polygene.read(f"{self.url}#buoys")
        real = http.streamed

        def lost(url, headers=None):
            if "offset=26" in url:
                raise http.OfflineError("gone")
            return real(url, headers)

        with (
            mock.patch.object(http, "streamed", lost),
            mock.patch.object(features, "PAGE", 13),
            self.assertWarns(UserWarning),
            self.assertRaisesRegex(FileError, "not of one state"),
        ):
            polygene.read(f"{self.url}#buoys")

    def test_other_peoples_pages_cannot_read_it(self):
        ask = urllib.request.Request(f"{self.url}/collections", headers={"Host": "example.org"})
        with self.assertRaises(urllib.error.HTTPError) as caught:
            urllib.request.urlopen(ask)
        self.assertEqual(caught.exception.code, 403)
        caught.exception.close()

    def test_nothing_and_the_whole_world(self):
        world = make.polygons([[[make.square(-180, -90, 90)]], [[make.square(90, 0, 90)]]])
        layers = {
            "none": self.service.layers["park"].take(np.zeros(0, np.int64)),
            "world": make.layer("world", world, polygene.crs.parse("EPSG:4326"), n=[1, 2]),
        }
        with mock.patch.object(self.service, "layers", layers):
            none = polygene.read(f"{self.url}#none")
            self.assertEqual((none.n_rows, none.geometry.family), (0, make.Family.POLYGONS))
            self.assertEqual(none.table.schema.names, layers["none"].table.schema.names)
            back = polygene.read(f"{self.url}#world")
            self.assertEqual(back.geometry.extent(), (-180.0, -90.0, 180.0, 90.0))
            _, headers, told = self.get("/collections/world/items", crs=of_4326)
            self.assertEqual(headers["Content-Crs"], f"<{of_4326}>")
            first = told["features"][0]["geometry"]["coordinates"]
            self.assertIn([-90.0, -180.0], first[0] if len(first[0][0]) == 2 else first[0][0])

    def test_steps_of_recipes_that_read_a_service_are_done_each_time(self):
        recipe = self.folder / "web.yaml"
        recipe.write_text(
            f"inputs: {{sectors: '{self.url}#sectors', park: 'tolva.gpkg#park'}}\n"
            "steps: [{clip: sectors, with: park, as: inside}]\noutputs: {inside: inside.gpkg}\n"
        )
        for _ in range(2):
            self.log.clear()
            done = polygene_here("run", "web.yaml", folder=self.folder)
            self.assertEqual(done.code, 0, done.err)
            self.assertNotIn("as last time", done.err)
            asked = [text for text in self.log if "/sectors/items" in text and "bbox" in text]
            self.assertEqual(len(asked), 1, self.log)
        self.assertIn(" 304 ", asked[0])
        with mock.patch.object(http, "streamed", side_effect=http.OfflineError("gone")):
            done = polygene_here("run", "web.yaml", folder=self.folder)
        self.assertEqual(done.code, 0, done.err)
        self.assertEqual(done.words.count("cannot be reached"), 1)
        self.assertEqual(polygene.read(f"{self.folder}/inside.gpkg").n_rows, 23)

    def test_kept_pages_serve_when_the_server_is_gone(self):
        own = polygene.read(f"{self.url}#cables")
        self.log.clear()
        polygene.read(f"{self.url}#cables")
        self.assertTrue(all(" 304 " in text for text in self.log), self.log)

        def gone(url, headers=None):
            raise http.OfflineError(f"{url} cannot be reached: no route")

        with mock.patch.object(http, "streamed", gone), self.assertWarns(UserWarning):
            same_geometry(self, polygene.read(f"{self.url}#cables").geometry, own.geometry)


if __name__ == "__main__":
    unittest.main()
