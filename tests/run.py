"""Runs all tests, module by module on all cores: ``python -m tests.run [WORD...]``."""

from __future__ import annotations

import concurrent.futures
import io
import multiprocessing
import os
import signal
import sys
import time
import unittest
from pathlib import Path

HERE = Path(__file__).parent


def run(module: str) -> tuple[str, int, int, int, float, str]:
    """Return name, tests run, failed, skipped, seconds and what there is to read."""
    began = time.monotonic()
    stream = io.StringIO()
    suite = unittest.defaultTestLoader.loadTestsFromName(module)
    result = unittest.TextTestRunner(stream=stream, warnings="error").run(suite)
    bad = {str(getattr(t, "test_case", t)) for t, _ in [*result.failures, *result.errors]}
    text = "" if result.wasSuccessful() else stream.getvalue()
    seconds = time.monotonic() - began
    return module, result.testsRun, len(bad), len(result.skipped), seconds, text


def main() -> int:
    # What a script runs in the background has these ignored, and all that it starts: a test of a
    # request to stop would mean nothing. What is handled here is as usual again in what is started.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    if hasattr(signal, "SIGHUP") and signal.getsignal(signal.SIGHUP) == signal.SIG_IGN:
        signal.signal(signal.SIGHUP, lambda *_: None)
    os.environ.pop("POLYGENE_THREADS", None)  # what tests say of threads is for the usual number
    found = sorted(
        ".".join(p.relative_to(HERE.parent).with_suffix("").parts) for p in HERE.rglob("test_*.py")
    )
    modules = [m for m in found if not sys.argv[1:] or any(word in m for word in sys.argv[1:])]
    # Those that run the program again and again take longest: begun last, they would be waited for.
    modules.sort(key=lambda m: (".cli." not in m, ".recipe." not in m, ".ops." not in m))
    passed = failed = skipped = 0
    # One more than there are processors, for several of them wait now and then.
    context = multiprocessing.get_context("spawn")
    with concurrent.futures.ProcessPoolExecutor(
        (os.cpu_count() or 1) + 1, mp_context=context
    ) as pool:
        for done in concurrent.futures.as_completed([pool.submit(run, m) for m in modules]):
            module, n_run, n_bad, n_skipped, seconds, text = done.result()
            print(
                f"{'FAILED' if n_bad else 'ok':6} {module} ({n_run} tests, {seconds:.1f} s)\n{text}",
                end="",
            )
            passed, failed = passed + n_run - n_bad - n_skipped, failed + n_bad
            skipped += n_skipped
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
