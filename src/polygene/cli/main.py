"""The entry point: commands in their groups, loaded when called; errors to words and exit codes."""

from __future__ import annotations

import difflib
import importlib
import os
import sys
import textwrap
import traceback
from typing import NoReturn

import click

from polygene import __version__
from polygene.cli import INTERRUPTED
from polygene.cli.sizes import Size
from polygene.cli.speaking import let_go, prepare, say
from polygene.cli.stopping import ending_at_once, heard
from polygene.commands import COMMANDS, GROUPS
from polygene.errors import (
    ExpressionError,
    PolygeneError,
    SheetError,
    UsageError,
    did_you_mean,
    reason_of,
    with_options,
)
from polygene.memory import keep_freed_memory, limit, of_machine
from polygene.notes import visible
from polygene.written import noting, remarking


class Commands(click.Group):
    """A group that knows its commands by name and imports them when they are called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        told = COMMANDS[cmd_name].overlay
        if told is not None and told.help:
            from polygene.cli.overlays import command_of

            return _with_words(command_of(cmd_name), cmd_name)
        # Each other one lives in the module of its name, loaded only when called.
        module = importlib.import_module(f"polygene.cli.{cmd_name}")
        command: click.Command = getattr(module, cmd_name)
        return _with_words(command, cmd_name)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and args[0] not in COMMANDS:
            raise click.UsageError(f"there is no command {args[0]!r}{_hint(args[0])}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for group, title in GROUPS.items():
            rows = [(name, c.what) for name, c in COMMANDS.items() if c.group == group]
            if rows:
                with formatter.section(title):
                    formatter.write_dl(rows)


def _with_words(command: click.Command, name: str) -> click.Command:
    """Let the help of ``--with`` say what for."""
    for parameter in command.params:
        if parameter.name == "with_" and isinstance(parameter, click.Option):
            verb = COMMANDS[name].with_words or f"{name} with"
            parameter.help = (parameter.help or "").replace("to work with", f"to {verb}")
    return command


def _hint(word: str) -> str:
    """Say what a word that is no command comes to here; likeness only of words that are not known."""
    from polygene.finding import find

    found = find(word.replace("-", " ").replace("_", " "))
    close = difflib.get_close_matches(word, COMMANDS, n=1, cutoff=0.75)
    if close and not (found and found[0].command == close[0]):
        return f"; did you mean {close[0]!r}?"
    if not found:
        return "; `polygene find WORD` tells what a word of the trade is called here"
    one = found[0]
    if not one.command:
        return f"; {one.sentence}"
    return f"; that is {one.command} here. {one.sentence}\n  polygene {one.example}"


@click.group(
    cls=Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 80},
    epilog="polygene COMMAND --help tells more about each.",
)
@click.version_option(__version__, "-V", "--version", message="polygene %(version)s")
@click.option(
    "--memory",
    envvar="POLYGENE_MEMORY",
    type=Size(),
    metavar="SIZE",
    help="Memory that may be used, such as 2GB; a run that needs more stops with a message.  "
    "[default: what the machine has]",
)
@click.pass_context
def cli(ctx: click.Context, memory: int | None) -> None:
    """Make new vector layers out of old ones, exactly, and say plainly what was done.

    \b
    A command reads like a sentence:
      polygene clip roads.gpkg --with park.gpkg -o park_roads.gpkg
    """
    most = memory or of_machine()
    if most is not None:
        limit(most)
    if ctx.invoked_subcommand is None:
        click.echo(ctx.get_help())


def program() -> NoReturn:
    """Run `main` as all that a process is for: when it has ended, so has the process."""
    with ending_at_once():
        main()


def main() -> NoReturn:
    """Run the program: every error becomes words and an exit code.

    0 done, 1 could not be done, 2 wrong use, 3 our bug, 130 interrupted.
    """
    prepare()
    # Nothing here is matrices: the threads that a library starts for them would only take memory.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    keep_freed_memory()
    with noting() as written, remarking() as remarks, heard(lambda: _interrupted(written)):
        code = _run(written)
        if remarks:
            from polygene.cli import show

            for remark in remarks:
                show.note(remark)
    # A request that came while a text was executed, as in an import, is still marked as one that nobody
    # has heard, and Python would end itself by the signal; executing another text takes the mark off.
    exec("pass")
    sys.exit(code)


def _run(written: list[str]) -> int:
    """Run the program; return its exit code. ``written`` are the files it has put in place."""
    try:
        cli.main(prog_name="polygene", standalone_mode=False)
        sys.stdout.flush()
        return 0
    except click.exceptions.Exit as err:
        return err.exit_code
    except click.UsageError as err:
        err = _with_our_option(err)
        said = as_ours(err.format_message())
        _complain(said if "\n" in said or "; here it is" in said else said + _usage(err.ctx))
        return 2
    except click.ClickException as err:
        _complain(as_ours(err.format_message()))
        return 1
    except PolygeneError as err:
        _complain(with_options(str(err)))
        return 2 if isinstance(err, (UsageError, ExpressionError, SheetError)) else 1
    except (KeyboardInterrupt, click.Abort):
        _interrupted(written)
        return INTERRUPTED
    except BrokenPipeError:
        let_go(sys.stdout)
        return 0
    except MemoryError:
        return _too_little(written)
    except OSError as err:
        _complain(f"{_of_the_system(err)}; {_what_is(written)}")
        let_go(sys.stdout)  # in case it was that
        return 1
    except Exception as err:
        if _is_of_a_request(err):
            _interrupted(written)
            return INTERRUPTED
        if "can't start new thread" in str(err):  # which needs memory of its own
            return _too_little(written)
        traceback.print_exc()
        _complain(f"this is a bug in Polygene, not in your data; {_what_is(written)}")
        return 3


def _is_of_a_request(err: BaseException | None) -> bool:
    """Whether an error came of a request to stop: one heard while a class is made is wrapped."""
    return err is not None and (
        isinstance(err, KeyboardInterrupt) or _is_of_a_request(err.__cause__ or err.__context__)
    )


def _with_our_option(err: click.UsageError) -> click.UsageError:
    """Return an error about an option that is unknown with what it is called here."""
    if not isinstance(err, click.NoSuchOption):
        return err
    from polygene.finding import OPTIONS

    known = OPTIONS.get(err.option_name)
    own = [] if err.ctx is None else [o for p in err.ctx.command.params for o in p.opts]
    if known is not None and (not known.startswith("--") or known.split(" ")[0] in own):
        return click.UsageError(f"no such option: {err.option_name}; here it is {known}", err.ctx)
    return click.UsageError(
        f"no such option: {err.option_name}{did_you_mean(err.option_name, own)}", err.ctx
    )


def as_ours(text: str) -> str:
    """Return a sentence of the library as the program's errors are written."""
    text = text.rstrip(".") if text.count(".") == 1 else text
    return text[:1].lower() + text[1:] if text[1:2].islower() else text


def _usage(ctx: click.Context | None) -> str:
    """Return lines on how the command is used."""
    if ctx is None:
        return ""
    pieces = " ".join(ctx.command.collect_usage_pieces(ctx))
    return f"\n  {ctx.command_path} {pieces}\n  {ctx.command_path} --help tells the rest"


def _of_the_system(err: OSError) -> str:
    """Say what the system complains of, and where."""
    if err.filename is not None:
        return f"{err.filename}: {reason_of(err)}"
    try:
        os.getcwd()
    except FileNotFoundError:
        return "the folder you are in is no longer there; go to another one"
    return reason_of(err)


def _too_little(written: list[str]) -> int:
    _complain(
        f"not enough memory for this work, or --memory allows too little; {_what_is(written)}. Take "
        "part of the layers at a time (--box, --where)"
    )
    return 1


def _interrupted(written: list[str]) -> None:
    _complain(f"interrupted; {_what_is(written)}")


def _what_is(written: list[str]) -> str:
    """Say what of the work is in its place, however it ended."""
    if not written:
        return "nothing was written"
    return f"{', '.join(written)} had been written by then"


def _complain(text: str) -> None:
    """Print an error; its sentence is wrapped, what follows on lines of its own is not."""
    first, *rest = text.split("\n")
    text = "\n".join([textwrap.fill(f"error: {first}", 80, subsequent_indent="  ")[7:], *rest])
    text = visible(text, keeps="\n\t")
    say(f"{click.style('error:', fg='red', bold=True)} {text}", sys.stderr, _colour())
    _tell_failure(" ".join((first, *(line.strip() for line in rest))))


def _tell_failure(reason: str) -> None:
    """Print the document that ``--json`` asks for in an error too, unless there was one before."""
    words = sys.argv[1:]
    if "--json" not in words:
        return
    from polygene.cli.outcome import tell_failure

    command = words[0] if words[0] in COMMANDS else ""
    tell_failure(command, reason)


def _colour() -> bool | None:
    return False if os.environ.get("NO_COLOR") else None
