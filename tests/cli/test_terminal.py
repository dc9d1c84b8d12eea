"""The program on a terminal: colours, widths, the line that shows its progress, Ctrl-C."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import sys
import time
import unittest

from click.shell_completion import BashComplete

from polygene.cli.main import cli
from tests.support.chance import some_of
from tests.support.cli import WithSample
from tests.support.layers import lasting_work

try:
    import fcntl
    import pty
    import struct
    import termios
except ImportError:  # pragma: no cover - no terminals of this kind there
    pty = None  # type: ignore[assignment]

ESCAPE = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")


def on_terminal(*arguments, folder, columns=80, interrupt_at="", seconds=60, **environment):
    """Run the program on a terminal of its own; return its exit code and all that was shown.

    It is interrupted, as by Ctrl-C, once the text ``interrupt_at`` was shown.
    """
    child, terminal = pty.fork()
    if child == 0:
        os.chdir(folder)
        os.environ.update(environment)
        os.execv(sys.executable, [sys.executable, "-m", "polygene", *map(str, arguments)])
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 24, columns, 0, 0))
    shown, until, is_stopped = b"", time.monotonic() + seconds, False
    while time.monotonic() < until:
        try:
            block = os.read(terminal, 65536)
        except OSError:  # what Linux gives at the end
            break
        if not block:
            break
        shown += block
        if interrupt_at and not is_stopped and interrupt_at.encode() in shown:
            is_stopped = True
            os.kill(child, signal.SIGINT)
    os.close(terminal)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), shown.decode()


@unittest.skipUnless(pty, "needs a terminal of POSIX")
class OnATerminal(WithSample):
    def shown(self, *arguments, **how):
        code, text = on_terminal(*arguments, folder=self.folder, **how)
        return code, text.replace("\r\n", "\n")

    def test_tables_fit_the_width(self):
        """However wide it is, no line is wider; narrow ones cut what can be cut."""
        asked = (
            ("layers", "tolva.gpkg"),
            ("find", "contour"),
            ("peek", "tolva.gpkg#beds_marram", "--rows", "4"),
        )
        for columns in (70, 80, 120):
            for arguments in some_of(asked):
                with self.subTest(columns=columns, arguments=arguments):
                    code, text = self.shown(*arguments, columns=columns)
                    self.assertEqual(code, 0, text)
                    plain = ESCAPE.sub("", text)
                    self.assertGreater(len(plain.split("\n")), 1 if arguments[0] == "find" else 5)
                    self.assertLessEqual(max(map(len, plain.split("\n"))), columns)

    def test_colours_only_where_they_are_wanted(self):
        """The same words with and without; NO_COLOR and a pipe have none."""
        code, coloured = self.shown("layers", "tolva.gpkg")
        _, plain = self.shown("layers", "tolva.gpkg", NO_COLOR="1")
        piped = self.run_polygene("layers", "tolva.gpkg")
        self.assertEqual(code, 0)
        self.assertRegex(coloured, ESCAPE)
        self.assertNotRegex(plain, ESCAPE)
        self.assertNotRegex(piped.out + piped.err, ESCAPE)
        self.assertEqual(ESCAPE.sub("", coloured), plain)

    def test_progress_is_one_line_that_goes_away(self):
        lasting_work(self.folder)
        code, text = self.shown(
            "union", "across.gpkg", "--with", "up.gpkg", "-o", "both.gpkg", columns=60
        )
        self.assertEqual(code, 0, text)
        lines = re.findall(r"\r +\d+ s  [^\r\n]*", text)
        self.assertGreater(len(lines), 2)
        self.assertLessEqual(max(len(ESCAPE.sub("", line)) for line in lines), 60)
        # What stays on the screen after the last of them begins on a line that was wiped.
        rest = text[text.rindex(lines[-1]) + len(lines[-1]) :]
        self.assertTrue(rest.startswith("\r\x1b[K"), rest[:40])
        self.assertIn("united", rest)
        quiet = self.shown(
            "clip", "tolva.gpkg#*", "--with", "tolva.gpkg#park", "-o", "o.gpkg", "-q"
        )
        self.assertEqual(quiet, (0, ""))

    def test_an_interrupt_wipes_the_line_and_leaves_nothing(self):
        lasting_work(self.folder)
        before = {p.name for p in self.folder.iterdir()}
        code, text = self.shown(
            "union", "across.gpkg", "--with", "up.gpkg", "-o", "both.gpkg", interrupt_at=" s  "
        )
        self.assertEqual(code, 130, text)
        self.assertNotIn("Traceback", text)
        self.assertEqual({p.name for p in self.folder.iterdir()}, before)


class Completing(WithSample):
    def completed(self, line):
        *words, begun = line.split(" ")
        shell = BashComplete(cli, {}, "polygene", "_POLYGENE_COMPLETE")
        with contextlib.chdir(self.folder):
            return [item.value for item in shell.get_completions(words, begun)]

    def test_layers_fields_and_codes(self):
        dissolve = "dissolve tolva.gpkg#sectors --by "
        for line, wanted in {
            "clip tolva.gpkg#bu": ["tolva.gpkg#buoys"],
            "clip tolva.gpkg#buoys --with tol": ["tolva.gpkg"],
            dissolve + "dis": ["district", "district_name"],
            dissolve + "no_take,DEP": ["no_take,depth_max"],
            "subset tolva.gpkg#sectors --where dep": ["depth_max"],
            "join tolva.gpkg#sectors --with tolva.gpkg#buoys --with-where ton": ["tonnes"],
            "peek nowhere.gpkg --sort a": [],
            "reproject tolva.gpkg#sectors --to epsg:32633": ["EPSG:32633"],
            "reproject tolva.gpkg#sectors --to res": ["resurvey.geojson"],
        }.items():
            with self.subTest(line=line):
                self.assertEqual(self.completed(line), wanted)
        self.assertIn("EPSG:25833", self.completed("clip x.gpkg --crs EPSG:2583"))


if __name__ == "__main__":
    unittest.main()
