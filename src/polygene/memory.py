"""How the C library deals with memory that arrays leave behind."""

from __future__ import annotations

import sys

M_TRIM_THRESHOLD, M_MMAP_MAX = -1, -4  # of malloc.h


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
    return bool(mallopt(M_MMAP_MAX, 0) and mallopt(M_TRIM_THRESHOLD, (1 << 31) - 1))
