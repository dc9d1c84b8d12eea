"""Settings: ``polygene.toml`` in the working folder or above it. Options win over them."""

from __future__ import annotations

import os
import stat
import tomllib
from dataclasses import fields
from pathlib import Path

from polygene.classes import dataclass
from polygene.errors import FileError, SheetError, did_you_mean, reason_of
from polygene.formats.endings import ENDINGS
from polygene.written import remark

NAME = "polygene.toml"
_NUMBERS = {"precision", "workers"}  # which may be said without a unit, so without quotes


@dataclass(frozen=True)
class Settings:
    """What a settings file may say.

    folder : where destinations that name no folder lie, and inputs that are not here; seen from the
        settings file
    format : the ending of files in folders, ``.gpkg`` if nothing is said
    precision, crs, encoding : as the options of these names
    memory, workers, cluster : as these options, where a command works in tasks
    cache : how much is kept of what comes over the web at most, as 2GB
    tokens : the environment variable whose value is sent to a host as a token, as host and variable:
        "data.example.org SURVEY_TOKEN, maps.example.org MAPS_TOKEN"
    person : who works here, for the lineage; credit, licence : of results, if nothing else is said
    """

    folder: str = ""
    format: str = ""
    precision: str = ""
    crs: str = ""
    encoding: str = ""
    memory: str = ""
    workers: str = ""
    cluster: str = ""
    cache: str = ""
    tokens: str = ""
    person: str = ""
    credit: str = ""
    licence: str = ""


def find(folder: Path) -> Settings:
    """Return the settings that hold in a folder: those of the nearest file in it or above it.

    They say where results go, so one that somebody else could have written is passed over, and said.

    Raises
    ------
    FileError
        If it cannot be read.
    SheetError
        If it does not parse, or says something that is not known.
    """
    for place in (folder, *folder.parents):
        path = place / NAME
        if path.is_file():
            stranger = _stranger(path)
            if not stranger:
                return read(path)
            remark(f"{path} is not obeyed: {stranger}")
    return Settings()


def _stranger(path: Path) -> str:
    """Return who else than the one who works here may have written a file; empty if nobody."""
    state = path.stat()
    if hasattr(os, "geteuid") and state.st_uid not in (0, os.geteuid()):
        return f"it belongs to another user (number {state.st_uid})"
    return "everybody may write it" if os.name == "posix" and state.st_mode & stat.S_IWOTH else ""


def variables_of(tokens: str) -> dict[str, str]:
    """Return the variable named for each host.

    Raises
    ------
    ValueError
        If the text is not of pairs of a host and a variable.
    """
    pairs = [own.split() for own in tokens.split(",") if own.strip()]
    for own in pairs:
        if len(own) != 2 or not own[1].isidentifier():
            raise ValueError(
                f"{' '.join(own)!r} is not a host and the name of a variable, as in "
                "'data.example.org SURVEY_TOKEN'"
            )
    return {host.lower(): variable for host, variable in pairs}


def read(path: Path) -> Settings:
    """Read a settings file; errors as in `find`."""
    try:
        found = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as err:
        raise SheetError(path, None, f"it is no valid TOML: {err}") from err
    known = [field.name for field in fields(Settings)]
    for name, value in found.items():
        if name == "workspace":
            raise SheetError(path, None, "the setting 'workspace' is called 'folder' now")
        if name not in known:
            raise SheetError(
                path,
                None,
                f"there is no setting {name!r}{did_you_mean(name, known)} (there are "
                f"{', '.join(known)})",
            )
        if name in _NUMBERS and isinstance(value, int | float) and not isinstance(value, bool):
            found[name] = str(value)
        elif not isinstance(value, str):
            raise SheetError(path, None, f"{name} is a text in quotes, not {value!r}")
    settings = Settings(**found)
    try:
        variables_of(settings.tokens)
    except ValueError as err:
        raise SheetError(path, None, f"tokens: {err}") from err
    ending = f".{settings.format.removeprefix('.')}"
    if settings.format and ending not in ENDINGS:
        raise SheetError(
            path, None, f"{settings.format!r} is no format; there are {', '.join(ENDINGS)}"
        )
    if settings.folder:
        own = Path(settings.folder).expanduser()
        seen = own if own.is_absolute() else os.path.relpath(path.parent / own)
        settings = Settings(**{**found, "folder": str(seen)})
    return settings
