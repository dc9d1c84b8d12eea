"""Build the kernels as C extensions where a C compiler is at hand; leave them out where not.

The kernels are ordinary Python files in Cython's pure-Python mode. Without their compiled form the
same files run as they are: slower, with the same results.
"""

import importlib.util
import os
import re
from pathlib import Path

from Cython.Build import cythonize
from setuptools import Extension, setup
from setuptools.command.build_ext import build_ext

KERNELS = sorted(Path("src/polygene/kernels").glob("[!_]*.py"))


class BuildWhatCanBe(build_ext):
    """Go on without the extensions that cannot be compiled.

    Setuptools' own ``optional`` does so only when it builds one after the other, and even then an
    editable install misses the files.
    """

    def finalize_options(self) -> None:
        super().finalize_options()
        # Said here since an editable install forgets the options that are given to `setup`.
        self.parallel = self.parallel or os.cpu_count()

    def run(self) -> None:
        super().run()
        in_place = self.inplace or getattr(self, "editable_mode", False)
        write_tables(Path("src" if in_place else self.build_lib) / "polygene" / "table")

    def build_extensions(self) -> None:
        super().build_extensions()
        self.extensions = [
            ext for ext in self.extensions if Path(self.get_ext_fullpath(ext.name)).exists()
        ]

    def build_extension(self, ext: Extension) -> None:
        try:
            super().build_extension(ext)
        except Exception as err:
            print(f"{ext.name} stays uncompiled, slower with the same results: {err}")


def write_tables(folder: Path) -> None:
    """Write the tables of the grammar of expressions; where they are not, each start makes them."""
    source = Path("src/polygene/table/grammar.py")
    spec = importlib.util.spec_from_file_location("grammar", source)
    try:
        grammar = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(grammar)
        grammar.write_tables(folder)
    except Exception as err:
        print(f"expressions take longer to parse at first, with the same results: {err}")


def index_page() -> str:
    """Return the README for an index of packages, which has neither its pictures nor other pages."""
    text = Path("README.md").read_text(encoding="utf-8")
    text = re.sub(r"^!\[.*\]\(docs/.*\)\n+", "", text, flags=re.MULTILINE)
    return re.sub(r"\[([^\]]+)\]\((?!https?:)[^)]*\)", r"\1", text)


extensions = [
    Extension(
        f"polygene.kernels.{path.stem}",
        [path.as_posix()],
        # No fused products: they would spoil the exact sums of `valid`.
        extra_compile_args=[
            "-O2",
            "-ffp-contract=off",
            "-fno-strict-aliasing",
            "-Wno-unused-function",
        ],  # fmt: skip
        optional=True,
    )
    for path in KERNELS
]

setup(
    long_description=index_page(),
    long_description_content_type="text/markdown",
    cmdclass={"build_ext": BuildWhatCanBe},
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
)
