"""Options and parameter types that several commands share, each written once."""

from __future__ import annotations

from typing import Any

import click

from polygene.cli import completing
from polygene.errors import PolygeneError


class BoxType(click.ParamType):
    """``XMIN,YMIN,XMAX,YMAX``."""

    name = "XMIN,YMIN,XMAX,YMAX"

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        if isinstance(value, tuple):
            return value
        try:
            x0, y0, x1, y1 = (float(part) for part in value.split(","))
        except ValueError:
            self.fail(f"{value!r} is no box; write four numbers, XMIN,YMIN,XMAX,YMAX", param, ctx)
        if not (x0 < x1 or x0 > x1) or not y0 < y1:
            self.fail(f"{value!r} encloses nothing; the order is XMIN,YMIN,XMAX,YMAX", param, ctx)
        return x0, y0, x1, y1


class DistanceType(click.ParamType):
    """A number with a unit of length, or in units of the CRS."""

    name = "DISTANCE"

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        from polygene.units import Distance

        if isinstance(value, Distance):
            return value
        try:
            distance = Distance.parse(value)
        except PolygeneError as err:
            self.fail(str(err), param, ctx)
        if distance.value <= 0:
            self.fail("it must be more than 0", param, ctx)
        return distance


class ExpressionType(click.ParamType):
    """A CQL2-Text expression."""

    name = "EXPR"

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        from polygene.table.expression import Expression

        if isinstance(value, Expression):
            return value
        try:
            return Expression(value)
        except PolygeneError as err:
            self.fail(str(err), param, ctx)


def _one_on_standard_output(ctx: click.Context, param: click.Parameter, value: Any) -> Any:
    """Refuse a layer and a summary both on standard output; asked for whichever comes last."""
    own = {**ctx.params, param.name: value}
    if own.get("out") == "-" and own.get("as_json"):
        raise click.UsageError("-o - writes the layer to standard output, where --json writes too")
    return value


some_inputs = click.argument(
    "inputs", metavar="[INPUT]...", nargs=-1, required=False, shell_complete=completing.addresses
)
inputs = click.argument(
    "inputs", metavar="INPUT...", nargs=-1, required=True, shell_complete=completing.addresses
)
with_ = click.option(
    "--with",
    "with_",
    metavar="OTHER",
    shell_complete=completing.addresses,
    help="The layer to work with.",
)
with_required = click.option(
    "--with",
    "with_",
    metavar="OTHER",
    required=True,
    shell_complete=completing.addresses,
    help="The layer to work with.",
)
with_several = click.option(
    "--with",
    "with_",
    metavar="OTHER",
    required=True,
    multiple=True,
    shell_complete=completing.addresses,
    help="The layer to work with; several are possible.",
)
origins = click.option(
    "--origins",
    is_flag=True,
    help="Add fields with the identifiers of the features that each piece is of.",
)
match = click.option(
    "--match",
    multiple=True,
    metavar="'FIELD = FIELD'",
    help="Let only features of one key have to do with each other.",
)


def where_of(words: str) -> Any:
    """Return ``--where``, with what it does."""
    return click.option("--where", type=ExpressionType(), help=f"{words} (CQL2 text).")


where = where_of("Take only those features of INPUT")
with_where = click.option(
    "--with-where", type=ExpressionType(), help="Take only those features of OTHER."
)
box = click.option(
    "--box", type=BoxType(), help="A rectangle, in the CRS of INPUT if no other is said."
)
box_crs = click.option(
    "--box-crs", metavar="CRS", help="The CRS that the box is in: EPSG:..., WKT, or a layer's."
)
_out = click.option(
    "-o",
    "--out",
    required=True,
    metavar="DESTINATION",
    callback=_one_on_standard_output,
    help="File, file#layer, folder/, a pattern such as 'out.gpkg#{name}_park' or '{district}.gpkg' "
    "of a field, or - for standard output.",
)
_out_optional = click.option(
    "-o",
    "--out",
    metavar="DESTINATION",
    callback=_one_on_standard_output,
    help="File, file#layer, folder/, or a pattern such as 'out.gpkg#{name}_park'.",
)
_credit = click.option(
    "--credit", metavar="TEXT", help="Whom to credit for the result; kept in its lineage."
)
_licence = click.option(
    "--licence", metavar="TEXT", help="The licence of the result; kept in its lineage."
)


raw = click.option(
    "--raw",
    is_flag=True,
    help="In CSV: write text that looks like a formula as it is, without an apostrophe.",
)


_if_changed = click.option(
    "--if-changed",
    type=click.Choice(["note", "refuse"]),
    default="note",
    show_default=True,
    help="What a format cannot hold as it is: write it and say so, or write nothing.",
)
_no_proof = click.option(
    "--no-proof", is_flag=True, help="Do not read what is written again to compare it."
)


_piped = click.option(
    "--as",
    "piped",
    type=click.Choice(["geojson", "arrow"]),
    help="What -o - writes: GeoJSON, a feature a line, or an Arrow stream.",
)


def proving(function: Any) -> Any:
    """Add whether files that are written are looked at again, and what a change by a format does."""
    return _if_changed(_no_proof(function))


def out(function: Any) -> Any:
    """Add the destination, and what its lineage is to say."""
    return _out(_piped(raw(proving(_credit(_licence(function))))))


def out_optional(function: Any) -> Any:
    """Add a destination that may be left out, and what its lineage is to say."""
    return _out_optional(_piped(raw(proving(_credit(_licence(function))))))


replace = click.option("--replace", is_flag=True, help="Overwrite results that exist.")
next_ = click.option(
    "--next",
    "next_",
    is_flag=True,
    help="Write beside what exists, under the next free number: zones_2.",
)
single_parts = click.option(
    "--single-parts", is_flag=True, help="Write each part as its own feature."
)
precision = click.option(
    "--precision",
    type=DistanceType(),
    help="Size of the grid that is computed on; 0.0001 map units, or 1e-9 degrees, if not given.",
)
snap = click.option(
    "--snap",
    type=DistanceType(),
    help="Move borders of INPUT nearer than this to OTHER onto it first.",
)
give_slivers = click.option(
    "--give-slivers",
    type=DistanceType(),
    metavar="WIDTH",
    help="Give parts thinner than this to the neighbour they border most.",
)
follow = click.option(
    "--follow",
    type=DistanceType(),
    help="How closely borders follow their course when they come from another CRS; 10 mm if not given.",
)
outside_use = click.option(
    "--outside-use",
    type=click.Choice(["refuse", "bring", "leave-out"]),
    default="refuse",
    show_default=True,
    help="Features outside the area that the first CRS is meant for.",
)
refresh = click.option(
    "--refresh", metavar="FIELDS", help="Measure stored areas or lengths anew in these fields."
)
apportion = click.option(
    "--apportion", metavar="FIELDS", help="Scale these by the share of the feature that is kept."
)
_crs = click.option(
    "--crs", metavar="CRS", help="The CRS of layers that state none, or a wrong one."
)
_encoding = click.option(
    "--encoding",
    metavar="NAME",
    help="How texts of Shapefiles and tables are written, such as utf-8 or cp850.",
)


_sheet = click.option(
    "--sheet", metavar="NAME", help="Of workbooks with several sheets: which one."
)
_header = click.option(
    "--header",
    type=click.IntRange(1),
    metavar="ROW",
    help="In which row the names of the fields are, in workbooks and CSV.",
)


def layout(function: Any) -> Any:
    """Add what is said of files of text and of tables: how they are written and laid out."""
    return _encoding(_sheet(_header(function)))


def crs(function: Any) -> Any:
    """Add what is said of layers whose files do not: their CRS, and `layout`."""
    return _crs(layout(function))


invalid = click.option(
    "--invalid",
    type=click.Choice(["mend", "refuse", "leave-out"]),
    default="mend",
    show_default=True,
    help="Invalid polygons: mend those that take part, refuse, or leave out.",
)
invalid_carried = click.option(
    "--invalid",
    type=click.Choice(["keep", "mend", "refuse", "leave-out"]),
    default="keep",
    show_default=True,
    help="Invalid polygons: keep as they are, mend, refuse, or leave out.",
)
keep_dump = click.option(
    "--keep-dump",
    type=click.Path(),
    metavar="FOLDER",
    help="If a proof fails: keep in this folder what is needed to find out why.",
)
stop_at_first = click.option(
    "--stop-at-first", is_flag=True, help="Of several inputs: let the first that fails stop all."
)
dry_run = click.option(
    "--dry-run", is_flag=True, help="Do all the work and tell of it, but write nothing."
)
json = click.option(
    "--json",
    "as_json",
    is_flag=True,
    callback=_one_on_standard_output,
    help="Print the summary as JSON.",
)
quiet = click.option("-q", "--quiet", is_flag=True, help="Print nothing but errors.")


relation = click.option(
    "--relation",
    default=None,
    metavar="RELATION",
    help="How they lie: intersects within contains covers covered-by touches crosses overlaps "
    "equals disjoint, or a pattern as T*F**F***.",
)


class PairType(click.ParamType):
    """``left=right``."""

    def __init__(self, name: str) -> None:
        self.name = name

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        left, equals, right = value.partition("=")
        if not (equals and left.strip() and right.strip()):
            self.fail(f"{value!r} is none; write it as {self.name}", param, ctx)
        return left.strip(), right.strip()


rename = click.option(
    "--rename", type=PairType("NEW=OLD"), multiple=True, help="Give a field another name."
)


def turned(pairs: tuple[tuple[str, str], ...]) -> dict[str, str]:
    """Return old name → new name; ``NEW=OLD``, as in ``--set`` and all else that makes a field."""
    return {old: new for new, old in pairs}


key = click.option(
    "--key",
    multiple=True,
    metavar="'FIELD = FIELD'",
    help="By key: a field or expression of INPUT, and of OTHER; several for keys of several.",
)
fold = click.option(
    "--fold",
    is_flag=True,
    help="In keys, let case, accents, blanks and zeros in front make no difference.",
)
keep = click.option("--keep", metavar="FIELDS", help="Keep only these fields, in this order.")
drop = click.option("--drop", metavar="FIELDS", help="Drop these fields.")
aggregate = click.option(
    "--aggregate",
    multiple=True,
    metavar="'NAME = FUNCTION(FIELD)'",
    help="Aggregate a field: count sum mean min max median first last agreed list commonest value.",
)
