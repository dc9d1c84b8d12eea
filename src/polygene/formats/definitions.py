"""Definitions that say what their code says: those of PROJ, known by their hashes.

A file gives a definition beside the code of its CRS. To write it to another, as it is, it must be
known to be that of the code, and PROJ takes a quarter of a small command to load. What is not known
here is asked of PROJ.

``python -m polygene.formats.definitions`` makes the table anew, of the PROJ that is installed.
"""

from __future__ import annotations

import bisect
import contextlib
import re
import struct
from pathlib import Path
from typing import Any

import orjson

from polygene import proj
from polygene.crs_coded import coded, definition_with

SURE_PRJ = 70  # of 100, how sure PROJ has to be of whose code a .prj is, which states none
TABLE = Path(__file__).with_name("definitions.bin")
# By code: the first eight bytes of BLAKE2b of the WKT 1, the WKT 2, the PROJJSON and the WKT of .prj
# files; of that 0 where PROJ takes it for another code's, or none.
_ROW, _FORMS = struct.Struct("<IQQQQ"), ("wkt", "wkt2", "json", "prj")


def wkt_of(crs: proj.CRS) -> str:
    """Return the definition in the text of OGC 01-009, or the newer one of OGC 18-010 if need be."""
    given = definition_with(crs)
    return given if given and is_known(crs, given, "wkt") else _wkt_by_proj(crs)


def wkt2_of(crs: proj.CRS) -> str:
    """Return the definition in the text of OGC 18-010."""
    given = definition_with(crs)
    return given if given and is_known(crs, given, "wkt2") else str(crs.to_wkt())


def json_of(crs: proj.CRS) -> dict[str, Any]:
    """Return the definition as PROJJSON."""
    given = definition_with(crs)
    found: dict[str, Any] = (
        orjson.loads(given) if given and is_known(crs, given, "json") else crs.to_json_dict()
    )
    return found


def coded_in_json(given: dict[str, Any]) -> proj.CRS | None:
    """Return the CRS of a PROJJSON that is known to be that of the code in it; None if it is not."""
    own = given.get("id")
    if not isinstance(own, dict):
        return None
    text = orjson.dumps(given).decode()
    found = coded(f"{own.get('authority')}:{own.get('code')}", text)
    return found if found is not None and is_known(found, text, "json") else None


def coded_in_prj(text: str) -> proj.CRS | None:
    """Return the CRS of a .prj, which states no code; None if it is not known whose it is."""
    table, wanted = TABLE.read_bytes(), _hash(text).to_bytes(8, "little")
    place = table.find(wanted)
    while place >= 0 and place % _ROW.size != _ROW.size - len(wanted):
        place = table.find(wanted, place + 1)
    if place < 0:
        return None
    number = _ROW.unpack_from(table, place - place % _ROW.size)[0]
    return coded(f"EPSG:{number}", text)


def prj_of(crs: proj.CRS) -> str:
    """Return the definition as .prj files have it; nothing where PROJ has to be asked."""
    given = definition_with(crs)
    return given if given and is_known(crs, given, "prj") else ""


def _wkt_by_proj(crs: proj.CRS) -> str:
    first = next(version for version in proj.WktVersion if version.name.startswith("WKT1"))
    with contextlib.suppress(proj.CRSError):
        return re.sub(r"\s*\n\s*", "", crs.to_wkt(first))
    return str(crs.to_wkt())


def _hash(text: str) -> int:
    import hashlib  # most commands write no definition

    return int.from_bytes(hashlib.blake2b(text.encode(), digest_size=8).digest(), "little")


def is_known(crs: proj.CRS, text: str, *forms: str) -> bool:
    """Whether a text is the definition, in one of some forms, of a CRS with a code of the EPSG's."""
    authority, number = crs.to_authority()
    if authority != "EPSG":
        return False
    table = TABLE.read_bytes()
    rows = range(0, len(table), _ROW.size)
    k = bisect.bisect_left(rows, int(number), key=lambda at: _ROW.unpack_from(table, at)[0])
    code, *hashes = _ROW.unpack_from(table, rows[k]) if k < len(rows) else (-1,)
    wanted = [own for own, form in zip(hashes, _FORMS, strict=False) if form in (forms or _FORMS)]
    return code == int(number) and _hash(text) in wanted


def _made() -> bytes:
    """Return the table of all codes that are known without PROJ."""
    from pyproj.database import get_codes
    from pyproj.enums import PJType

    rows = []
    kinds = [PJType.GEOGRAPHIC_2D_CRS, PJType.PROJECTED_CRS]
    for number in sorted(map(int, sum((get_codes("EPSG", kind, True) for kind in kinds), []))):
        found = coded(f"EPSG:{number}")
        if found is not None:
            json = orjson.dumps(found.to_json_dict()).decode()
            texts = _wkt_by_proj(found), str(found.to_wkt()), json
            rows.append((number, *map(_hash, texts), _hash_of_prj(found)))
    return b"".join(_ROW.pack(*row) for row in rows)


def _hash_of_prj(crs: proj.CRS) -> int:
    try:
        text = str(crs.to_wkt(proj.WktVersion.WKT1_ESRI))
    except proj.CRSError:
        return 0
    known = proj.CRS.from_wkt(text).to_epsg(min_confidence=SURE_PRJ)
    return _hash(text) if ("EPSG", str(known)) == crs.to_authority() else 0


if __name__ == "__main__":
    TABLE.write_bytes(_made())
