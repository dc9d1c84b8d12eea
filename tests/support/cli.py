"""Running the built program on files in a temporary folder."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import NamedTuple


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


class InFolder(unittest.TestCase):
    """Tests with a temporary folder of their own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def run_polygene(self, *arguments: str | Path, **environment: str) -> Run:
        return polygene(*arguments, folder=self.folder, **environment)

    def assert_only(self, *names: str) -> None:
        """The folder holds these files and nothing else: no side files, nothing half-written."""
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), sorted(names))


class WithSample(InFolder):
    """The folder holds the sample data."""

    def setUp(self):
        super().setUp()
        from polygene.sample import tolva

        self.package, self.patches = tolva.write(self.folder)

    def sql(self, name, statement):
        connection = sqlite3.connect(self.folder / name)
        try:
            return connection.execute(statement).fetchall()
        finally:
            connection.close()
