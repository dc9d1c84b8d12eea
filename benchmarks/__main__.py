"""Print the table of all benchmarks; with words, only of those whose names hold one."""

from __future__ import annotations

import sys

from benchmarks.cases import ALL
from polygene.memory import keep_freed_memory

if __name__ == "__main__":
    keep_freed_memory()  # as the program does
    print("| work | measured | yardstick | ratio | at most | met |")
    print("|---|---|---|---|---|---|")
    for case in ALL:
        if not sys.argv[1:] or any(word in case.__name__ for word in sys.argv[1:]):
            for row in case():
                print(row.markdown(), flush=True)
