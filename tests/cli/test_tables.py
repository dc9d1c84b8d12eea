"""The commands about attributes, on files."""

from __future__ import annotations

import re
import unittest

from tests.support.cli import WithSample


class Tables(WithSample):
    """Commands about attributes, on the sample."""

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
        depths = [r[0] for r in self.sql("a.gpkg", "SELECT depth_max FROM sectors ORDER BY rowid")]
        self.assertEqual(depths, sorted(depths, reverse=True))
        done = self.run_polygene(
            "fields", "tolva.gpkg#beds_kelda", "-o", "b.gpkg", "--type", "Date=date", "--dates",
            "DD.MM.YYYY", "--set", "pct = whole(replace(Cover, ' %', ''))", "--drop", "Note",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        kinds = {r[1]: r[2] for r in self.sql("b.gpkg", "PRAGMA table_info(beds_kelda)")}
        self.assertEqual((kinds["Date"], kinds["pct"]), ("DATE", "INTEGER"))
        self.assertNotIn("Note", kinds)
        lost = self.run_polygene("fields", "b.gpkg", "-o", "c.gpkg", "--type", "Cover=integer")
        self.assertEqual(lost.code, 1)
        self.assertRegex(lost.words, r"50 values do not fit integer.*row 1 \(id 1\): '59 %'")
        done = self.run_polygene(
            "measure", "tolva.gpkg#sectors", "--area", "area_ha=ha", "-o", "d.gpkg", "--centroid"
        )
        self.assertIn("0 of the stored values were off", done.words)
        self.assert_only("a.gpkg", "b.gpkg", "d.gpkg", "tolva.gpkg", "resurvey.geojson")

    def test_tally_to_the_terminal_and_to_files(self):
        line = ["tally", "tolva.gpkg#sectors", "--by", "district", "--take", "ha = sum(area(ha))"]
        done = self.run_polygene(*line, "--take", "n = count()", "-o", "t.csv")
        self.assertEqual(done.code, 0, done.err)
        self.assertRegex(done.out, r"all +22,252\.21 +24\n$")
        rows = (self.folder / "t.csv").read_text().splitlines()
        self.assertEqual((rows[0], len(rows)), ("district,ha,n", 7))
        self.assertEqual(self.run_polygene(*line, "-o", "t.md").code, 0)
        self.assertIn("| MI | 7,590.69 |", (self.folder / "t.md").read_text())
        self.assertEqual(self.run_polygene(*line, "-o", "t.csv").code, 1)
        self.assertEqual(self.run_polygene(*line, "-o", "t.parquet").code, 0)

    def test_compare_with_a_key(self):
        sheet = ["fields", "tolva.gpkg#beds_marram", "-o", "n.gpkg", "--set", "surveyor = 'N. Lie'"]
        self.run_polygene(*sheet, "--where", "bed_id > 1060")
        line = ["compare", "tolva.gpkg#beds_marram", "n.gpkg", "--key", "bed_id", "--strict"]
        done = self.run_polygene(*line)
        self.assertEqual(done.code, 1)
        self.assertRegex(done.out, r"other attributes +3 features: row 62 \(id 62\)")
        self.assertRegex(done.out, r"surveyor +text\(30\) +text\(30\) +3\n")

    def test_stored_areas_are_noticed_and_refreshed(self):
        line = ["clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", "out.gpkg"]
        self.assertIn("no longer true of 14 features", self.run_polygene(*line).words)
        done = self.run_polygene(*line, "--replace", "--refresh", "area_ha")
        self.assertIn("measured anew", done.words)
        ((total,),) = self.sql("out.gpkg", "SELECT sum(area_ha) FROM sectors")
        self.assertAlmostEqual(total, 12851.0, delta=0.1)


if __name__ == "__main__":
    unittest.main()
