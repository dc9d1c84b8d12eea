"""Files in ``.zip`` and ``.gz``, and standard input: unpacked where ordinary readers can read them."""

from __future__ import annotations

import atexit
import contextlib
import gzip
import shutil
import sys
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextvars import ContextVar
from pathlib import Path, PurePosixPath
from typing import IO

from polygene.commit.leftovers import temporary_folder
from polygene.errors import FileError, PolygeneError, UsageError, reason_of
from polygene.formats import once
from polygene.formats.base import is_beside
from polygene.formats.endings import ENDINGS, KMZ, LINEAGE, PACKED, ZIPPED

PIPE = "-"
_BESIDE = (".dbf", ".shx", ".prj", ".cpg")  # what a layer file may need at its side
_BLOCK = 1 << 20
_MOST_MEMBERS = 10_000
# Layers shrink to a third or a thirtieth; what grows more than this is made to fill the disk.
_MOST_GROWTH = 300
_SMALL = 64 << 20


class Unpacked:
    """What has been unpacked, in a folder of its own that goes when it is closed.

    members : packed file, as it was then → the layer files that came out of it
    shown : where a file was unpacked → what messages call it
    """

    def __init__(self) -> None:
        self.members: dict[tuple[object, ...], list[Path]] = {}
        self.shown: dict[str, str] = {}
        self._folder: Path | None = None

    def new_folder(self) -> Path:
        if self._folder is None:
            self._folder = temporary_folder()
        return Path(tempfile.mkdtemp(dir=self._folder))

    def close(self) -> None:
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)
        self.members, self.shown, self._folder = {}, {}, None


_own: ContextVar[Unpacked | None] = ContextVar("polygene_unpacked", default=None)
_everybodys = Unpacked()  # from Python there is no end of a run, only that of Python
atexit.register(_everybodys.close)


@contextlib.contextmanager
def unpacking() -> Iterator[None]:
    """Let what is unpacked while this lasts be gone afterwards; one within another is the same."""
    if _own.get() is not None:
        yield
        return
    unpacked = Unpacked()
    token = _own.set(unpacked)
    try:
        with once.a_run():
            yield
    finally:
        _own.reset(token)
        unpacked.close()


def _here() -> Unpacked:
    return _own.get() or _everybodys


def _key(path: Path) -> tuple[object, ...]:
    """Return what a packed file is known by; another after it was written anew."""
    state = path.stat()
    return path, state.st_mtime_ns, state.st_size, state.st_ino


def is_packed(path: Path) -> bool:
    """Whether layers are inside a file rather than being it."""
    return path.suffix.lower() in PACKED


def standard_input() -> Path:
    """Return a file with all that comes through standard input: Arrow, or GeoJSON, a sequence or whole.

    Raises
    ------
    UsageError
        If nothing is piped into the program.
    FileError
        If it is neither.
    """
    members, key = _here().members, (Path(PIPE),)
    if key not in members:
        if sys.stdin is None or sys.stdin.isatty():
            raise UsageError("'-' stands for standard input, and nothing is piped into it")
        target = _here().new_folder() / "piped.geojsons"
        with target.open("wb") as file:
            _copy(sys.stdin.buffer, file, PIPE, None)
        target = target.rename(target.with_suffix(_ending_of_piped(target)))
        _here().shown[str(target)] = "standard input"
        members[key] = [target]
    return members[key][0]


def _ending_of_piped(path: Path) -> str:
    """Return the ending that what was piped would have as a file."""
    with path.open("rb") as file:
        if file.read(6).startswith((b"ARROW1", b"\xff\xff\xff\xff")):
            return ".arrows"
        file.seek(0)
        lines = filter(None, (line.removeprefix(b"\xef\xbb\xbf").strip() for line in file))
        first, is_alone = next(lines, b""), next(lines, None) is None
    if first[:1] not in (b"{", b"\x1e", b""):
        raise FileError(
            "standard input is neither GeoJSON nor Arrow, which is what can be piped; write it to a "
            "file with the ending of its format"
        )
    if is_alone:  # it may be either, whatever it is
        return ".geojson" if b'"FeatureCollection"' in first[:512] else ".geojsons"
    from polygene.formats.geojson.reading import is_document  # with all that reading it needs

    # A sequence has a whole object in its first line, or a mark in front of it.
    return ".geojsons" if first[:1] == b"\x1e" or is_document(first) else ".geojson"


def members(path: Path) -> list[Path]:
    """Return the layer files inside a packed one, in order of name, unpacked once a run.

    Raises
    ------
    FileError
        If it is damaged, encrypted, made to fill the disk, or holds no layer file.
    """
    known = _here().members
    try:
        key = _key(path)
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    if key not in known:
        try:
            unpack = _from_zip if path.suffix.lower() in ZIPPED else _from_gzip
            known[key] = unpack(path)
        except OSError as err:
            if isinstance(err, gzip.BadGzipFile):
                raise FileError(f"{path} is no gzip file, whatever its ending says") from err
            raise FileError(f"cannot read {path}: {reason_of(err)}") from err
        except zipfile.BadZipFile as err:
            raise FileError(f"{path} is no zip file, or is damaged: {err}") from err
        except (zlib.error, EOFError, UnicodeDecodeError) as err:  # the last of a member's name
            raise FileError(
                f"{path} is damaged or cut short; take it from its source again"
            ) from err
        except (NotImplementedError, RuntimeError) as err:
            raise FileError(f"{path} cannot be unpacked here: {err}; unpack it yourself") from err
    return known[key]


def stands_for(path: Path, name: str) -> None:
    """Let messages and addresses call a local file by the name of what it stands for."""
    _here().shown[str(path)] = name
    _here().members[(name,)] = [path]


def shown(path: Path) -> str:
    """Return what messages call a file: its own path, or that of the packed one it is in."""
    return _here().shown.get(str(path), str(path))


def outermost(path: Path) -> str:
    """Return the file that an address of a layer begins with: the packed one, if it is in such."""
    text = str(path)
    found = next((str(key[0]) for key, inside in _here().members.items() if path in inside), text)
    return _here().shown.get(found, found)


@contextlib.contextmanager
def own_names() -> Iterator[None]:
    """Let errors speak of packed files by their own paths, not of where they were unpacked."""
    try:
        yield
    except PolygeneError as err:
        if not any(p in str(a) for a in err.args for p in _here().shown):
            raise
        raise type(err)(*map(_with_own_names, err.args)) from err


def _with_own_names(value: object) -> object:
    if isinstance(value, (str, Path)):
        text = str(value)
        for place, own in _here().shown.items():
            text = text.replace(place, own)
        return text
    return value


def _from_gzip(path: Path) -> list[Path]:
    inner = Path(path.stem)
    if inner.suffix.lower() not in ENDINGS:
        raise FileError(
            f"{path}: what is in it is unclear; call it like layer.geojson.gz or layer.gpkg.gz"
        )
    target = _here().new_folder() / inner.name
    with gzip.open(path, "rb") as source, target.open("wb") as file:
        _copy(source, file, str(path), most_bytes(path))
    _here().shown[str(target)] = str(path)
    return [target]


def _from_zip(path: Path) -> list[Path]:
    folder = _here().new_folder()
    found: list[Path] = []
    with zipfile.ZipFile(path) as archive:
        infos = archive.infolist()
        siblings: dict[str, set[str]] = {}
        for info in infos:
            name = PurePosixPath(info.filename.replace("\\", "/"))
            siblings.setdefault(str(name.parent), set()).add(name.name)
        if len(infos) > _MOST_MEMBERS:
            raise FileError(f"{path} holds {len(infos):,} files; unpack it yourself")
        places: dict[str, Path] = {}
        left = most_bytes(path)
        for info in sorted(infos, key=lambda info: info.filename):
            name = PurePosixPath(info.filename.replace("\\", "/"))
            ending = name.suffix.lower()
            if (
                not name.name
                or info.is_dir()
                or name.name.startswith(".")
                or "__MACOSX" in name.parts
            ):
                continue
            if ending not in (*ENDINGS, *_BESIDE):
                continue
            if (
                path.suffix.lower() == KMZ and ending != ".kml"
            ):  # a table may lie beside as a picture
                continue
            # Folders of the archive are numbered here, so no name can lead out of ours.
            place = places.setdefault(str(name.parent), folder / str(len(places)))
            place.mkdir(exist_ok=True)
            target = place / name.name
            with archive.open(info) as source, target.open("wb") as file:
                left -= _copy(source, file, str(path), left)
            is_part = is_beside(Path(name.name), siblings[str(name.parent)])
            if ending in ENDINGS and not (is_part or name.name.endswith(LINEAGE)):
                found.append(target)
                _here().shown[str(target)] = f"{path}/{name}"
    if not found:
        raise FileError(f"{path} holds no file of a known format ({', '.join(ENDINGS)})")
    return found


def most_bytes(path: Path) -> int:
    """Return how many bytes may come out of a packed file, all in all."""
    return max(_SMALL, _MOST_GROWTH * path.stat().st_size)


def _copy(source: IO[bytes] | gzip.GzipFile, target: IO[bytes], name: str, most: int | None) -> int:
    """Copy to the end in blocks; refuse what grows beyond belief; return the bytes written."""
    n_bytes = 0
    while block := source.read(_BLOCK):
        n_bytes += len(block)
        if most is not None and n_bytes > most:
            raise FileError(
                f"{name} would grow to more than {_MOST_GROWTH} times its size; if it is no "
                "attempt to fill the disk, unpack it yourself"
            )
        target.write(block)
    return n_bytes
