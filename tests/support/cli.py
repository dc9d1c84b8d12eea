"""Running the built program on files in a temporary folder."""

from __future__ import annotations

import atexit
import contextlib
import functools
import io
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import NamedTuple
from unittest import mock


class Run(NamedTuple):
    code: int
    out: str
    err: str

    @property
    def words(self) -> str:
        """What went to standard error, line breaks folded away."""
        return " ".join(self.err.split())


def polygene(*arguments: str | Path, folder: Path, **environment: str) -> Run:
    done = subprocess.run(
        [sys.executable, "-W", "error", "-m", "polygene", *map(str, arguments)],
        cwd=folder, capture_output=True, text=True, timeout=120,
        env={**os.environ, **environment},
    )  # fmt: skip
    return Run(done.returncode, done.stdout, done.stderr)


def polygene_here(*arguments: str | Path, folder: Path, **environment: str) -> Run:
    """Run the program's own entry point in this process: the same, but for the start of a Python.

    For classes that run it dozens of times; the others see to it that it starts and ends as it should.
    """
    from polygene.cli.main import main

    out, err = io.TextIOWrapper(io.BytesIO()), io.TextIOWrapper(io.BytesIO())
    code: object = None
    with (
        mock.patch("polygene.cli.outcome._told", False),
        mock.patch.object(sys, "argv", ["polygene", *map(str, arguments)]),
        mock.patch.dict(os.environ, environment),
        contextlib.chdir(folder), contextlib.redirect_stdout(out), contextlib.redirect_stderr(err),
    ):  # fmt: skip
        try:
            main()
        except SystemExit as end:
            code = end.code
    texts = []
    for stream in (out, err):
        stream.flush()
        texts.append(stream.buffer.getvalue().decode())  # type: ignore[attr-defined]
    return Run(int(code or 0), *texts)  # type: ignore[call-overload]


class InFolder(unittest.TestCase):
    """Tests with a temporary folder of their own.

    ``in_process`` runs the program in this process rather than starting it anew each time.
    """

    in_process = False

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def run_polygene(self, *arguments: str | Path, **environment: str) -> Run:
        run = polygene_here if self.in_process else polygene
        return run(*arguments, folder=self.folder, **environment)

    def assert_only(self, *names: str) -> None:
        """The folder holds these files and nothing else: no side files, nothing half-written."""
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), sorted(names))


@functools.cache
def sample() -> tuple[Path, Path]:
    """Return the files of the sample data, written once for all tests of a process."""
    from polygene.sample import tolva

    holder = tempfile.TemporaryDirectory()
    atexit.register(holder.cleanup)
    return tolva.write(Path(holder.name))


class WithSample(InFolder):
    """The folder holds the sample data."""

    def setUp(self):
        super().setUp()
        self.package, self.patches = (
            Path(shutil.copyfile(path, self.folder / path.name)) for path in sample()
        )

    def sql(self, name, statement):
        connection = sqlite3.connect(self.folder / name)
        try:
            return connection.execute(statement).fetchall()
        finally:
            connection.close()
