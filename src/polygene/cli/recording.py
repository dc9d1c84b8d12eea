"""Commands whose results carry with them how they were made; what they are given, found."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from polygene.cli.helping import Helpful
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
        try:
            rest = super().parse_args(ctx, args)
        except click.BadParameter as err:
            own_name = str(err.param.name) if err.param is not None else ""
            if ctx.get_parameter_source(own_name) is ParameterSource.DEFAULT_MAP:
                raise click.UsageError(f"polygene.toml: {own_name}: {err.message}") from err
            raise
        _check_texts(ctx)
        for name in _INPUTS & ctx.params.keys():
            ctx.params[name] = _found(ctx.params[name], settings)
        if ctx.params.get("out"):
            ctx.params["out"] = _destination(ctx, settings, str(self.name))
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
    from polygene.settings import variables_of

    most = Size().convert(kept, None, None) if kept else None

    with fetching_so(is_fresh, most), asking_with(variables_of(tokens)):
        yield


def settings_here() -> Settings | None:
    """Return the settings that hold in the working folder, None if there are none."""
    here = Path.cwd()
    if not any((place / "polygene.toml").is_file() for place in (here, *here.parents)):
        return None  # found out without loading anything heavy
    from polygene.cli.sizes import Size
    from polygene.settings import find

    found = find(here)
    for name in ("memory", "cache"):
        try:
            if getattr(found, name):
                Size().convert(getattr(found, name), None, None)
        except click.UsageError as err:
            raise click.UsageError(f"polygene.toml: {name}: {err.message}") from err
    if found.workers and not re.fullmatch(r"0*[1-9][0-9]{0,5}", found.workers):
        raise click.UsageError(
            f"polygene.toml: workers: {found.workers!r} is no number of processes, of 1 or more"
        )
    return found


def _check_texts(ctx: click.Context) -> None:
    """Refuse what the settings say of layers, where it would be refused as theirs later on."""
    from polygene.errors import PolygeneError

    def is_from_settings(name: str) -> bool:
        return ctx.get_parameter_source(name) is ParameterSource.DEFAULT_MAP

    name = ""
    try:
        if is_from_settings(name := "encoding"):
            from polygene.formats.codepages import texts_written_in

            with texts_written_in(str(ctx.params[name])):
                pass
        if is_from_settings(name := "crs"):
            from polygene import crs

            crs.parse(str(ctx.params[name]))
    except PolygeneError as err:
        raise click.UsageError(f"polygene.toml: {name}: {err}") from err


def _destination(ctx: click.Context, settings: Settings, command: str) -> str:
    """Return a destination as the settings fill it in: a bare name with the folder, a folder with a
    format.
    """
    out = str(ctx.params["out"])
    if out == "-":
        return out
    if settings.folder and "/" not in out and os.sep not in out:
        _make(Path(settings.folder), ctx)
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


def _make(folder: Path, ctx: click.Context) -> None:
    """Make a folder that is not there; it goes again if nothing was written into it."""
    from polygene.errors import FileError, reason_of

    new = [place for place in (folder, *folder.parents) if not place.exists()]

    def _gone_if_empty() -> None:
        with contextlib.suppress(OSError):
            for place in new:
                place.rmdir()

    ctx.call_on_close(_gone_if_empty)
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
