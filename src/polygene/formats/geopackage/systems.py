"""The coordinate reference systems of a GeoPackage."""

from __future__ import annotations

import contextlib
import sqlite3

from polygene import proj
from polygene.crs import code as authority_code
from polygene.crs import is_same, parse
from polygene.errors import DataError
from polygene.formats.definitions import wkt_of

WGS84 = (
    'GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563,'
    'AUTHORITY["EPSG","7030"]],AUTHORITY["EPSG","6326"]],PRIMEM["Greenwich",0,'
    'AUTHORITY["EPSG","8901"]],UNIT["degree",0.0174532925199433,AUTHORITY["EPSG","9122"]],'
    'AUTHORITY["EPSG","4326"]]'
)  # which every GeoPackage has
UNDEFINED = {-1: "Undefined Cartesian", 0: "Undefined geographic"}


def read_crs(connection: sqlite3.Connection, srs_id: int) -> proj.CRS | None:
    """Return the CRS of a row of gpkg_spatial_ref_sys; None for the undefined ones."""
    if srs_id in UNDEFINED:
        return None
    names = ["organization", "organization_coordsys_id", "definition", *_newer_text(connection)]
    row = connection.execute(
        f"SELECT {', '.join(names)} FROM gpkg_spatial_ref_sys WHERE srs_id = ?", (srs_id,)
    ).fetchone()
    if row is None:
        return None
    organization, number, *definitions = row
    # By its code, or the newer text, where there is one, which says more.
    for stated in (f"{str(organization).upper()}:{number}", *definitions[::-1]):
        with contextlib.suppress(DataError):
            return parse(str(stated), str(definitions[0] or ""))
    return None


def _newer_text(connection: sqlite3.Connection) -> list[str]:
    """Return the column for WKT 2, if the extension for it is there (OGC 12-128r19, F.10)."""
    columns = connection.execute("SELECT name FROM pragma_table_info('gpkg_spatial_ref_sys')")
    return [name for (name,) in columns if name.lower() == "definition_12_063"]


def ensure_crs(connection: sqlite3.Connection, crs: proj.CRS | None) -> int:
    """Return the srs_id of a CRS, adding its row if the file has none."""
    if crs is None:
        return -1
    if crs.is_geographic and is_same(crs, parse("EPSG:4326")):
        return 4326
    authority = authority_code(crs)
    if authority is not None and authority[1].isdigit():
        organization, number = authority[0], int(authority[1])
        found = connection.execute(
            "SELECT srs_id FROM gpkg_spatial_ref_sys "
            "WHERE upper(organization) = ? AND organization_coordsys_id = ?",
            (organization.upper(), number),
        ).fetchone()
        if found:
            return int(found[0])
        srs_id = number if organization.upper() == "EPSG" else 0
    else:
        organization, number, srs_id = "NONE", 0, 0
        definition = wkt_of(crs)
        found = connection.execute(
            "SELECT srs_id FROM gpkg_spatial_ref_sys WHERE definition = ?", (definition,)
        ).fetchone()
        if found:
            return int(found[0])
    taken = connection.execute(
        "SELECT count(*) FROM gpkg_spatial_ref_sys WHERE srs_id = ?", (srs_id,)
    ).fetchone()[0]
    if srs_id == 0 or taken:
        highest = connection.execute("SELECT max(srs_id) FROM gpkg_spatial_ref_sys").fetchone()[0]
        srs_id = max(100_000, highest + 1)
    add_crs(
        connection=connection,
        srs_id=srs_id,
        name=crs.name,
        organization=organization,
        number=number or srs_id,
        definition=wkt_of(crs),
        crs=crs,
    )
    return srs_id


def add_crs(
    connection: sqlite3.Connection,
    srs_id: int,
    name: str,
    organization: str,
    number: int,
    definition: str,
    crs: proj.CRS | None = None,
) -> None:
    """Add a row for a CRS; for one of the undefined ones, ``crs`` is None."""
    names = ["srs_name", "srs_id", "organization", "organization_coordsys_id", "definition"]
    values: list[object] = [name, srs_id, organization, number, definition]
    for column in _newer_text(connection):
        names.append(column)
        values.append(definition if crs is None else crs.to_wkt())
    connection.execute(
        f"INSERT INTO gpkg_spatial_ref_sys ({', '.join(names)}) "
        f"VALUES ({', '.join('?' * len(values))})",
        values,
    )
