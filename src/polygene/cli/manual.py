"""Manual pages, made of the same help: ``python -m polygene.cli.manual FOLDER``."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from pathlib import Path

import click

from polygene import __version__
from polygene.cli.helping import grouped
from polygene.cli.main import cli
from polygene.commands import COMMANDS

_SECTION = 1  # of the manual: programs


def pages() -> Iterator[tuple[str, str]]:
    """Return the name and text of each page, the program's first; the text as man(7) has it."""
    top = click.Context(cli, info_name="polygene", help_option_names=["-h", "--help"])
    commands = {name: cli.get_command(top, name) for name in COMMANDS}
    yield f"polygene.{_SECTION}", _of_program(top, commands)
    for name, command in commands.items():
        if command is not None:
            ctx = click.Context(
                command, info_name=name, parent=top, help_option_names=["-h", "--help"]
            )
            yield f"polygene-{name}.{_SECTION}", _of_command(name, command, ctx)


def _of_program(ctx: click.Context, commands: dict[str, click.Command | None]) -> str:
    lines = _head("polygene", cli.help or "", f"polygene {_pieces(cli, ctx)}")
    lines += [".SH COMMANDS"]
    for name, command in commands.items():
        brief = command.get_short_help_str(200) if command else ""
        lines += [
            ".TP",
            rf"\fB{_text(name)}\fR",
            f"{_text(brief)} See polygene\\-{_text(name)}(1).",
        ]
    lines += _options(cli, ctx)
    lines += [".SH EXIT STATUS"]
    for code, meaning in (
        ("0", "done"),
        ("1", "could not be done, or not for all inputs"),
        ("2", "wrong use"),
        ("3", "a bug in Polygene"),
        ("130", "interrupted"),
    ):
        lines += [".TP", code, meaning]
    return "\n".join(lines) + "\n"


def _of_command(name: str, command: click.Command, ctx: click.Context) -> str:
    lines = _head(
        f"polygene-{name}", command.help or "", f"polygene {name} {_pieces(command, ctx)}"
    )
    return "\n".join([*lines, *_options(command, ctx), ".SH SEE ALSO", "polygene(1)"]) + "\n"


def _pieces(command: click.Command, ctx: click.Context) -> str:
    return " ".join(command.collect_usage_pieces(ctx))


def _head(title: str, text: str, usage: str) -> list[str]:
    """Return name, synopsis and description; what is set as it stands stays so."""
    first, *rest = re.split(r"\n\s*\n", text.strip())
    brief = " ".join(first.split()).rstrip(".")
    lines = [
        f'.TH "{title.upper()}" "{_SECTION}" "" "Polygene {__version__}" "Polygene"',
        ".SH NAME",
        f"{_text(title)} \\- {_text(brief[:1].lower() + brief[1:])}",
        ".SH SYNOPSIS",
        _text(usage),
        ".SH DESCRIPTION",
        _text(" ".join(first.split())),
    ]
    for block in rest:
        if block.lstrip().startswith("\b"):
            shown = [line.strip() for line in block.strip().splitlines() if line.strip() != "\b"]
            lines += [
                ".PP",
                _text(shown[0]),
                ".nf",
                *(f"  {_text(one)}" for one in shown[1:]),
                ".fi",
            ]
        else:
            lines += [".PP", _text(" ".join(block.split()))]
    return lines


def _options(command: click.Command, ctx: click.Context) -> list[str]:
    lines = []
    for group, records in grouped(command, ctx):
        lines += [f".SH {group.upper()}"]
        for names, text in records:
            # A library that was asked for the help in another context has kept its names of there.
            names = "-h, --help" if names == "--help" else names
            lines += [".TP", rf"\fB{_text(names)}\fR", _text(" ".join(text.split()))]
    return lines


def _text(text: str) -> str:
    """Return a text with what man(7) would read as its own signs made plain."""
    text = text.replace("\\", r"\e").replace("-", r"\-")
    return re.sub(r"^(?=[.'])", r"\\&", text)


def write(folder: Path) -> None:
    """Write all pages into a folder that is there; what was there before goes."""
    for old in folder.glob(f"polygene*.{_SECTION}"):
        old.unlink()
    for name, text in pages():
        (folder / name).write_text(text, encoding="utf-8")


if __name__ == "__main__":
    write(Path(sys.argv[1]))
