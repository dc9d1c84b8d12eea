"""Words and phrases that people of the trade come with, and the command that each leads to."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

import click

from polygene.cli.filling import Here, filled
from polygene.cli.main import cli
from polygene.commands import COMMANDS
from polygene.finding import OPTIONS, entries, find
from polygene.finding.__main__ import page

NONE = ""
WORDS = {
    "clip": "clip crop mask cut-out extract-by-area",
    "erase": "difference subtract minus remove-overlap erase",
    "intersect": "intersection intersect intersection-points",
    "union": "union overlay self-intersection flatten",
    "imprint": "identity split-by slivers eliminate snap tolerance",
    "contrast": "symmetric-difference symmetrical-difference xor exclusive-or",
    "supersede": "update patch stamp",
    "merge": "merge append concatenate combine-layers field-mapping schema-matching",
    "dissolve": "dissolve aggregate-polygons unary-union amalgamate",
    "parts": "explode multipart-to-singlepart singleparts collect multipart",
    "hull": "convex-hull hull",
    "buffer": "buffer rings multi-ring-buffer negative-buffer corridor one-sided-buffer",
    "join": "table-join near nearest nearest-neighbour spatial-join join-by-location distance-matrix "
            "areal-interpolation largest-overlap count-points-in-polygon",
    "subset": "select-by-location select-by-attribute filter query sort extract-by-location bbox "
              "within-distance touches contains de-9im",
    "tally": "pivot crosstab summary-statistics statistics frequency chart group-by",
    "fields": "field-calculator rename-field add-field delete-field cast",
    "measure": "area length perimeter hectares centroid minimum-bounding-rectangle calculate-geometry",
    "mend": "repair-geometry make-valid fix-geometry gaps coverage",
    "audit": "validate check-geometry topology-check duplicates lint",
    "convert": "export split-by-attribute import save-as define-projection precision spatial-index",
    "reproject": "project reproject transform projection crs",
    "layers": "info describe list-layers zip",
    "check": "conformance compliance file-validator",
    "peek": "attribute-table browse unique-values",
    "compare": "diff changes change-detection",
    "draw": "map plot thematic-map symbology",
    "page": "web-map viewer html interactive-map",
    "lineage": "provenance lineage history",
    "run": "workflow script recipe batch",
    "demo": "tutorial example",
    NONE: "simplify generalise voronoi grid raster routing geocode digitise polygonize "
          "densify heatmap basemap",
}  # fmt: skip
PHRASES = {
    "imprint": ["length of road per municipality", "split roads by district and keep the rest",
                "cut parcels along the flood zone",
                "snap nearly coincident borders of two layers"],
    "clip": ["cut all layers to the study area", "crop everything to the park"],
    "erase": ["remove water from land", "land without the lakes",
              "subtract protected areas from the concession"],
    "intersect": ["area where both layers overlap", "the common area of soils and parcels"],
    "union": ["all combinations of soil and land use"],
    "contrast": ["what lies in only one of the two surveys"],
    "supersede": ["paste the newer survey over the master"],
    "merge": ["put together three shapefiles with different fields", "stack last year and this year"],
    "dissolve": ["merge polygons by attribute", "group municipalities by county and remove boundaries"],
    "parts": ["break apart multipart features"],
    "buffer": ["zone around all wells", "everything within a safety zone of the pipeline",
               "shrink polygons by ten metres", "buffer distance from field"],
    "join": ["percentage of each district covered by forest", "point in polygon",
             "distance from each house to the river", "attach a population csv by code",
             "people within a distance of the line", "count trees in each district",
             "sum of population per zone inside",
             "nearest hospital for every school", "assign zone to each point",
             "transfer attributes from parcels to points", "split people by area share",
             "join a csv table by key", "vlookup of district codes with leading zeros"],
    "subset": ["select features within the park", "which parcels are in the flood zone",
               "neighbouring parcels that touch", "points outside polygons",
               "keep only open wells where status is open",
               "buildings no further than 100 m from a road", "select schools that touch the zone",
               "parcels inside flood zone", "areas larger than 2 ha"],
    "tally": ["count by type", "cross table of species and district", "report areas by class",
              "bar chart of totals"],
    "fields": ["reorder columns", "if then else in a field", "rename column",
               "calculate a new field from two others", "change type text to number"],
    "measure": ["compute area in acres", "add area in hectares", "add x y coordinates",
                "length of lines in km"],
    "mend": ["fix invalid geometry", "repair self intersections", "close gaps between polygons"],
    "audit": ["find errors in a layer", "find duplicate features", "check validity before the overlay"],
    "convert": ["xy to point", "umlauts are wrong", "save as shapefile", "export to geojson",
                "set crs of a layer with missing prj"],
    "reproject": ["convert coordinates to utm", "change the projection to wgs84"],
    "compare": ["what changed between two versions", "added and removed features"],
    "draw": ["make a thematic map", "print a map of the results"],
    "page": ["an interactive map in the browser", "zoom in and click on features"],
    "layers": ["what is in this file"],
    "check": ["does the file follow its standard", "is this file valid geopackage"],
    "peek": ["show the attribute table", "list unique values of a field"],
    "lineage": ["how was this layer made"],
    "run": ["automate a workflow of ten steps"],
    NONE: ["smooth the coastline", "shortest path on a road network", "interpolate a raster",
           "thiessen polygons around stations", "extract vertices as points",
           "split polygons by lines"],
}  # fmt: skip
NEW = {
    "erase": ["take the ponds out of the meadows and subtract them"],
    "clip": ["restrict rivers to our catchment"],
    "join": ["how many nests lie in every hexagon, count them"],
    "subset": ["only those wells that are close to the border"],
    "dissolve": ["unite all neighbouring stands of the same owner"],
    "mend": ["my polygons are invalid, heal them"],
    "buffer": ["grow reserves outward"],
    "measure": ["acres of every field"],
    "convert": ["from gml file format to parquet"],
    "tally": ["totals for each owner"],
}


class Finding(unittest.TestCase):
    def test_every_word_leads_home(self):
        words = [(w.replace("-", " "), c) for c, text in WORDS.items() for w in text.split()]
        self.assertGreaterEqual(len(words), 103)
        wrong = {w: [e.command for e in find(w)] for w, c in words if _first(w) != c}
        self.assertEqual(wrong, {})

    def test_phrases_lead_home(self):
        phrases = [(p, c) for c, texts in PHRASES.items() for p in texts]
        self.assertGreaterEqual(len(phrases), 60)
        wrong = {p: [e.command for e in find(p)] for p, c in phrases if _first(p) != c}
        self.assertEqual(wrong, {})

    def test_a_length_is_a_distance(self):
        """Whatever number and unit somebody has in mind, features by distance are meant."""
        for text in (
            "which beds are within 200 m of a buoy",
            "houses closer than 50m to a road",
            "everything within 5 miles of a school",
            "less than 2 km from the coast",
        ):
            self.assertIn("--up-to", find(text)[0].example, text)

    def test_phrases_that_nobody_foresaw(self):
        """Written after the table, and not to be made to fit: most of them are to come first."""
        tries = [(p, c) for c, texts in NEW.items() for p in texts]
        right = sum(_first(p) == c for p, c in tries)
        self.assertGreaterEqual(right, 8, {p: _first(p) for p, c in tries if _first(p) != c})

    def test_the_page_of_the_docs_is_that_of_the_table(self):
        """``make pages`` writes it anew."""
        self.assertEqual((Path(__file__).parents[2] / "docs" / "words.md").read_text(), page())

    def test_layers_may_be_called_like_the_words_of_examples(self):
        fields = {"v": "double", "t": "string"}
        names = (("ROUTES_OUT", "line"), ("FIELD", "polygon"))
        here = [Here(f"{name}.fgb", name, kind, 9, fields) for name, kind in names]
        text = filled("clip INPUT --with OTHER -o OUT", "clip routes", here)
        self.assertEqual(
            text, "polygene clip ROUTES_OUT.fgb --with FIELD.fgb -o ROUTES_OUT_clip.gpkg"
        )
        self.assertEqual(
            filled("dissolve INPUT --by FIELD", "", here[:1]),
            "polygene dissolve ROUTES_OUT.fgb --by t",
        )

    def test_a_length_and_layers_are_filled_in_as_they_were_said(self):
        """One word means one layer, even where the names of several begin with it."""
        here = [
            Here(f"{name}.fgb", name, "polygon", 9, {}) for name in ("beds_a", "beds_b", "park")
        ]
        example = "subset INPUT --with OTHER --up-to 100m -o OUT"
        for text, wanted in {
            "which beds are within 1.5 miles of the park": "beds_a.fgb --with park.fgb --up-to 1.5mi",
            "beds_b up to 20m from beds_a": "beds_b.fgb --with beds_a.fgb --up-to 20m",
            "park within 1,500 m of beds": "park.fgb --with beds_a.fgb --up-to 100m",
        }.items():
            self.assertIn(f"subset {wanted} -o", filled(example, text, here))

    def test_what_is_not_known_is_said_to_be(self):
        for text in ("florps", "", "xyzzy plugh", "12 34"):
            self.assertEqual(find(text), [], text)

    def test_examples_are_commands_as_they_are(self):
        """Every option of every example is one of its command's."""
        seen: dict[str, str] = {}
        for entry in entries():
            for word in entry.words:
                self.assertIsNone(seen.get(word), f"{word} is there twice")
                seen[word] = entry.command
            if not entry.example:
                self.assertRegex(entry.sentence, "not|no ")
                continue
            self.assertIn(entry.command, COMMANDS)
            command = cli.get_command(click.Context(cli), entry.command)
            known = {o for p in command.params for o in (*p.opts, *p.secondary_opts)}
            for option in re.findall(r"(?<!\S)--?[a-z][\w-]*", entry.example):
                self.assertIn(option, known, entry.example)

    def test_options_called_otherwise_are_none_of_ours(self):
        context = click.Context(cli)
        ours = {o for c in COMMANDS for p in cli.get_command(context, c).params for o in p.opts}
        named = {word for text in OPTIONS.values() for word in re.findall(r"--[\w-]+", text)}
        self.assertEqual(named - ours, set())


def _first(text: str) -> str | None:
    found = find(text)
    return found[0].command if found else None


if __name__ == "__main__":
    unittest.main()
