"""Times and memory, each as a ratio to a yardstick of the same run."""

from __future__ import annotations

import resource
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np


@dataclass
class Row:
    """One line of the table: what was done, its measure and the yardstick's, and the most allowed."""

    work: str
    measured: float
    yardstick: float
    against: str
    limit: float

    @property
    def ratio(self) -> float:
        return self.measured / self.yardstick

    def markdown(self) -> str:
        verdict = "yes" if self.ratio <= self.limit else "**no**"
        return (
            f"| {self.work} | {self.measured:.3f} | {self.against} {self.yardstick:.3f} "
            f"| {self.ratio:.2f} | {self.limit:g} | {verdict} |"
        )


def seconds(work: Callable[[], Any], runs: int = 5, warms: bool = True) -> float:
    """Return the median time of several runs, after one that does not count."""
    if warms:
        work()
    taken = []
    for _ in range(runs):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


def paired(
    work: Callable[[], Any], yardstick: Callable[[], Any], runs: int = 5
) -> tuple[float, float]:
    """Time both in turn, so that a machine that changes its speed changes both; return medians."""
    work()
    yardstick()
    mine, theirs = [], []
    for _ in range(runs):
        for function, taken in ((work, mine), (yardstick, theirs)):
            began = time.perf_counter()
            function()
            taken.append(time.perf_counter() - began)
    return statistics.median(mine), statistics.median(theirs)


def sort_of_edges(xy: np.ndarray) -> Callable[[], Any]:
    """The yardstick L: a lexicographic sort of the four coordinates of as many edges."""
    edges = np.hstack([xy[:-1], xy[1:]])
    columns = np.ascontiguousarray(edges.T)
    return lambda: np.lexsort(columns)


def resident_bytes() -> int:
    """Return the memory this process has now."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize()


def forget_peak() -> None:
    """Let the peak begin anew from what the process has now."""
    Path("/proc/self/clear_refs").write_text("5")


def peak_bytes() -> int:
    """Return the most memory this process has had."""
    # Not getrusage: that remembers what the process was forked from.
    status = Path("/proc/self/status").read_text()
    return next(int(row.split()[1]) for row in status.splitlines() if "VmHWM" in row) * 1024
