"""The entry point: commands in their groups, loaded when called; errors to words and exit codes."""

from __future__ import annotations

import difflib
import importlib
import os
import signal
import sys
import textwrap
import traceback
from typing import Any, NoReturn

import click

from polygene import __version__
from polygene.errors import ExpressionError, PolygeneError, SheetError, UsageError
from polygene.memory import keep_freed_memory

# name: (group, what it does). Each lives in the module of its name, loaded only when called.
COMMANDS = {
    "layers": ("look", "lists what is in files: layers, geometry, features, CRS, extent"),
    "peek": ("look", "a layer's fields with types, nulls and ranges, and some of its rows"),
    "audit": ("look", "finds problems of geometry and attributes, with row, place and reason"),
    "compare": ("look", "two layers side by side, and which features changed"),
    "draw": ("look", "a map picture of one or several layers"),
    "lineage": ("look", "how a layer came about: sources, steps, options, credits"),
    "mend": ("prepare", "makes invalid polygons valid and says what it changed"),
    "subset": ("prepare", "keeps features by attributes, by how they lie to others, or a box"),
    "fields": ("prepare", "renames, retypes, computes, drops and reorders fields"),
    "reproject": ("prepare", "changes the CRS"),
    "convert": ("prepare", "writes layers in another format or gathers them in one file"),
    "clip": ("derive", "keeps what lies inside OTHER"),
    "erase": ("derive", "removes what lies inside OTHER"),
    "intersect": ("derive", "the shared pieces, with the attributes of both"),
    "union": ("derive", "all pieces of both, each with the attributes it has a right to"),
    "imprint": ("derive", "all of INPUT, split along OTHER, with its attributes inside"),
    "supersede": ("derive", "OTHER replaces INPUT wherever it lies; the rest stays"),
    "merge": ("derive", "several layers into one, reconciling their fields"),
    "dissolve": ("derive", "joins features that agree in some fields, or all of them"),
    "buffer": ("derive", "everything within a distance"),
    "hull": ("derive", "the convex hull of all features, of each, or by group"),
    "parts": ("derive", "multi-part features to single parts, or single parts together"),
    "join": ("derive", "carries attributes across by place: counts, sums, the nearest"),
    "measure": ("figure", "adds area, length, perimeter, centroid and other columns"),
    "tally": ("figure", "a table of counts, areas or other sums by one or two fields"),
    "run": ("repeat", "runs a recipe file: inputs, steps, outputs"),
    "demo": ("repeat", "writes the sample data and works through an example on it"),
}
GROUPS = {
    "look": "Look at layers",
    "prepare": "Prepare them",
    "derive": "Derive new ones",
    "figure": "Measure and tabulate",
    "repeat": "Repeat and learn",
}


class Commands(click.Group):
    """A group that knows its commands by name and imports them when they are called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        module = importlib.import_module(f"polygene.cli.{cmd_name}")
        command: click.Command = getattr(module, cmd_name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and args[0] not in COMMANDS:
            close = difflib.get_close_matches(args[0], COMMANDS, n=1)
            hint = f"; did you mean {close[0]!r}?" if close else ""
            raise click.UsageError(f"there is no command {args[0]!r}{hint}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for group, title in GROUPS.items():
            rows = [(name, what) for name, (own, what) in COMMANDS.items() if own == group]
            if rows:
                with formatter.section(title):
                    formatter.write_dl(rows)


@click.group(
    cls=Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 80},
    epilog="polygene COMMAND --help tells more about each.",
)
@click.version_option(__version__, "-V", "--version", message="polygene %(version)s")
@click.pass_context
def cli(ctx: click.Context) -> None:
    """Make new vector layers out of old ones, exactly, and say plainly what was done.

    \b
    A command reads like a sentence:
      polygene clip roads.gpkg --with park.gpkg -o park_roads.gpkg
    """
    if ctx.invoked_subcommand is None:
        click.echo(ctx.get_help())


def main() -> NoReturn:
    """Run the program: every error becomes words and an exit code.

    0 done, 1 could not be done, 2 wrong use, 3 our bug, 130 interrupted.
    """
    signal.signal(signal.SIGTERM, _interrupt)
    keep_freed_memory()
    try:
        cli.main(prog_name="polygene", standalone_mode=False)
        sys.stdout.flush()
        code = 0
    except click.exceptions.Exit as err:
        code = err.exit_code
    except click.UsageError as err:
        err.show()
        code = 2
    except click.ClickException as err:
        err.show()
        code = 1
    except PolygeneError as err:
        _complain(str(err))
        code = 2 if isinstance(err, (UsageError, ExpressionError, SheetError)) else 1
    except (KeyboardInterrupt, click.Abort):
        _complain("interrupted; nothing was written")
        code = 130
    except BrokenPipeError:
        # Whoever read us has enough; Python would complain again when it flushes at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    except MemoryError:
        _complain("not enough memory for this work; nothing was written")
        code = 1
    except Exception:
        traceback.print_exc()
        _complain("this is a bug in Polygene, not in your data; nothing was written")
        code = 3
    sys.exit(code)


def _complain(text: str) -> None:
    """Print an error; its sentence is wrapped, what follows on lines of its own is not."""
    first, *rest = text.split("\n")
    text = "\n".join([textwrap.fill(f"error: {first}", 80, subsequent_indent="  ")[7:], *rest])
    click.echo(f"{click.style('error:', fg='red', bold=True)} {text}", err=True, color=_colour())


def _colour() -> bool | None:
    return False if os.environ.get("NO_COLOR") else None


def _interrupt(*_: Any) -> NoReturn:
    raise KeyboardInterrupt
