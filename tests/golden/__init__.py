"""Golden pages: what each command says on the sample data, so that a change of words is seen.

A page is the commands, each after a ``$``, and what they print. ``python -m tests.golden`` writes the
pages anew from their commands, and for a command without a page one of the examples in its help; read
the difference before it is committed.
"""

from __future__ import annotations

import re
import shlex
import shutil
import tempfile
from pathlib import Path

import click

from polygene.cli.main import cli
from tests.support.cli import polygene_here

PAGES = Path(__file__).parent
PROMPT = "$ polygene "


def examples(name: str) -> list[str]:
    """Return the lines a command's help ends with, without the name of the program."""
    text = cli.get_command(None, name).get_help(click.Context(cli, info_name="x")) + "\n"
    block = re.search(r"Examples?:\n((?: +.*\n)+)", text)[1].replace("\\\n", " ")
    return [" ".join(line.split()).removeprefix("polygene ") for line in block.strip().splitlines()]


def commands_of(page: Path) -> list[str]:
    return [
        line.removeprefix(PROMPT)
        for line in page.read_text(encoding="utf-8").splitlines()
        if line.startswith(PROMPT)
    ]


def played(page: Path, sample: Path) -> str:
    """Return a page as its commands print it now, run on a copy of the sample data."""
    blocks = []
    with tempfile.TemporaryDirectory() as place:
        folder = Path(shutil.copytree(sample, Path(place) / "tolva"))
        for line in commands_of(page):
            done = polygene_here(*shlex.split(line), folder=folder, SOURCE_DATE_EPOCH="1767225600")
            said = _steady(done.out + done.err)
            blocks.append(f"{PROMPT}{line}\n{said}" + (f"exit {done.code}\n" if done.code else ""))
    return "\n".join(blocks)


def _steady(text: str) -> str:
    """Return what was printed without how long it took, and of which bytes."""
    text = re.sub(r"\d+\.\d+ s\b", "0.00 s", text)
    text = re.sub(r"[\d,]+ bytes\b", "0 bytes", text)  # of pages, which hold their script
    text = re.sub(r"\b[0-9a-f]{12}\b", "0" * 12, text)  # checksums of files with a date in them
    return re.sub(r'"seconds": [\d.e-]+', '"seconds": 0', text)
