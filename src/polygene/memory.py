"""Memory: how much a run may take, and how the C library deals with what arrays leave behind."""

from __future__ import annotations

import contextlib
import os
import sys
from pathlib import Path

M_TRIM_THRESHOLD, M_MMAP_MAX, M_ARENA_MAX = -1, -4, -8  # of malloc.h


def keep_freed_memory() -> bool:
    """Ask for memory that was freed to be kept for the next array; return whether it will be.

    For a program that makes and leaves many arrays of megabytes: the system else takes the pages back
    each time and clears them anew, which costs a fifth of an overlay. Known to glibc; elsewhere nothing
    happens. It is the whole process's, so nothing but the program itself should call it.
    """
    if not sys.platform.startswith("linux"):
        return False
    import ctypes

    try:
        mallopt = ctypes.CDLL(None).mallopt
    except (AttributeError, OSError):
        return False
    # Blocks of a mapping of their own would go back, whatever their size; 2 GB is the most it takes.
    # What one thread leaves is for all: with a heap each they would keep it from each other.
    return bool(
        mallopt(M_MMAP_MAX, 0)
        and mallopt(M_TRIM_THRESHOLD, (1 << 31) - 1)
        and mallopt(M_ARENA_MAX, 1)
    )


def give_back() -> None:
    """Give memory that was freed and kept back to the system, for other processes to take."""
    import pyarrow as pa

    pa.default_memory_pool().release_unused()
    if sys.platform.startswith("linux"):
        import ctypes

        with contextlib.suppress(AttributeError, OSError):  # a C library that has it not
            ctypes.CDLL(None).malloc_trim(0)


def of_machine() -> int | None:
    """Return the bytes of memory there are, with what the disk lends; None if the system tells not.

    In a container that has its own limit, that is it.
    """
    try:
        found = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (AttributeError, ValueError, OSError):
        return None
    with contextlib.suppress(OSError, ValueError, StopIteration):
        lines = Path("/proc/meminfo").read_text(encoding="ascii").splitlines()
        found += 1024 * int(next(line for line in lines if line.startswith("SwapTotal")).split()[1])
    with contextlib.suppress(OSError, ValueError):  # "max" is no number
        own = int(Path("/sys/fs/cgroup/memory.max").read_text(encoding="ascii"))
        found = min(found, own)
    return found


def limit(n_bytes: int) -> bool:
    """Let this process take no more memory; what asks for more gets a MemoryError.

    Returns whether the system does that.
    """
    try:
        import resource

        _, most = resource.getrlimit(resource.RLIMIT_DATA)
        if most != resource.RLIM_INFINITY:
            n_bytes = min(n_bytes, most)
        resource.setrlimit(resource.RLIMIT_DATA, (n_bytes, most))
    except (ImportError, AttributeError, ValueError, OSError):  # not on Windows
        return False
    return True
