"""Work in processes and on a cluster: the same files, whatever is killed meanwhile."""

from __future__ import annotations

import contextlib
import importlib.util
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

import polygene
from polygene.growing import executors, running
from polygene.growing.executors import Cluster, Processes, WorkerError, _LostError, _result_of
from polygene.growing.running import Grounds
from polygene.progress import SILENT
from tests.growing.test_same import UTM
from tests.support import generators as make
from tests.support.chance import many, some_of
from tests.support.growing import call_of, in_tasks, put, sums

HAS_DASK = importlib.util.find_spec("distributed") is not None


class Written(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        rng = np.random.default_rng(1)
        n = many(30, 20)
        a, b = make.coverage(n, n, 20, rng, 8), make.coverage(n - 5, n - 5, 25, rng, 8)
        layers = [
            make.layer(name, column, UTM, group=np.arange(column.n_rows) % 5)
            for name, column in (("a", a), ("b", b))
        ]
        cls.refs = [put(cls.folder, layer, many(10_000, 5_000)) for layer in layers]
        cls.read = [polygene.read(str(ref.path)) for ref in cls.refs]
        cls.wanted = {}
        for command, n, arguments in (("union", 2, {}), ("dissolve", 1, {"by": ("group",)})):
            call = call_of(command, **arguments)
            whole = call.on(*cls.read[:n], progress=SILENT).layer.as_result()
            place = put(cls.folder, replace(whole, name=command), 2_000_000).path
            cls.wanted[command] = (call, cls.refs[:n], sums(place))

    def compare(self, command: str, grounds: Grounds) -> None:
        call, refs, wanted = self.wanted[command]
        self.assertEqual(sums(in_tasks(call, refs, self.folder, grounds).folder), wanted)


class InProcesses(Written):
    def test_the_same_files(self):
        for command in some_of(("union", "dissolve")):
            with self.subTest(command):
                self.compare(command, Grounds(workers=2, tasks=7))

    def test_a_killed_process_is_told_and_the_rest_is_done_with_resume(self):
        call, refs, wanted = self.wanted["union"]
        done = []

        class Watched:
            """Kills a worker when some tasks are done."""

            def stage(self, name: str) -> None:
                if name.startswith("task 4"):
                    done.extend((self.folder / "tasks").glob("d?????"))
                    for child in _children():
                        os.kill(child, signal.SIGKILL)

        watched = Watched()
        watched.folder = self.folder / ".work"
        told = (call, refs, [running.reading.Choice()] * 2, watched.folder)
        with self.assertRaisesRegex(WorkerError, "was killed"):
            running.run(*told, Grounds(workers=2, tasks=12), watched)
        self.assertGreaterEqual(len(done), 3)
        before = {path.name: path.stat().st_mtime_ns for path in done}
        found = running.run(*told, Grounds(workers=2, tasks=12, resume=True), SILENT)
        self.assertEqual(sums(found.folder), wanted)
        after = {n: (watched.folder / "tasks" / n).stat().st_mtime_ns for n in before}
        self.assertEqual(after, before, "what was done is not done again")

    def test_resume_of_another_work_is_refused(self):
        call, refs, _ = self.wanted["union"]
        in_tasks(call, refs, self.folder, Grounds(tasks=3))
        with self.assertRaisesRegex(polygene.PolygeneError, "another work"):
            in_tasks(call_of("clip"), refs, self.folder, Grounds(tasks=3, resume=True))


def _is_there(process: int) -> bool:
    """Whether a process runs: one that has ended may still be listed until it is fetched."""
    try:
        text = Path(f"/proc/{process}/stat").read_text()
    except OSError:
        return False
    return text.rpartition(")")[2].split()[0] != "Z"


def _children(parent: int | None = None) -> list[int]:
    found = []
    for place in Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError):
            text = place.read_text().rpartition(")")[2].split()
            command = (place.parent / "cmdline").read_bytes()
            if int(text[1]) == (parent or os.getpid()) and b"spawn_main" in command:
                found.append(int(place.parent.name))
    return found


@unittest.skipUnless(HAS_DASK, "Dask cannot be had here")
class OnACluster(Written):
    """A real scheduler with two workers, started here on loopback."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        cls.address = f"tcp://127.0.0.1:{port}"
        cls.started: list[subprocess.Popen] = []
        cls.addClassCleanup(cls.stop)
        cls.start("scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard")
        for k in range(2):
            cls.start(
                "worker", cls.address, "--nthreads", "1", "--no-dashboard",
                "--local-directory", str(cls.folder / f"worker{k}"),
            )  # fmt: skip
        cls.wait_for_workers(2)

    @classmethod
    def start(cls, *arguments: str) -> None:
        cls.started.append(
            subprocess.Popen(
                [sys.executable, "-m", "dask", *arguments],
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
            )
        )

    @classmethod
    def stop(cls) -> None:
        for process in cls.started:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()

    @classmethod
    def wait_for_workers(cls, n: int, address: str = "") -> None:
        from distributed import Client

        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            with (
                contextlib.suppress(OSError, TimeoutError),
                Client(address or cls.address, timeout="5s") as c,
            ):
                c.wait_for_workers(n, timeout=30)
                return
        raise AssertionError("the cluster did not start")

    def test_the_same_files(self):
        for command in some_of(("union", "dissolve")):
            with self.subTest(command):
                self.compare(command, Grounds(cluster=self.address, tasks=7))

    def test_the_same_files_when_a_worker_is_killed(self):
        threading.Timer(1.0, self.kill_a_worker).start()
        self.compare("union", Grounds(cluster=self.address, tasks=20))

    def kill_a_worker(self) -> None:
        """Kill the process that a worker's nanny looks after; the nanny starts another."""
        nanny = self.started[1].pid
        for place in Path("/proc").glob("[0-9]*/stat"):
            with contextlib.suppress(OSError):
                parent = int(place.read_text().rpartition(")")[2].split()[1])
                if parent == nanny and b"spawn" in (place.parent / "cmdline").read_bytes():
                    os.kill(int(place.parent.name), signal.SIGKILL)

    def test_a_lost_scheduler_is_told_and_the_rest_is_done_elsewhere(self):
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            address = f"tcp://127.0.0.1:{free.getsockname()[1]}"
        port = address.rpartition(":")[2]
        self.start("scheduler", "--host", "127.0.0.1", "--port", port, "--no-dashboard")
        scheduler = self.started[-1]
        self.start("worker", address, "--nthreads", "1", "--no-dashboard", "--no-nanny")
        self.wait_for_workers(1, address)

        class Watched:
            def stage(self, name: str) -> None:
                if name.startswith("task 4"):
                    os.killpg(scheduler.pid, signal.SIGKILL)

        call, refs, wanted = self.wanted["union"]
        told = (call, refs, [running.reading.Choice()] * 2, self.folder / ".work")
        with (
            self.assertNoLogs("distributed.client"),
            self.assertRaisesRegex(WorkerError, "was lost; when it is back"),
        ):
            running.run(*told, Grounds(cluster=address, tasks=20), Watched())
        self.assertGreaterEqual(len(list((told[3] / "tasks").glob("d?????"))), 3)
        found = running.run(*told, Grounds(tasks=20, resume=True), SILENT)
        self.assertEqual(sums(found.folder), wanted)

    def test_workers_of_another_version_are_refused(self):
        call, refs, _ = self.wanted["union"]
        with (
            mock.patch.object(executors, "__version__", "9.9"),
            self.assertRaisesRegex(WorkerError, "and this is 9.9"),
        ):
            in_tasks(call, refs, self.folder, Grounds(cluster=self.address, tasks=2))

    def test_no_scheduler_is_told(self):
        with (
            mock.patch.object(executors, "PATIENCE", 1),
            self.assertRaisesRegex(WorkerError, "no scheduler answers"),
        ):
            list(Cluster("tcp://127.0.0.1:1").each(abs, [1]))


class Small(unittest.TestCase):
    def test_what_cannot_be_fetched_is_no_error_of_a_task(self):
        """Of a task that is done, when the scheduler goes before it was asked for the result."""
        for status, error in (("finished", _LostError), ("lost", _LostError), ("error", OSError)):
            result = mock.Mock(side_effect=OSError("Timed out trying to connect"))
            with self.subTest(status), self.assertRaises(error):
                _result_of(mock.Mock(result=result, status=status))

    def test_a_worker_that_goes_while_it_is_asked_is_none(self):
        gone, version = ConnectionError("Stream is closed"), executors.own_version()
        for answers, words in (
            ({"a": gone, "b": version}, None),
            ({"a": gone}, "has no worker"),
            ({"a": gone, "b": ModuleNotFoundError("polygene")}, "the worker b has no polygene"),
        ):
            client = mock.Mock(run=mock.Mock(return_value=answers))
            if words is None:
                executors._check_workers(client, "tcp://x")
                continue
            with self.assertRaisesRegex(WorkerError, words):
                executors._check_workers(client, "tcp://x")

    def test_errors_of_a_task_come_back_as_they_are(self):
        with self.assertRaisesRegex(ZeroDivisionError, "division"):
            list(Processes(2).each(_divide, [1, 0]))

    def test_processes_end_with_the_one_that_gives_the_tasks(self):
        script = (
            "import time; from polygene.growing.executors import Processes; "
            "list(Processes(2).each(time.sleep, [60, 60]))"
        )
        giver = subprocess.Popen([sys.executable, "-c", script])
        deadline = time.monotonic() + 30
        while len(children := _children(giver.pid)) < 2 and time.monotonic() < deadline:
            time.sleep(0.1)
        self.assertEqual(len(children), 2)
        time.sleep(2)  # until they have begun
        giver.kill()
        giver.wait()
        while any(map(_is_there, children)) and time.monotonic() < deadline:
            time.sleep(0.1)
        self.assertFalse(any(map(_is_there, children)))


def _divide(n: int) -> float:
    return 1 / n


if __name__ == "__main__":
    unittest.main()
