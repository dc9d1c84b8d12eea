"""The parser of expressions; its tables are made with the package, which saves each start 0.1 s.

`setup.py` calls `write_tables` before there is a package, so this knows nothing of the rest of it.
"""

from __future__ import annotations

import hashlib
import io
import pickle
import sys
from pathlib import Path

import lark

GRAMMAR, TABLES = "cql2.lark", "cql2.tables"
_HERE = Path(__file__).parent


def parser(folder: Path = _HERE) -> lark.Lark:
    """Return the parser: from the tables, if they are of this grammar and this lark, else made anew."""
    grammar = (_HERE / GRAMMAR).read_text(encoding="utf-8")
    stamp = _stamp(grammar)
    try:
        held = (folder / TABLES).read_bytes()
        if held.startswith(stamp):
            found: lark.Lark = lark.Lark.load(io.BytesIO(held[len(stamp) :]))
            return found
    except (OSError, EOFError, pickle.UnpicklingError):  # not there, or cut short
        pass
    return _built(grammar)


def write_tables(folder: Path) -> None:
    """Write the tables into a folder, for `parser`."""
    grammar = (_HERE / GRAMMAR).read_text(encoding="utf-8")
    held = io.BytesIO()
    _built(grammar).save(held)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / TABLES).write_bytes(_stamp(grammar) + held.getvalue())


def _built(grammar: str) -> lark.Lark:
    return lark.Lark(grammar, parser="lalr", propagate_positions=True, maybe_placeholders=False)


def _stamp(grammar: str) -> bytes:
    """Return what tables begin with that are of a grammar, this Python and this lark."""
    of = f"{lark.__version__} {sys.version_info[:2]} {grammar}"
    return hashlib.sha256(of.encode()).digest()
