"""The commands about attributes, and about features on their own, on files."""

from __future__ import annotations

import json
import math
import re
import unittest
from fractions import Fraction

import numpy as np

import polygene
from polygene.measures import row_areas
from tests.support import exact
from tests.support import generators as make
from tests.support.cli import WithSample


class Tables(WithSample):
    """Commands about attributes, on the sample."""

    in_process = True

    def test_the_two_surveys_by_a_proposed_and_edited_sheet(self):
        beds = ["tolva.gpkg#beds_marram", "tolva.gpkg#beds_kelda"]
        done = self.run_polygene("merge", *beds, "--propose", "beds.yaml")
        self.assertEqual((done.code, done.out), (0, ""), done.err)
        self.assertRegex(done.err, r"species +species +SPEC +text\(40\) +0\.\d\d\n")
        self.assertIn("only in beds_kelda: Note", done.words)
        sheet = self.folder / "beds.yaml"
        text = sheet.read_text()
        edited = re.sub(
            r"beds_kelda: SPEC.*",
            "beds_kelda: {field: SPEC, values: {Z. mar: Zostera marina, Z. nol: Zostera noltei}}",
            text,
        )
        sheet.write_text(edited)
        again = self.run_polygene("merge", *beds, "--match", "beds.yaml", "-o", "out.gpkg#beds")
        self.assertEqual(again.code, 2)
        self.assertRegex(again.words, r"beds.yaml, line \d+: \d+ values of field 'SPEC'.*'Rup'")
        self.assert_only("beds.yaml", "tolva.gpkg", "resurvey.geojson")
        sheet.write_text(edited.replace("noltei}}", "noltei, Rup: Ruppia maritima, '?': null}}"))
        done = self.run_polygene(
            "merge", *beds, "--match", "beds.yaml", "-o", "out.gpkg#beds", "--source", "survey"
        )
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("came out 116 features", done.words)
        counts = dict(self.sql("out.gpkg", "SELECT survey, count(*) FROM beds GROUP BY survey"))
        self.assertEqual(counts, {"beds_marram": 64, "beds_kelda": 52})
        kinds = {r[1]: r[2] for r in self.sql("out.gpkg", "PRAGMA table_info(beds)")}
        self.assertEqual(kinds["species"], "TEXT(40)")
        self.assertEqual((kinds["cover_pct"], kinds["surveyed"]), ("SMALLINT", "DATE"))
        self.assertIn("exists", self.run_polygene("merge", *beds, "--propose", "beds.yaml").err)

    def test_subset_fields_and_measure(self):
        done = self.run_polygene(
            "subset", "tolva.gpkg#sectors", "--where", "depth_max > 50", "--sort", "-depth_max",
            "--keep", "sector,depth_max", "--limit", "3", "-o", "a.gpkg",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("kept 3 of 24 features", done.words)
        depths = [r[0] for r in self.sql("a.gpkg", "SELECT depth_max FROM a ORDER BY rowid")]
        self.assertEqual(depths, sorted(depths, reverse=True))
        done = self.run_polygene(
            "fields", "tolva.gpkg#beds_kelda", "-o", "b.gpkg", "--type", "Date=date", "--dates",
            "DD.MM.YYYY", "--set", "pct = whole(replace(Cover, ' %', ''))", "--drop", "Note",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        kinds = {r[1]: r[2] for r in self.sql("b.gpkg", "PRAGMA table_info(b)")}
        self.assertEqual((kinds["Date"], kinds["pct"]), ("DATE", "INTEGER"))
        self.assertNotIn("Note", kinds)
        lost = self.run_polygene("fields", "b.gpkg", "-o", "c.gpkg", "--type", "Cover=integer")
        self.assertEqual(lost.code, 1)
        self.assertRegex(lost.words, r"46 values do not fit integer.*row 1 \(id 1\): '18 %'")
        done = self.run_polygene(
            "measure", "tolva.gpkg#sectors", "--area", "area_ha=ha", "-o", "d.gpkg", "--centroid"
        )
        self.assertIn("0 of the stored values were off", done.words)
        self.assert_only("a.gpkg", "b.gpkg", "d.gpkg", "tolva.gpkg", "resurvey.geojson")

    def test_tally_to_the_terminal_and_to_files(self):
        line = [
            "tally",
            "tolva.gpkg#sectors",
            "--by",
            "district",
            "--aggregate",
            "ha = sum(area(ha))",
        ]
        done = self.run_polygene(*line, "--aggregate", "n = count()", "-o", "t.csv")
        self.assertEqual(done.code, 0, done.err)
        self.assertRegex(done.out, r"all +24,383\.23 +24\n$")
        rows = (self.folder / "t.csv").read_text().splitlines()
        self.assertEqual((rows[0], len(rows)), ("district,ha,n", 7))
        self.assertEqual(self.run_polygene(*line, "-o", "t.md").code, 0)
        self.assertIn("| MI | 8,246.64 |", (self.folder / "t.md").read_text())
        # What ends a line or a text elsewhere stays in its cell.
        odd = make.layer("odd", make.points([[np.zeros(2)]] * 2), k=["a\r|b\x0b", "c\0d"])
        polygene.write(odd, self.folder / "odd.parquet")
        for name, wanted in (("o.md", r"| a \|b\x0b | 1 |"), ("o.csv", "\ncd,1\n")):
            done = self.run_polygene("tally", "odd.parquet", "--by", "k", "-o", name)
            self.assertIn(wanted, (self.folder / name).read_text())
        self.assertIn("1 value with signs of value zero, left out", done.words)
        large = self.run_polygene(
            "tally", "tolva.gpkg#park", "--aggregate", "v = sum(1e200 * 1e100)", "-o", "l.md"
        )
        for text in (large.out, (self.folder / "l.md").read_text()):
            self.assertIn("1e+300", text)
        self.assertEqual(self.run_polygene(*line, "-o", "t.csv").code, 1)
        self.assertEqual(self.run_polygene(*line, "-o", "t.parquet").code, 0)

    def test_a_table_has_rows_and_no_crs(self):
        (self.folder / "t.csv").write_text("code,n\nA,1\nB,\n")
        for words, wanted in [
            (("convert", "t.csv", "-o", "u.csv"), "t 2 rows, 2 fields written"),
            (("subset", "t.csv", "--where", "n = 5", "-o", "v.csv"), "0 of 2 rows .*no row is"),
            (
                ("fields", "t.csv", "--set", "n = 3", "--where", "n = 1", "-o", "w.csv"),
                "1 of 2 rows",
            ),
            (("tally", "t.csv", "--aggregate", "s = sum(n)"), "1 of 2 rows without a value"),
            (("join", "u.csv", "--with", "t.csv", "--key", "code", "-o", "x.csv"), "out 2 rows"),
        ]:
            done = self.run_polygene(*words)
            self.assertEqual(done.code, 0, done.err)
            self.assertRegex(done.words, wanted)
            self.assertNotIn("feature", done.words)

    def test_verbose_tells_of_each_stage(self):
        """Before an error too; the rows add up, and standard output has the facts alone."""
        line = (
            "clip",
            "tolva.gpkg#sectors",
            "--with",
            "tolva.gpkg#park",
            "-o",
            "v.gpkg",
            "--verbose",
        )
        done = self.run_polygene(*line, "--json")
        self.assertEqual(done.code, 0, done.err)
        json.loads(done.out)
        rows = [re.split(r"\s{2,}", line.strip()) for line in done.err.splitlines()]
        at = rows.index(["stage", "seconds", "processor", "MB at most"])
        stages = {row[0]: [float(v.replace(",", "")) for v in row[1:]] for row in rows[at + 1 :]}
        self.assertLessEqual(
            {"starting", "reading tolva.gpkg#sectors", "writing v.gpkg", "all"}, set(stages)
        )
        *parts, total = stages.values()
        for k in (0, 1):
            self.assertAlmostEqual(
                sum(part[k] for part in parts), total[k], delta=0.01 * len(parts)
            )
        self.assertEqual(max(part[2] for part in parts), total[2])
        self.assertGreater(total[2], 20)
        again = self.run_polygene(*line)
        self.assertEqual(again.code, 1)
        self.assertIn("starting", again.err)

    def test_compare_with_a_key(self):
        sheet = ["fields", "tolva.gpkg#beds_marram", "-o", "n.gpkg", "--set", "surveyor = 'N. Lie'"]
        self.run_polygene(*sheet, "--where", "bed_id > 1060")
        line = ["compare", "tolva.gpkg#beds_marram", "n.gpkg", "--key", "bed_id", "--strict"]
        done = self.run_polygene(*line)
        self.assertEqual(done.code, 1)
        self.assertRegex(done.out, r"edited +3 features, surveyor in 3: row 62 \(id 62\)")
        self.assertRegex(done.out, r"surveyor +text\(30\) +text\(30\) +3\n")
        self.assertRegex(done.words, "strict: what differs is .*3 edited")
        told = json.loads(self.run_polygene(*line, "--json").out)["results"][0]["changes"]
        edits = [row for row in told["every"] if row["change"] == "edited"]
        self.assertEqual([row["new"] for row in edits], ["N. Lie"] * 3)
        done = self.run_polygene(*line[:-1], "--report", "r.md", "-o", "c.gpkg")
        self.assertEqual(done.code, 0, done.err)
        report = (self.folder / "r.md").read_text(encoding="utf-8")
        self.assertEqual(report.count("| edited |"), 3)
        self.assertIn(
            "beds_marram and n: 0 added, 0 removed, 0 split, 0 merged, 0 moved, 3", report
        )
        self.assertIn("shift is in m, gained and lost are in m²", report)
        same = self.run_polygene("compare", "n.gpkg", "n.gpkg", "--key", "bed_id")
        self.assertRegex(same.out, r"the same +\d+ features: no change\n")

    def test_stored_areas_are_noticed_and_refreshed(self):
        line = ["clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", "out.gpkg"]
        self.assertIn("no longer true of 18 features", self.run_polygene(*line).words)
        done = self.run_polygene(*line, "--replace", "--refresh", "area_ha")
        self.assertIn("measured anew", done.words)
        ((total,),) = self.sql("out.gpkg", "SELECT sum(area_ha) FROM out")
        self.assertAlmostEqual(total, 11517.5, delta=0.1)


class Measures(WithSample):
    in_process = True

    def test_all_measures_of_polygons(self):
        """Each as it can be worked out from the vertices, exactly where that is possible."""
        done = self.run_polygene(
            "measure", "tolva.gpkg#sectors", "--area", "area_ha=ha", "--area", "m2", "--perimeter",
            "km", "--centroid", "--label-point", "--bounds", "--vertices", "--parts", "-o", "m.gpkg",
            "--json",
        )  # fmt: skip
        self.assertEqual((done.code, done.err), (0, ""))
        layer = polygene.read(self.folder / "m.gpkg")
        rows = layer.table.to_pylist()
        for row, parts in zip(rows, make.rows_of(layer.geometry), strict=True):
            xy = np.array([p for part in parts for ring in part for p in ring])
            box = [row[k] for k in ("x_min", "y_min", "x_max", "y_max")]
            self.assertEqual(box, [*xy.min(axis=0), *xy.max(axis=0)])
            self.assertEqual((row["vertices"], row["parts"]), (len(xy), len(parts)))
            points = exact.row_points(parts)
            inside = (Fraction(row["label_x"]), Fraction(row["label_y"]))
            self.assertEqual(exact.is_covered(points, inside), 1)
            (ring,) = points[0]  # sectors are simple
            twice = exact.twice_area(ring)
            self.assertAlmostEqual(row["area_m2"], float(abs(twice) / 2), delta=1e-6)
            self.assertAlmostEqual(row["area_ha"], row["area_m2"] / 1e4, delta=1e-9)
            moment = sum(
                (a[0] + b[0]) * (a[0] * b[1] - b[0] * a[1])
                for a, b in zip(ring, ring[1:], strict=False)
            )
            self.assertAlmostEqual(row["centroid_x"], float(moment / (3 * twice)), delta=1e-4)
            length = sum(math.dist(a, b) for a, b in zip(xy, xy[1:], strict=False))
            self.assertAlmostEqual(row["perimeter_km"], length / 1000, delta=1e-9)
        facts = json.loads(done.out)["results"][0]["summary"]
        totals = {total["field"]: total for total in facts["totals"]}
        self.assertEqual(totals["area_ha"]["changed"], 0)
        self.assertAlmostEqual(
            totals["area_m2"]["total"], sum(row["area_m2"] for row in rows), delta=1e-3
        )

    def test_lines_and_degrees(self):
        """Lengths in any unit; in degrees on the ellipsoid, near the planar ones."""
        self.run_polygene("reproject", "tolva.gpkg#cables", "--to", "EPSG:4326", "-o", "d.gpkg")
        lengths = {}
        for source in ("tolva.gpkg#cables", "d.gpkg"):
            done = self.run_polygene(
                "measure", source, "--length", "km", "--length", "a=m", "--length", "nmi", "-o",
                "l.gpkg", "--replace", "--json",
            )  # fmt: skip
            self.assertEqual(done.code, 0, done.err)
            table = polygene.read(self.folder / "l.gpkg").table.to_pydict()
            np.testing.assert_allclose(table["a"], np.array(table["length_km"]) * 1000, rtol=1e-12)
            np.testing.assert_allclose(table["a"], np.array(table["length_nmi"]) * 1852, rtol=1e-12)
            lengths[source] = np.array(table["a"])
            method = json.loads(done.out)["results"][0]["summary"]["method"]
            self.assertEqual("ellipsoid" in method, source == "d.gpkg")
        plane, ground = lengths.values()
        # The scale of the projection is within 0.04 % of one there.
        np.testing.assert_allclose(plane, ground, rtol=4.1e-4)

    def test_a_changed_stored_value_is_counted(self):
        done = self.run_polygene(
            "fields", "tolva.gpkg#sectors", "--set", "area_ha=area_ha * 2", "-o", "f.gpkg"
        )
        self.assertEqual(done.code, 0, done.err)
        done = self.run_polygene("measure", "f.gpkg", "--area", "area_ha=ha", "-o", "m.gpkg")
        self.assertRegex(done.words, r"area_ha.*24")

    def test_what_cannot_be_measured(self):
        for arguments, code, words in (
            (("cables", "--area", "ha"), 1, "layer 'cables' holds lines, which have no area"),
            (("buoys", "--perimeter", "m"), 1, "holds points, which have no perimeter"),
            (("cables", "--length", "parsec"), 2, "no unit of length; there are mm, cm, m, km"),
            (("cables",), 2, "say what to measure"),
        ):
            with self.subTest(arguments=arguments):
                layer, *rest = arguments
                done = self.run_polygene("measure", f"tolva.gpkg#{layer}", *rest, "-o", "x.gpkg")
                self.assertEqual(done.code, code)
                self.assertIn(words, done.words)
                self.assert_only("tolva.gpkg", "resurvey.geojson")


class Shapes(WithSample):
    in_process = True

    def test_audit_mend_and_audit_again(self):
        beds = "tolva.gpkg#beds_*"
        done = self.run_polygene("audit", beds, "--strict", "--details", "-o", "places.gpkg")
        self.assertEqual(done.code, 1, done.err)
        self.assertRegex(done.out, r"row 7 \(id 7\) +a ring crosses itself at 47\d+\.\d+ 80\d+")
        rows = self.sql("places.gpkg", 'SELECT "row", problem FROM beds_kelda_problems ORDER BY 1')
        self.assertEqual([r[0] for r in rows], [5, 12, 28, 41])
        mended = self.run_polygene("mend", beds, "-o", "out.gpkg")
        self.assertIn("3 of 64 features, the others as they were", mended.words)
        self.assertEqual(self.run_polygene("audit", "out.gpkg#*", "--strict").code, 0)
        facts = json.loads(self.run_polygene("audit", beds, "--json").out)["results"]
        self.assertEqual([f["sound"] for f in facts], [False, False])

    def test_invalid_polygons_are_mended_refused_or_left_out(self):
        line = ["clip", "tolva.gpkg#beds_marram", "--with", "tolva.gpkg#park", "-o", "out.gpkg"]
        done = self.run_polygene(*line, "--invalid", "refuse")
        self.assertEqual(done.code, 1)
        self.assertRegex(
            done.words, r"row 7 \(id 7\): a ring crosses itself, at .*3 of 64 features are invalid"
        )
        done = self.run_polygene(*line, "--invalid", "leave-out")
        self.assertIn("INPUT beds_marram: 61 of 64 features", done.words)
        self.assertIn("left out 3 of 64 features that were invalid: row 7 (id 7), row", done.words)
        done = self.run_polygene(*line, "--replace")
        self.assertRegex(done.words, r"valid all [\d,]+ checked")
        self.assertRegex(
            done.words,
            r"mended \d of \d+ features that were invalid: row 7 .* ha as drawn, .* ha after mending",
        )

    def test_what_only_carries_geometry_keeps_it_and_counts_the_invalid(self):
        """convert, fields, measure, parts, reproject, subset, join and merge."""
        name, before = (
            "tolva.gpkg#beds_marram",
            self.sql("tolva.gpkg", "SELECT geometry FROM beds_marram"),
        )
        for words in (
            ["convert", name], ["fields", name, "--drop", "bed_id"], ["subset", name, "--limit", "64"],
            ["measure", name, "--area", "ha"], ["join", name, "--with", "tolva.gpkg#park"],
            ["merge", name],
        ):  # fmt: skip
            with self.subTest(words[0]):
                done = self.run_polygene(*words, "-o", "out.gpkg#x", "--replace")
                self.assertEqual(done.code, 0, done.err)
                self.assertRegex(
                    done.words, "3 of 64 features are invalid and stay as they are: row 7"
                )
                self.assertEqual(self.sql("out.gpkg", "SELECT geometry FROM x"), before)
                done = self.run_polygene(
                    *words, "-o", "out.gpkg#x", "--replace", "--invalid", "mend"
                )
                self.assertIn("mended 3 of 64 features that were invalid", done.words)
                self.assertNotIn("stay as they are", done.words)

    def test_buffer_hull_and_parts(self):
        done = self.run_polygene(
            "buffer", "tolva.gpkg#slipways", "--rings", "100m,0.25km", "--bands", "-o", "b.gpkg"
        )
        self.assertEqual(done.code, 0, done.err)
        counts = self.sql("b.gpkg", "SELECT distance, count(*) FROM b GROUP BY 1")
        self.assertEqual(counts, [(100.0, 9), (250.0, 9)])
        done = self.run_polygene(
            "buffer", "tolva.gpkg#islands", "--distance-by", "people / 10 + 1", "--unit", "m",
            "-o", "c.gpkg",
        )  # fmt: skip
        self.assertIn("2 features without geometry or distance left out", done.words)
        for code, reason, line in [
            (2, "give one of --distance", "buffer tolva.gpkg#park -o x.gpkg"),
            (2, "'furlong' is no unit", "buffer tolva.gpkg#park --distance 1furlong -o x.gpkg"),
            (1, "shrinks polygons", "buffer tolva.gpkg#cables --distance=-5m -o x.gpkg"),
            (2, "rising", "buffer tolva.gpkg#park --rings 9m,5m -o x.gpkg"),
            (1, "no field 'nope'", "hull tolva.gpkg#park --by nope -o x.gpkg"),
        ]:
            done = self.run_polygene(*line.split())
            self.assertEqual((done.code, "Traceback" in done.err), (code, False), done.err)
            self.assertIn(reason, done.words)
        self.assertFalse((self.folder / "x.gpkg").exists())
        self.assertEqual(self.run_polygene("hull", "tolva.gpkg#buoys", "-o", "h.gpkg").code, 0)
        done = self.run_polygene("parts", "tolva.gpkg#islands", "--number", "n", "-o", "p.gpkg")
        self.assertIn("came out 13 features", done.words)


class ByPlace(WithSample):
    in_process = True

    def test_buoys_per_sector_with_tonnes(self):
        done = self.run_polygene(
            "join", "tolva.gpkg#sectors", "--with", "tolva.gpkg#buoys", "-o", "out.gpkg",
            "--aggregate", "tonnes = sum(tonnes)", "--aggregate", "moorings = count(tonnes)",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("pairs 89: 1 of sectors have no partner, 5 have one, 18 several", done.words)
        ((n, tonnes),) = self.sql("out.gpkg", "SELECT sum(matches), sum(tonnes) FROM out")
        wanted = self.sql(
            "tolva.gpkg", "SELECT count(*), sum(tonnes) FROM buoys WHERE geometry IS NOT NULL"
        )
        self.assertEqual(n, wanted[0][0])
        self.assertAlmostEqual(tonnes, wanted[0][1])
        done = self.run_polygene(
            "join", "tolva.gpkg#sectors", "--with", "tolva.gpkg#buoys", "-o", "x.gpkg",
            "--aggregate", "tonnes = sum(tonnes)", "--pairs",
        )  # fmt: skip
        self.assertEqual(done.code, 2)
        self.assertIn("give one of --pairs, --best and --aggregate", done.words)
        self.assertFalse((self.folder / "x.gpkg").exists())

    def test_nearest_slipway_to_each_buoy_with_lines_to_it(self):
        done = self.run_polygene(
            "join", "tolva.gpkg#buoys", "--with", "tolva.gpkg#slipways", "--relation", "nearest",
            "--keep", "name", "--up-to", "5km", "-o", "out.gpkg#near", "--links", "out.gpkg#links",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        rows = self.sql("out.gpkg", "SELECT name, distance FROM near WHERE name IS NOT NULL")
        self.assertLessEqual(max(r[1] for r in rows), 5000)
        ((links,),) = self.sql("out.gpkg", "SELECT count(*) FROM links")
        self.assertEqual(links, len(rows))

    def test_within_and_intersects_and_the_rows_they_differ_in(self):
        line = ["subset", "tolva.gpkg#beds_marram", "--with", "tolva.gpkg#sectors"]
        one_district = ["--with-where", "district = 'MI'"]
        done = self.run_polygene(
            *line, *one_district, "--relations", "--differ", "within,intersects"
        )
        self.assertEqual(done.code, 0, done.err)
        counts = dict(re.findall(r"^  ([a-z-]+) +(\d+)$", done.out, re.MULTILINE))
        self.assertRegex(done.out, r"intersects, not within +17 features: row \d+ \(id \d+\)")
        for relation in ("within", "intersects", "disjoint"):
            done = self.run_polygene(
                *line, *one_district, "--relation", relation, "-o", f"{relation}.gpkg"
            )
            self.assertIn(f"kept {counts[relation]} of 64 features", done.words)
        for code, reason, more in [
            (2, "there is no relation 'inside'", ["--relation", "inside", "-o", "x.gpkg"]),
            (2, "need --with OTHER", []),
            (1, "what they can be is", ["--with", "tolva.gpkg#buoys", "--relation", "within"]),
        ]:
            base = line if more and "--with" not in more else line[:2]
            out = [] if "-o" in more else ["-o", "x.gpkg"]
            given = more or ["--relation", "within"]
            done = self.run_polygene(*base, *given, *out)
            self.assertEqual((done.code, "Traceback" in done.err), (code, False), done.err)
            self.assertIn(reason, done.words)


class Folders(WithSample):
    in_process = True

    def test_five_formats_at_once_and_one_corrupt_file(self):
        folder = self.folder / "in"
        folder.mkdir()
        for name, file in [
            ("sectors", "sectors.shp"), ("buoys", "buoys.parquet"), ("beds_kelda", "kelda.csv"),
            ("ferry_lanes", "lanes.ndjson"), ("islands", "islands.gpkg"),
        ]:  # fmt: skip
            done = self.run_polygene("convert", f"tolva.gpkg#{name}", "-o", f"in/{file}")
            self.assertEqual(done.code, 0, done.err)
        (folder / "bad.gpkg").write_bytes(self.package.read_bytes()[:3000])
        line = ["clip", "in/", "--with", "tolva.gpkg#park", "--crs", "EPSG:32633", "-o", "out.gpkg"]
        stopped = self.run_polygene(*line, "--stop-at-first")
        self.assertEqual(stopped.code, 1)
        self.assertFalse((self.folder / "out.gpkg").exists())
        done = self.run_polygene(*line)
        self.assertEqual(done.code, 1)
        self.assertIn("5 layers clipped with park", done.words)
        self.assertRegex(done.words, r"failed in/bad.gpkg#bad: .* damaged or cut short")
        direct = ["clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", "direct.gpkg"]
        self.run_polygene(*direct)
        areas = [
            sorted(row_areas(polygene.read(f"{self.folder}/{f}").geometry))
            for f in ("out.gpkg#sectors", "direct.gpkg")
        ]
        self.assertEqual(*areas)
        listed = self.run_polygene("layers", "in")
        self.assertEqual(listed.code, 1)
        self.assertIn("sectors.shp  Shapefile, 1 layer", listed.out)

    def test_reproject_by_code_and_by_a_layer(self):
        done = self.run_polygene(
            "reproject", "tolva.gpkg#park", "--to", "EPSG:3035", "-o", "a.gpkg"
        )
        self.assertEqual(done.code, 0, done.err)
        done = self.run_polygene("reproject", "a.gpkg", "--to", "tolva.gpkg#park", "-o", "b.gpkg")
        done = self.run_polygene("compare", "tolva.gpkg#park", "b.gpkg", "--json")
        (facts,) = json.loads(done.out)["results"]
        self.assertEqual(facts["first"]["crs"], facts["second"]["crs"])
        self.assertAlmostEqual(facts["first"]["size"], facts["second"]["size"], delta=1)
        done = self.run_polygene("reproject", "tolva.gpkg#park", "--to", "EPSG:0", "-o", "c.gpkg")
        self.assertEqual(done.code, 1)
        self.assertIn("is no CRS that is known here", done.words)


class Ask(WithSample):
    in_process = True

    def test_what_it_says_is_what_the_commands_then_give(self):
        layers = ("tolva.gpkg#sectors", "tolva.gpkg#beds_marram")
        document = json.loads(self.run_polygene("ask", *layers, "--json").out)
        told = document["results"][0]
        for one in told["overlays"]:
            done = self.run_polygene(
                one["command"], layers[0], "--with", layers[1], "-o", "o.gpkg", "--replace"
            )
            self.assertEqual(done.code, 0, done.err)
            layer = polygene.read(f"{self.folder}/o.gpkg")
            self.assertEqual(layer.n_rows, one["features"], one["command"])
            self.assertEqual(layer.table.num_columns, one["fields"])
            self.assertAlmostEqual(row_areas(layer.geometry).sum(), one["size"], places=3)
        for relation, n in told["relations"].items():
            words = ("subset", layers[0], "--with", layers[1], "--relation", relation)
            self.run_polygene(*words, "-o", "r.gpkg", "--replace")
            self.assertEqual(polygene.read(f"{self.folder}/r.gpkg").n_rows, n, relation)
        self.assertEqual(told["admitted"]["beds_marram"]["mended"]["count"], 3)
        self.assertIn("beds_marram: mended 3 of 64 features", document["notes"][0])
        lines = self.run_polygene("ask", "tolva.gpkg#cables", "resurvey.geojson")
        self.assertIn("resurvey was brought from OGC:CRS84", " ".join(lines.err.split()))
        lines = self.run_polygene("ask", "tolva.gpkg#cables", "tolva.gpkg#park")
        self.assertRegex(lines.out, r"union +not for these: INPUT, layer 'cables', holds lines")
        none = self.run_polygene("ask", "tolva.gpkg#park", "tolva.gpkg#buoys")
        self.assertEqual(none.out.count("not for these"), 1)
        self.assert_only("tolva.gpkg", "resurvey.geojson", "o.gpkg", "r.gpkg")


if __name__ == "__main__":
    unittest.main()
