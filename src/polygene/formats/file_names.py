"""File names made of names that a stranger gave: of layers, and of steps of recipes."""

from __future__ import annotations

import re
import unicodedata

LONGEST = (
    180  # bytes of UTF-8: file systems allow 255, and endings and a temporary name come besides
)
_UNSAFE = re.compile(r'[/\\:*?"<>|\x00-\x1f\x7f]')
_DEVICES = re.compile(r"(con|prn|aux|nul|com\d|lpt\d)(\..*)?", re.IGNORECASE)


def file_name(name: str) -> str:
    """Return a name as one component of a path that lies in its folder on every common system.

    Separators and what else some system refuses becomes ``_``, as does a dot in front and a dot or
    space at the end; names that stand for devices get a ``_`` in front; what is too long is cut. A name
    that needs none of this is returned as it is.
    """
    safe = _UNSAFE.sub("_", name.encode("utf-8", "replace").decode("utf-8"))
    safe = "".join("_" if unicodedata.category(c) in ("Cc", "Cf", "Zl", "Zp") else c for c in safe)
    safe = re.sub(r"^\.|[. ]$", "_", safe)
    if _DEVICES.fullmatch(safe):
        safe = f"_{safe}"
    return safe.encode()[:LONGEST].decode("utf-8", "ignore") or "_"
