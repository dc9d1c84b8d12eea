"""Types of columns as SQL declares them, by the names that Arrow has for them."""

from __future__ import annotations

import re

_BY_NAME = {
    "BOOLEAN": "bool",
    "TINYINT": "int8",
    "SMALLINT": "int16",
    "MEDIUMINT": "int32",
    "INT": "int64",
    "INTEGER": "int64",
    "FLOAT": "float",
    "DOUBLE": "double",
    "REAL": "double",
    "DATE": "date32[day]",
    "DATETIME": "timestamp[ms, tz=UTC]",
    "TEXT": "string",
    "BLOB": "binary",
}
_BY_AFFINITY = (
    (("INT",), "int64"),
    (("CHAR", "CLOB", "TEXT"), "string"),
    (("BLOB",), "binary"),
    (("REAL", "FLOA", "DOUB", "NUM", "DEC"), "double"),
)


def field_type(declared: str | None) -> tuple[str, str | None]:
    """Return Arrow's name of the type that a column is declared as, and the width that is stated.

    Names that the standard does not know are read by SQLite's own rules of affinity (SQLite,
    "Datatypes", section 3.1).
    """
    match = re.fullmatch(r"\s*(\w[\w ]*?)\s*(?:\(\s*(\d+)\s*(?:,\s*\d+\s*)?\))?\s*", declared or "")
    base, width = (match[1].upper(), match[2]) if match else ("", None)
    found = _BY_NAME.get(base)
    if found is None:
        kinds = (kind for words, kind in _BY_AFFINITY if any(word in base for word in words))
        found = next(kinds, "string")
    return found, width
