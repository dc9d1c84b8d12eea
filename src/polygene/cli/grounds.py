"""The options by which work is cut into tasks: how much memory, how many processes, or a cluster."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli.sizes import Size

if TYPE_CHECKING:
    from polygene.cli.asked import Asked
    from polygene.growing.running import Grounds

SHARE = 0.6  # of the machine's memory that a work may take by itself
_OPTIONS = (
    click.option(
        "--memory",
        type=Size(),
        metavar="SIZE",
        help="Work in tasks, in about this memory for all processes, as 4GB.",
    ),
    click.option(
        "--workers",
        type=click.IntRange(1),
        metavar="N",
        help="Work in tasks, in so many processes.",
    ),
    click.option(
        "--cluster",
        metavar="ADDRESS",
        help="Work in tasks, on the workers of a Dask scheduler, as tcp://host:8786.",
    ),
    click.option(
        "--tasks", type=click.IntRange(1), metavar="N", help="About how many tasks there are to be."
    ),
    click.option(
        "--resume", is_flag=True, help="Go on from what the same command has done in tasks before."
    ),
)


def common(function: Any) -> Any:
    """Give a command the options."""
    for option in reversed(_OPTIONS):
        function = option(function)
    return function


def of(asked: Asked) -> Grounds | None:
    """Return what there is to work with; None if nobody asked for tasks."""
    told = (asked.memory, asked.workers, asked.cluster, asked.tasks, asked.resume or None)
    if all(value is None for value in told):
        return None
    if asked.cluster and asked.workers:
        raise click.UsageError("--cluster has workers of its own; leave --workers out")
    from polygene.growing.running import DEFAULT_MEMORY, Grounds

    memory, workers, cluster = _settings()
    return Grounds(
        memory=asked.memory or memory or DEFAULT_MEMORY,
        workers=asked.workers or workers or 1,
        cluster=asked.cluster or ("" if asked.workers else cluster),
        resume=asked.resume,
        tasks=asked.tasks,
    )


def texts_of(asked: Asked) -> dict[str, str]:
    """Return what was asked for, by key, as it would be typed: nothing if no tasks were."""
    if of(asked) is None:
        return {}
    told = {
        "memory": None if asked.memory is None else f"{asked.memory // 1000}kB",
        "workers": None if asked.workers is None else str(asked.workers),
        "cluster": asked.cluster,
        "tasks": None if asked.tasks is None else str(asked.tasks),
        "resume": "" if asked.resume else None,
    }
    return {key: text for key, text in told.items() if text is not None}


def _settings() -> tuple[int | None, int | None, str]:
    """Return memory, workers and cluster as the settings file has them."""
    found = click.get_current_context().meta.get("polygene.settings")
    if found is None:
        return None, None, ""
    memory = Size().convert(found.memory, None, None) if found.memory else None
    workers = int(found.workers) if found.workers else None
    return memory, workers, found.cluster


def of_machine() -> Grounds:
    """Return what this machine has."""
    from polygene import memory
    from polygene.growing.running import DEFAULT_MEMORY, Grounds

    most = int(SHARE * (memory.of_machine() or DEFAULT_MEMORY))
    own, workers, cluster = _settings()
    return Grounds(own or most, workers or os.cpu_count() or 1, cluster)


def is_too_large(addresses: Sequence[str]) -> bool:
    """Whether layers in folders have more edges than fit into memory, by their indices alone."""
    folders = [Path(text.partition("#")[0]) for text in addresses]
    folders = [path for path in folders if path.suffix == ".parquet" and path.is_dir()]
    if not folders:
        return False
    from polygene import memory
    from polygene.errors import PolygeneError
    from polygene.formats.parquet_parts.index import read_index
    from polygene.growing.tasks import BYTES_AN_EDGE

    n_vertices = 0
    with contextlib.suppress(PolygeneError):  # whoever reads it says so
        for path in folders:
            index = read_index(path)
            n_vertices += index.n_vertices if index is not None else 0
    most = memory.of_machine()
    return most is not None and n_vertices * BYTES_AN_EDGE > SHARE * most
