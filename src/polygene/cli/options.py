"""Options and parameter types that several commands share, each written once."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import completing
from polygene.cli.helping import Helpful
from polygene.errors import PolygeneError
from polygene.written import remark

if TYPE_CHECKING:
    from polygene.settings import Settings


class RecordedCommand(Helpful):
    """A command that keeps a record of what it reads, for the lineage of what it writes."""

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, **more)
        if any(parameter.name in _FETCHED for parameter in self.params):
            self.params.append(
                click.Option(
                    ["--fresh"],
                    is_flag=True,
                    help="Fetch what comes over the web anew, whatever is kept.",
                )
            )

        if any(parameter.name == "quiet" for parameter in self.params):
            self.params.append(
                click.Option(
                    ["--verbose"],
                    is_flag=True,
                    help="Tell of each stage how long it took, and the memory.",
                )
            )

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        ctx.meta["polygene.words"] = list(args)
        settings = ctx.meta["polygene.settings"] = settings_here()
        if settings is None:
            return super().parse_args(ctx, args)
        own = {parameter.name for parameter in self.params}
        ctx.default_map = {
            name: value
            for name, value in (
                ("precision", settings.precision),
                ("crs", settings.crs),
                ("encoding", settings.encoding),
            )
            if value and name in own
        }
        rest = super().parse_args(ctx, args)
        for name in _INPUTS & ctx.params.keys():
            ctx.params[name] = _found(ctx.params[name], settings)
        if ctx.params.get("out"):
            ctx.params["out"] = _destination(ctx.params["out"], settings, str(self.name))
        return rest

    def invoke(self, ctx: click.Context) -> Any:
        from polygene.cli.show import stages_at_the_end
        from polygene.formats.base import keeping_open
        from polygene.formats.codepages import texts_written_in
        from polygene.formats.packed import unpacking
        from polygene.formats.registry import piped_as
        from polygene.formats.sheets import tables_laid_out
        from polygene.formats.wishes import written_so

        is_raw, encoding = ctx.params.pop("raw", False), ctx.params.pop("encoding", None)
        layout = ctx.params.pop("sheet", None) or "", ctx.params.pop("header", None) or 0
        is_proved = not ctx.params.pop("no_proof", False)
        if_changed = ctx.params.pop("if_changed", "note")
        form = ctx.params.pop("piped", None)
        is_fresh = bool(ctx.params.pop("fresh", False))
        is_verbose = bool(ctx.params.pop("verbose", False))
        if form is not None and ctx.params.get("out") != "-":
            raise click.UsageError("--as says what standard output is to be; it goes with -o -")
        with (
            unpacking(), keeping_open(),
            texts_written_in(encoding or ""), tables_laid_out(*layout), piped_as(form or "geojson"),
            written_so(is_proved, if_changed, bool(is_raw)), _fetching(ctx, is_fresh),
            stages_at_the_end(is_verbose),
        ):  # fmt: skip
            return self._recorded(ctx)

    def _recorded(self, ctx: click.Context) -> Any:
        if not any(parameter.name == "licence" for parameter in self.params):
            return super().invoke(ctx)
        from polygene.record import Record, recording

        given = self._given(ctx)
        credit, licence = (ctx.params.pop(name, None) or "" for name in ("credit", "licence"))
        person = ""
        settings: Settings | None = ctx.meta["polygene.settings"]
        if settings is not None:
            credit, licence = credit or settings.credit, licence or settings.licence
            person = settings.person
            for name, value in (ctx.default_map or {}).items():
                given.setdefault(name, value)
        with recording(Record(str(self.name), given, credit, licence, person)):
            return super().invoke(ctx)

    def _given(self, ctx: click.Context) -> dict[str, Any]:
        """Return the options that were given, as a recipe would have them."""
        words = list(ctx.meta.get("polygene.words", ()))
        found, _, _ = self.make_parser(ctx).parse_args(words)
        given: dict[str, Any] = {}
        for parameter in self.params:
            is_own = isinstance(parameter, click.Option) and parameter.name not in NOT_RECORDED
            if is_own and found.get(str(parameter.name)) is not None:
                value = found[str(parameter.name)]
                given[max(parameter.opts, key=len).lstrip("-")] = value
        return given


@contextlib.contextmanager
def _fetching(ctx: click.Context, is_fresh: bool) -> Iterator[None]:
    """Let what comes over the web be kept as the settings say, fetched anew if that is asked for."""
    settings: Settings | None = ctx.meta["polygene.settings"]
    kept, tokens = (settings.cache, settings.tokens) if settings is not None else ("", "")
    if not (is_fresh or kept or tokens):
        yield
        return
    from polygene.cli.sizes import Size
    from polygene.remote.cache import fetching_so
    from polygene.remote.http import asking_with

    try:
        most = Size().convert(kept, None, None) if kept else None
    except click.UsageError as err:
        raise click.UsageError(f"polygene.toml: {err.message}") from err
    from polygene.settings import variables_of

    with fetching_so(is_fresh, most), asking_with(variables_of(tokens)):
        yield


def settings_here() -> Settings | None:
    """Return the settings that hold in the working folder, None if there are none."""
    here = Path.cwd()
    if not any((place / "polygene.toml").is_file() for place in (here, *here.parents)):
        return None  # found out without loading anything heavy
    from polygene.settings import find

    return find(here)


def _destination(out: str, settings: Settings, command: str) -> str:
    """Return a destination as the settings fill it in: a bare name with the folder, a folder with a
    format.
    """
    if out == "-":
        return out
    if settings.folder and "/" not in out and os.sep not in out:
        _make(Path(settings.folder))
        out = str(Path(settings.folder) / out)
        remark(f"the folder {settings.folder} is the one that polygene.toml names")
    is_folder = out.endswith(("/", os.sep)) or Path(out).is_dir()
    if is_folder and settings.format and command not in ("draw", "page", "tally", "audit"):
        return str(Path(out) / f"{{name}}.{settings.format.removeprefix('.')}")
    return out


_FETCHED = {"inputs", "input_", "files", "address", "first", "second", "with_", "recipe"}
_INPUTS = {"inputs", "input_", "files", "address", "first", "second", "with_"}


def _found(given: Any, settings: Settings) -> Any:
    """Return addresses of inputs as the settings complete them: what is not here is in their folder."""
    if isinstance(given, tuple):
        return tuple(_found(one, settings) for one in given)
    if not isinstance(given, str) or not settings.folder or "/" in given or os.sep in given:
        return given
    path, mark, layer = given.partition("#")
    there = Path(settings.folder) / path
    if not path or Path(path).exists() or not there.exists():
        return given
    remark(f"{path} is taken from the folder {settings.folder}, which polygene.toml names")
    return f"{there}{mark}{layer}"


def _make(folder: Path) -> None:
    from polygene.errors import FileError, reason_of

    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise FileError(f"cannot make the folder {folder}: {reason_of(err)}") from err


# What says where layers come from and go to, and how much is said, makes no other result.
NOT_RECORDED = (
    "with_",
    "out",
    "replace",
    "next_",
    "no_proof",
    "if_changed",
    "piped",
    "as_json",
    "quiet",
    "verbose",
    "stop_at_first",
    "keep_dump",
    "dry_run",
    "memory",
    "workers",
    "cluster",
    "tasks",
    "resume",
    "fresh",
    "credit",
    "licence",
    "help",
)


def command(name: str | None = None) -> Any:
    """Make a function a command that keeps a record, called as it is if no name is given."""
    return click.command(name, cls=RecordedCommand)


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
        if not (x0 < x1 and y0 < y1):
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
where = click.option(
    "--where", type=ExpressionType(), help="Take only those features of INPUT (CQL2 text)."
)
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


def names_of(text: str | None) -> list[str]:
    """Split names with commas between; blanks around them do not count."""
    return [name.strip() for name in (text or "").split(",") if name.strip()]


def terms_of(text: str | None) -> list[str]:
    """Split fields and expressions at the commas that are in no brackets and no quotes."""
    found, depth, quote = [""], 0, ""
    for sign in text or "":
        quote = "" if sign == quote else quote or (sign if sign in "'\"" else "")
        depth += 0 if quote else (sign == "(") - (sign == ")")
        if sign == "," and not quote and not depth:
            found.append("")
        else:
            found[-1] += sign
    return [term.strip() for term in found if term.strip()]


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
