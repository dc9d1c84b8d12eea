"""The hot loops: arrays in, arrays out, no policy.

Each module is an ordinary Python file in Cython's pure-Python mode. Installed with a C compiler at
hand it is a C extension; without one the same file runs as it is, with the same results. Kernels
are called through `run`, which hands arrays over in the form that keeps the uncompiled ones exact.
Set ``POLYGENE_KERNELS=python`` to run them uncompiled on purpose (debugging, coverage, tests).
"""

from __future__ import annotations

import importlib
import importlib.util
import os
import sys
from collections.abc import Callable
from pathlib import Path
from types import ModuleType
from typing import Any

import numpy as np

NAMES = (
    "exact",
    "pairs",
    "cells",
    "crowds",
    "crossings",
    "pixels",
    "arrange",
    "trace",
    "straight",
    "locate",
    "near",
    "gaps",
    "space",
    "wkb",
    "vertices",
    "valid",
    "places",
    "lattice",
    "meetings",
    "nesting",
    "sound",
    "chains",
    "simple",
    "lists",
    "sums",
    "ranks",
    "steps",
    "boxes",
)


def _load_uncompiled(name: str) -> ModuleType:
    """Import a kernel from its source although a compiled one may lie beside it."""
    full = f"{__name__}.{name}"
    path = str(Path(__file__).with_name(f"{name}.py"))
    spec = importlib.util.spec_from_file_location(full, path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[full] = module
    spec.loader.exec_module(module)
    return module


def _load_all() -> dict[str, ModuleType]:
    if os.environ.get("POLYGENE_KERNELS") == "python":
        return {name: _load_uncompiled(name) for name in NAMES}
    try:
        modules = {name: importlib.import_module(f"{__name__}.{name}") for name in NAMES}
    except ImportError:
        modules = {}
    # Compiled and uncompiled ones cannot be mixed: a compiled one links to the others' C code.
    if not modules or any(str(module.__file__).endswith(".py") for module in modules.values()):
        return {name: _load_uncompiled(name) for name in NAMES}
    return modules


_modules = _load_all()
IS_COMPILED = not str(_modules["exact"].__file__).endswith(".py")

pairs, cells, arrange = (_modules[name] for name in ("pairs", "cells", "arrange"))
crossings, pixels = _modules["crossings"], _modules["pixels"]
trace, locate, near, gaps = (_modules[name] for name in ("trace", "locate", "near", "gaps"))
vertices, valid, sound = (_modules[name] for name in ("vertices", "valid", "sound"))
sums, space, boxes, simple = (_modules[name] for name in ("sums", "space", "boxes", "simple"))
lists, ranks, steps = (_modules[name] for name in ("lists", "ranks", "steps"))
places, straight, wkb = (_modules[name] for name in ("places", "straight", "wkb"))


def run(kernel: Callable[..., Any], *arguments: Any) -> Any:
    """Call a kernel.

    Uncompiled kernels get their arrays as memoryviews, whose items are Python integers: NumPy's
    own scalars would overflow where the compiled form has 128 bits.
    """
    if IS_COMPILED:
        return kernel(*arguments)
    return kernel(*(memoryview(a) if isinstance(a, np.ndarray) else a for a in arguments))
