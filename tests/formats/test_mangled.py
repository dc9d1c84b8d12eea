"""Damaged files by the thousand: see `tests.support.mangled`."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa

from polygene.errors import FileError
from polygene.formats import arrow_ipc
from polygene.formats.clauses.arrow import judge

COUNT = int(os.environ.get("POLYGENE_MANGLED", "100"))


class Mangled(unittest.TestCase):
    def test_every_end_has_words_and_comes_soon(self):
        seed = random.randrange(1 << 30)
        done = subprocess.run(
            [sys.executable, "-m", "tests.support.mangled", str(COUNT), str(seed)],
            env={**os.environ, "POLYGENE_THREADS": "1"},
            cwd=Path(__file__).parents[2], capture_output=True, text=True,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)
        print(f"mangled: {found['cases']} cases, seed {seed}")
        self.assertEqual(found["cases"], COUNT)
        self.assertEqual(found["wrong"], [], f"seed {seed}")

    def test_an_arrow_file_with_a_name_that_is_no_text(self):
        """Names are decoded late: by the look at the whole table, too."""
        with tempfile.TemporaryDirectory() as folder:
            path, table = Path(folder, "a.arrow"), pa.table({"na?me": [1, 2]})
            with pa.ipc.new_file(str(path), table.schema) as writer:
                writer.write_table(table)
            path.write_bytes(path.read_bytes().replace(b"na?me", b"na\xf6me"))
            with self.assertRaisesRegex(FileError, "a name in its schema is not UTF-8"):
                arrow_ipc.read(path, "a")
            self.assertEqual([f.weight for f in judge(path).findings], ["refused"])


if __name__ == "__main__":
    unittest.main()
