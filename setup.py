"""Build the kernels as C extensions where a C compiler is at hand; leave them out where not.

The kernels are ordinary Python files in Cython's pure-Python mode. Without their compiled form the
same files run as they are: slower, with the same results.
"""

from pathlib import Path

from Cython.Build import cythonize
from setuptools import Extension, setup

KERNELS = sorted(
    path for path in Path("src/polygene/kernels").glob("*.py") if path.name not in ("__init__.py",)
)

extensions = [
    Extension(
        f"polygene.kernels.{path.stem}",
        [path.as_posix()],
        extra_compile_args=["-O2", "-fno-strict-aliasing", "-Wno-unused-function"],
        optional=True,
    )
    for path in KERNELS
]

setup(
    ext_modules=cythonize(
        extensions,
        include_path=["src"],
        language_level=3,
        compiler_directives={
            "boundscheck": False,
            "wraparound": False,
            "cdivision": True,
            "initializedcheck": False,
            "freethreading_compatible": True,
        },
        quiet=True,
    ),
    options={"build_ext": {"parallel": 2}},
)
