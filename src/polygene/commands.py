"""The table of commands: what each is and does, once, for help, messages, recipes, Python and docs.

Importing it loads nothing else, so that the help is there at once.
"""

from __future__ import annotations

from typing import Literal

from polygene.classes import dataclass

GROUPS = {
    "look": "Look at layers",
    "prepare": "Prepare them",
    "derive": "Derive new ones",
    "figure": "Measure and tabulate",
    "repeat": "Repeat and learn",
}
LIKE_INPUT = "OTHER if INPUT is"  # what has no area takes none away


@dataclass(frozen=True)
class Command:
    """What a command is.

    group : where the list of commands has it; what : one sentence for that list
    is_step : whether it may be a step of a recipe
    keeps_fields, kind : whether INPUT's fields stay; what kind of geometry comes out: INPUT's, or
        polygons, or that is not known beforehand
    needs_polygons : of whom, ``INPUT and OTHER``, ``OTHER``, or `LIKE_INPUT`
    figure : endings of what it makes, if that is no layer
    overlay : what it does to INPUT with OTHERs, if it does
    takes_tables : whether tables without geometry can be worked on too
    with_words : what `--with` is for, if not ``clip with`` and the like
    """

    group: str
    what: str
    is_step: bool = False
    keeps_fields: bool = False
    kind: Literal["INPUT's", "polygons", ""] = ""
    needs_polygons: str = ""
    figure: tuple[str, ...] = ()
    overlay: OverlayWords | None = None
    with_words: str = ""
    takes_tables: bool = False


@dataclass(frozen=True)
class OverlayWords:
    """How an overlay is asked for and told.

    done : what INPUT is afterwards, as in ``clipped with``
    came : what came out, in words with fields of the summary, and ``own``, ``other`` (the one OTHER, or
        any) and ``all`` (their names)
    lost : where features of INPUT lay of which nothing came out
    takes : how many OTHERs; has_origins : whether pieces can name the rows they are of
    takes_match : whether features can be asked to have a key in common
    help : what ``--help`` says, for those that need no more than the common options
    """

    done: str
    came: str
    lost: str = "lay outside"
    takes: Literal["one", "several"] = "one"
    has_origins: bool = False
    takes_match: bool = False
    help: str = ""


_IN_INPUT_ONLY = "{input_only:,} in {own} only"
_IN_OTHER_ONLY = "{other_only:,} in {other} only"

COMMANDS = {
    "layers": Command("look", "lists what is in files: layers, geometry, features, CRS, extent"),
    "peek": Command(
        "look",
        "a layer's fields with types, nulls and ranges, and some of its features",
        takes_tables=True,
    ),
    "audit": Command(
        "look",
        "finds problems of geometry and attributes, with feature, place and reason",
        takes_tables=True,
    ),
    "check": Command("look", "holds files to the standards of their formats, clause by clause"),
    "compare": Command(
        "look", "two layers side by side, and which features changed", takes_tables=True
    ),
    "draw": Command(
        "look",
        "a map picture of one or several layers",
        is_step=True,
        figure=(".png", ".svg", ".pdf"),
    ),
    "page": Command(
        "look",
        "a page of HTML to look at layers: map, table and problems, linked, in one file",
        is_step=True,
        figure=(".html", ".htm"),
        takes_tables=True,
    ),
    "lineage": Command("look", "how a layer came about: sources, steps, options, credits"),
    "ask": Command("look", "what each overlay and relation of two layers would yield"),
    "find": Command("look", "from a word of the trade to the command, filled in"),
    "mend": Command(
        "prepare", "makes invalid polygons valid and says what it changed", True, True, "INPUT's"
    ),
    "subset": Command(
        "prepare",
        "keeps features by attributes, by how they lie to others, or a box",
        True,
        True,
        "INPUT's",
        with_words="choose by",
        takes_tables=True,
    ),
    "fields": Command(
        "prepare",
        "renames, retypes, computes, drops and reorders fields",
        True,
        False,
        "INPUT's",
        takes_tables=True,
    ),
    "reproject": Command("prepare", "changes the CRS", True, True, "INPUT's"),
    "convert": Command(
        "prepare",
        "writes layers in another format or gathers them in one file",
        True,
        True,
        "INPUT's",
        takes_tables=True,
    ),
    "clip": Command(
        group="derive",
        what="keeps what lies inside OTHER",
        is_step=True,
        keeps_fields=True,
        kind="INPUT's",
        needs_polygons="OTHER",
        overlay=OverlayWords("clipped with", "{whole:,} whole, {cut:,} cut"),
    ),
    "erase": Command(
        group="derive",
        what="removes what lies inside OTHER",
        is_step=True,
        keeps_fields=True,
        kind="INPUT's",
        needs_polygons=LIKE_INPUT,
        overlay=OverlayWords(
            "erased with",
            "{whole:,} whole, {cut:,} cut",
            "lay inside OTHER",
            takes_match=True,
            help="""Remove what lies inside OTHER; its border counts as inside.

INPUT is one or several layers of any kind, OTHER one of polygons. What erase removes is what
clip keeps.

\b
Example:
  polygene erase tolva.gpkg#sectors --with tolva.gpkg#islands -o water.gpkg""",
        ),
    ),
    "intersect": Command(
        "derive",
        "the shared pieces, with the attributes of both",
        True,
        needs_polygons=LIKE_INPUT,
        overlay=OverlayWords("intersected with", "{both:,} in {own} and {all}", takes="several"),
    ),
    "union": Command(
        group="derive",
        what="all pieces of both, each with the attributes of what covers it",
        is_step=True,
        keeps_fields=False,
        kind="polygons",
        needs_polygons="INPUT and OTHER",
        overlay=OverlayWords(
            "united with",
            f"{{both:,}} in {{own}} and {{other}}, {_IN_INPUT_ONLY}, {_IN_OTHER_ONLY}",
            takes="several",
        ),
        with_words="unite with",
    ),
    "imprint": Command(
        group="derive",
        what="all of INPUT, split along OTHER, with its attributes inside",
        is_step=True,
        keeps_fields=False,
        kind="INPUT's",
        needs_polygons="OTHER",
        overlay=OverlayWords(
            "imprinted with",
            f"{{both:,}} in {{own}} and {{other}}, {_IN_INPUT_ONLY}",
            has_origins=True,
            help="""Split INPUT along OTHER; pieces inside it get its attributes.

All of INPUT comes out; what lies outside OTHER has nulls in its fields. INPUT may be of any
kind, OTHER is one layer of polygons.

\b
Example:
  polygene imprint tolva.gpkg#cables --with tolva.gpkg#sectors -o lanes.gpkg""",
        ),
        with_words="split along",
    ),
    "contrast": Command(
        group="derive",
        what="what lies in exactly one of the layers (symmetric difference)",
        is_step=True,
        keeps_fields=False,
        kind="polygons",
        needs_polygons="INPUT and OTHER",
        overlay=OverlayWords(
            "contrasted with",
            f"{_IN_INPUT_ONLY}, {_IN_OTHER_ONLY}",
            "lay inside OTHER",
            "several",
            has_origins=True,
            help="""Keep what lies in exactly one of the layers: their symmetric difference.

For two states of one thing: what was and is no more, what is and was not. Each piece has the
attributes of its layer, and nulls in the fields of the others.

\b
Example:
  polygene contrast tolva.gpkg#beds_marram --with resurvey.geojson \\
    -o changed.gpkg""",
        ),
    ),
    "supersede": Command(
        group="derive",
        what="OTHER replaces INPUT wherever it lies; the rest stays",
        is_step=True,
        keeps_fields=False,
        kind="INPUT's",
        needs_polygons="INPUT and OTHER",
        overlay=OverlayWords(
            "superseded by",
            "{input_only:,} of {own}, {other_only:,} of {all}",
            "lay inside OTHER",
            "several",
        ),
        with_words="lay over INPUT",
    ),
    "merge": Command(
        "derive", "several layers into one, reconciling their fields", True, takes_tables=True
    ),
    "dissolve": Command(
        "derive",
        "joins features that agree in some fields, or all of them",
        True,
        False,
        "INPUT's",
    ),
    "buffer": Command("derive", "everything within a distance", True, False, "polygons"),
    "hull": Command(
        "derive", "the convex hull of all features, of each, or by group", True, False, "polygons"
    ),
    "parts": Command(
        "derive",
        "multi-part features to single parts, or single parts together",
        True,
        False,
        "INPUT's",
    ),
    "join": Command(
        "derive",
        "carries attributes across by place: counts, sums, the nearest",
        True,
        False,
        "INPUT's",
        takes_tables=True,
    ),
    "measure": Command(
        "figure", "adds area, length, perimeter, centroid and other fields", True, False, "INPUT's"
    ),
    "tally": Command(
        "figure",
        "a table of counts, areas or other sums by one or two fields",
        is_step=True,
        figure=(".csv", ".md", ".parquet"),
        takes_tables=True,
    ),
    "run": Command("repeat", "runs a recipe file: inputs, steps, outputs"),
    "serve": Command("repeat", "lets programs read layers over HTTP, as OGC API - Features"),
    "demo": Command("repeat", "writes the sample data and works through an example on it"),
}
