"""A page on paper: what n workers would take for ten thousand million edges, from a run made here.

``python -m benchmarks.simulated WORK`` reads what the tasks of a run left in its folder (as of
`polygene.growing.running.run`): seconds and bytes of each, and plays as many tasks as the wanted edges
are on n workers, first free first served. Storage is shared: all workers together read and write no
faster than it does, each no faster than its network. The scheduler hands out one task after the other.
"""

from __future__ import annotations

import argparse
import heapq
import pickle
import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

HAND_OUT = 0.002  # seconds of the scheduler and of who asked, for each task
NETWORK = 1.25e9  # bytes a second of a worker: ten gigabits
STORAGE = 5e9  # bytes a second of what all share
PLANNING = 3.4e-8  # seconds for each task and group of rows: 401 tasks of 80,000 groups in 1.1 s
GROUP = 124_000  # edges of a group of rows
PUTTING = 14e6  # bytes of a part that a worker puts together in a second: 18 in 28 s on two


@dataclass(frozen=True)
class Run:
    """What was measured: (n_tasks,) seconds, edges, bytes written."""

    seconds: np.ndarray
    edges: np.ndarray
    written: np.ndarray

    @staticmethod
    def of(folder: Path) -> Run:
        done = [pickle.loads(path.read_bytes()) for path in sorted(folder.glob("tasks/d?????"))]
        sizes = [one.made.facts.size if one.made.facts else 0 for one in done]
        return Run(
            np.array([one.seconds for one in done]),
            np.array([one.edges for one in done]),
            np.array(sizes),
        )


def played(run: Run, edges: float, n_workers: int, rng: np.random.Generator) -> dict[str, float]:
    """Return the seconds of each step, as they would pass."""
    n_tasks = max(1, round(edges / run.edges.mean()))
    picked = rng.integers(0, len(run.seconds), n_tasks)
    # What is read is about what is written, and the network takes no longer than the storage lets it.
    bytes_of = 2.0 * run.written[picked]
    share = min(NETWORK, STORAGE / n_workers)
    work = run.seconds[picked] + bytes_of / share
    tasks = _makespan(work, n_workers)
    n_parts = max(1, int(run.written[picked].sum() / 45e6))
    part = 45e6 / PUTTING + 2 * 45e6 / share
    parts = _makespan(np.full(n_parts, part), n_workers)
    plan = PLANNING * n_tasks * (edges / GROUP)
    return {"plan": plan, "tasks": tasks, "parts": parts, "all": plan + tasks + parts}


def _makespan(work: np.ndarray, n_workers: int) -> float:
    """Return when the last of some works is done, handed out one by one to who is free first."""
    free = [0.0] * n_workers
    handed, end = 0.0, 0.0
    for seconds in work.tolist():
        handed += HAND_OUT
        begins = max(handed, heapq.heappop(free))
        heapq.heappush(free, begins + seconds)
        end = max(end, begins + seconds)
    return end


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("work", type=Path)
    parser.add_argument("--edges", type=float, default=1e10)
    asked = parser.parse_args()
    run = Run.of(asked.work)
    rng = np.random.default_rng(1)
    each = f"{run.edges.mean():,.0f} edges and {run.seconds.mean():.2f} s"
    sys.stdout.write(f"{len(run.seconds)} tasks of {each}; {asked.edges:,.0f} edges\n")
    sys.stdout.write("| workers | plan | tasks | parts | all | times as fast |\n")
    first = None
    for n in (1, 2, 10, 50, 100, 200, 400, 800, 1600):
        found = played(run, asked.edges, n, rng)
        first = first or found["all"]
        words = " | ".join(f"{seconds / 60:.1f} min" for seconds in found.values())
        sys.stdout.write(f"| {n} | {words} | {first / found['all']:.0f} |\n")


if __name__ == "__main__":
    main()
