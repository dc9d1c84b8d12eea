"""Several files put in place in one step: killed, refused, and by records that strangers wrote."""

from __future__ import annotations

import contextlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import unittest
import warnings
from pathlib import Path
from unittest import mock

from polygene import written
from polygene.commit import leftovers, records
from polygene.commit.records import Step
from polygene.commit.together import removing, replacing, settle, together
from polygene.errors import FileError

SUPPORT = Path(__file__).parents[1] / "support"
# 1 is every call, which takes ten minutes; where it begins is chance, so all have their turn.
STRIDE = int(os.environ.get("POLYGENE_KILLS", "150"))


class Killed(unittest.TestCase):
    @unittest.skipUnless(
        shutil.which("cc") and sys.platform == "linux", "needs a C compiler, Linux"
    )
    def test_old_or_new_wherever_it_is_killed_and_nothing_left_after_the_next_run(self):
        first = random.randrange(STRIDE)
        with tempfile.TemporaryDirectory() as folder:
            library = Path(folder, "stops.so")
            source = SUPPORT / "stops.c"
            subprocess.run(["cc", "-shared", "-fPIC", "-o", library, source, "-ldl"], check=True)
            # Whoever comes first clears what others left in the common one, which would be counted.
            own = Path(folder, "temporary")
            own.mkdir()
            more = {"LD_PRELOAD": str(library), "POLYGENE_THREADS": "1", "TMPDIR": str(own)}
            done = subprocess.run(
                [sys.executable, "-m", "tests.support.kills", str(STRIDE), str(first)],
                env={**os.environ, **more}, cwd=SUPPORT.parents[1], capture_output=True, text=True,
            )  # fmt: skip
            left = sorted(path.name for path in own.iterdir())
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)
        wrong = [text for one in found.values() for text in one["wrong"]]
        self.assertEqual((wrong, left), ([], []), f"every {STRIDE} calls from {first}")
        n_calls, kills = (sum(one[what] for one in found.values()) for what in ("calls", "kills"))
        self.assertGreater(n_calls, 900)
        self.assertEqual(kills, len(range(first, n_calls, STRIDE)))


class InTwoFolders(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.places = [self.folder / name for name in ("a/one", "a/two", "b/three", "b/new")]
        for place in self.places:
            place.parent.mkdir(exist_ok=True)
        for place in self.places[:3]:
            place.write_text("old")

    def write(self) -> None:
        with together():
            for place in self.places[1:]:
                with replacing(place) as temporary:
                    temporary.write_text("new")
            removing(self.places[0])

    def now(self) -> dict[str, str]:
        """All files there are, hidden ones too."""
        files = [p for p in self.folder.rglob("*") if p.is_file()]
        return {str(p.relative_to(self.folder)): p.read_text() for p in files}

    OLD = {"a/one": "old", "a/two": "old", "b/three": "old"}
    NEW = {"a/two": "new", "b/three": "new", "b/new": "new"}

    def failing(self, after: int, times: int):
        """Let a rename or removal fail after some that do not."""
        own, count = Step.finish, iter(range(100))

        def finish(step: Step) -> None:
            if after <= next(count) < after + times:
                raise PermissionError(1, "Operation not permitted", str(step.new))
            own(step)

        return mock.patch.object(Step, "finish", finish)

    def test_all_or_none(self):
        self.write()
        self.assertEqual(self.now(), self.NEW)

    def test_an_error_while_writing_leaves_all_as_it_was(self):
        with self.assertRaises(ZeroDivisionError), together():
            self.write()
            raise ZeroDivisionError
        self.assertEqual(self.now(), self.OLD)

    def test_a_step_that_cannot_be_made_undoes_those_before(self):
        for after in range(4):
            with (
                self.failing(after, 1),
                self.assertRaisesRegex(FileError, "cannot write .*permitted"),
            ):
                self.write()
            self.assertEqual(self.now(), self.OLD)
            linkless = mock.patch("os.link", side_effect=OSError(95, "not supported"))
            with linkless, self.failing(after, 1), self.assertRaises(FileError):
                self.write()
            self.assertEqual(self.now(), self.OLD)

    def test_what_cannot_be_undone_either_is_undone_at_the_next_look(self):
        for folder in ("a", "b"):
            cannot = mock.patch.object(
                Step, "undo", side_effect=PermissionError(1, "Not permitted")
            )
            with (
                self.failing(2, 1),
                cannot,
                self.assertRaisesRegex(FileError, "cannot be put back"),
            ):
                self.write()
            self.assertNotEqual(self.now(), self.OLD)
            with written.remarking() as remarks:
                settle(self.folder / folder)
            self.assertEqual(self.now(), self.OLD)
            self.assertRegex(remarks[0], "was cut short .* have been left as they were before")

    def test_signals_wait_until_all_is_in_place(self):
        own = Step.finish

        def finish(step: Step) -> None:
            os.kill(os.getpid(), 2)
            own(step)

        interrupting = mock.patch.object(Step, "finish", finish)
        with written.noting() as places, interrupting, self.assertRaises(KeyboardInterrupt):
            self.write()
        self.assertEqual(self.now(), self.NEW)
        self.assertEqual(places, [str(place) for place in self.places[1:]])

    def test_a_record_of_a_stranger_does_nothing_outside_its_folder(self):
        part = leftovers.neighbour(self.folder / "b" / "three")
        part.write_text("bad")
        begun = {"polygene commit": 1, "key": "0", "do": "finish", "decider": ".", "others": []}
        for steps in (
            [["../a/one", part.name, None]], [["one", "../b/" + part.name, None]], [["..", None, None]],
            [[str(self.places[0]), None, None]], [["three", "two", None]], [[1, 2]], "x", None, [None],
        ):  # fmt: skip
            record = self.folder / "a" / records.NAME
            record.write_text(json.dumps({**begun, "steps": steps}))
            with written.remarking() as remarks:
                settle(self.folder / "a", self.folder / "a" / "one")
            self.assertEqual(len(remarks), 1, steps)
            self.assertEqual({k: v for k, v in self.now().items() if k in self.OLD}, self.OLD)
            self.assertEqual(part.read_text(), "bad")
        for text in ("", "[", "{}", "[" * 100_000, '{"do": "erase"}', "\x00"):
            record.write_text(text)
            with written.remarking() as remarks:
                settle(self.folder / "a")
            self.assertRegex(remarks[0], "left alone")

    def test_a_record_of_another_user_moves_only_what_is_theirs(self):
        if os.geteuid() != 0:
            self.skipTest("files can be given to another user by the administrator only")
        part = leftovers.neighbour(self.places[0])
        part.write_text("bad")
        steps = [["one", part.name, None]]
        text = {"key": "0", "do": "finish", "decider": ".", "others": [], "steps": steps}
        record = self.folder / "a" / records.NAME
        record.write_text(json.dumps(text))
        for path in (part, record):
            os.chown(path, 12345, 12345)
        with self.assertRaisesRegex(FileError, "does not own the files that it names"):
            settle(self.folder / "a", self.places[0])
        settle(self.folder / "a", self.places[1])  # which it does not name
        self.assertEqual(self.places[0].read_text(), "old")

    def test_leftovers_go_when_their_run_is_gone(self):
        gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                              capture_output=True, text=True).stdout.strip()  # fmt: skip
        ours = leftovers.neighbour(self.places[0])
        for process, ending in ((gone, ""), (gone, "-journal")):
            name = ours.name.replace(f"-{os.getpid()}-", f"-{process}-") + ending
            ours.with_name(name).write_text("left")
        other = ours.with_name(".one.00000000-00000000-1-x.part")  # another machine's, of today
        other.write_text("theirs")
        leftovers.sweep(ours.parent)
        left = {p.name for p in ours.parent.iterdir()} - {"one", "two"}
        self.assertEqual(left, {ours.name, other.name})
        os.utime(other, (0, 0))
        leftovers.sweep(ours.parent)
        self.assertFalse(other.exists())

    def test_owner_permissions_and_attributes_are_kept_and_other_names_said(self):
        place = self.places[0]
        place.chmod(0o640)
        os.link(place, self.folder / "snapshot")
        with contextlib.suppress(OSError):
            os.setxattr(place, "user.note", b"kept")
        if os.geteuid() == 0:
            os.chown(place, 12345, 54321)
        before = place.stat()
        with written.remarking() as remarks, replacing(place) as temporary:
            temporary.write_text("new")
        after = place.stat()
        for what in ("st_uid", "st_gid", "st_mode"):
            self.assertEqual(getattr(after, what), getattr(before, what))
        with contextlib.suppress(OSError):
            self.assertEqual(os.getxattr(place, "user.note"), b"kept")
        self.assertEqual((self.folder / "snapshot").read_text(), "old")
        self.assertRegex(remarks[0], "other names")

    def test_a_long_name_and_one_that_is_not_utf_8_can_be_written(self):
        for name in ("b" * 250, "é" * 120, os.fsdecode(b"caf\xe9")):
            places = [self.folder / (name + ending) for ending in (".one", ".two")]
            with together():
                for place in places:
                    with replacing(place) as temporary:
                        temporary.write_text("new")
            self.assertEqual([place.read_text() for place in places], ["new", "new"])

    def test_without_anybody_listening_it_is_a_warning(self):
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            written.remark("something")
        self.assertEqual([str(one.message) for one in caught], ["something"])


if __name__ == "__main__":
    unittest.main()
