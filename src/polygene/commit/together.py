"""Files written together: each beside its place, all put there in one step at the end.

Killed at any moment, all of them are what they were, or what they were to be. The commit of several
files is decided by a record (`records.py`); one file needs none, for a rename is one step already.
"""

from __future__ import annotations

import contextlib
import os
import stat
import zlib
from collections.abc import Iterable, Iterator, Sequence
from contextvars import ContextVar
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from polygene import written
from polygene.classes import dataclass
from polygene.commit import leftovers, records
from polygene.commit.calm import undisturbed
from polygene.commit.locks import alone_in
from polygene.commit.records import Record, Step
from polygene.errors import FileError, reason_of

T = TypeVar("T")


@dataclass(frozen=True)
class _Given:
    """A file to be put in its place; `shown` is what it is called, `place` where that leads."""

    shown: Path
    place: Path
    new: Path | None


class _Commit:
    """What is written together, and what is held until it is in place."""

    def __init__(self) -> None:
        self.given: list[_Given] = []
        self.beside: set[Path] = set()
        self.held = contextlib.ExitStack()

    def conclude(self) -> None:
        """Put all in place, or nothing; no signal comes between."""
        given = list({one.place: one for one in self.given}.values())  # of two versions the later
        try:
            folders = {one.place.parent for one in given} if len(given) > 1 else ()
            with alone_in(*folders), undisturbed():
                # A folder takes the place of nothing in one step, but not that of another folder.
                if len(given) == 1 and not given[0].place.is_dir():
                    _put(given[0])
                elif given:
                    _put_all(given)
        finally:
            for new in self.beside:
                if not os.path.lexists(new.parent / records.NAME):  # which may still need it
                    with contextlib.suppress(OSError):
                        leftovers.remove(new)


_current: ContextVar[_Commit | None] = ContextVar("polygene_commit", default=None)
_swept: set[Path] = set()  # folders that this process has looked through


@contextlib.contextmanager
def together() -> Iterator[None]:
    """Put all files that are written within this in their places at its end, in one step.

    If it ends by an error, none of them. One within another is part of that.

    Raises
    ------
    FileError
        If they cannot all be put there; then none is.
    """
    if _current.get() is not None:
        yield
        return
    commit = _Commit()
    token = _current.set(commit)
    try:
        with commit.held:
            try:
                yield
            except BaseException:
                commit.given.clear()
                raise
            finally:
                commit.conclude()
    finally:
        _current.reset(token)


@contextlib.contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a new neighbour of a file to write; it takes its place if all goes well.

    That happens at the end of this, or of what is written `together`. It gets owner, permissions
    and attributes of the file that it replaces, as far as the system lets it.

    Raises
    ------
    FileError
        If the folder cannot be written.
    """
    with together():
        commit = _current.get()
        assert commit is not None
        place = Path(os.path.realpath(path))  # a link stays a link
        try:
            _enter(place.parent)
            new = leftovers.neighbour(place)
        except OSError as err:
            raise FileError(f"cannot write in {place.parent}: {reason_of(err)}") from err
        commit.beside.add(new)
        try:
            yield new
            with new.open("rb") as file:
                os.fsync(file.fileno())
            _take_after(new, place)
        except OSError as err:
            raise FileError(f"cannot write {path}: {reason_of(err)}") from err
        commit.given.append(_Given(path, place, new))


@contextlib.contextmanager
def replacing_folder(path: Path) -> Iterator[Path]:
    """Give a new folder beside a place to write files in; it takes that place as `replacing` says.

    Raises
    ------
    FileError
        If it cannot be made, or what is there is a file.
    """
    with together():
        commit = _current.get()
        assert commit is not None
        place = Path(os.path.realpath(path))
        try:
            _enter(place.parent)
            new = leftovers.neighbour_folder(place)
        except OSError as err:
            raise FileError(f"cannot write in {place.parent}: {reason_of(err)}") from err
        commit.beside.add(new)
        try:
            yield new
            for file in new.iterdir():
                with file.open("rb") as open_file:
                    os.fsync(open_file.fileno())
        except OSError as err:
            raise FileError(f"cannot write {path}: {reason_of(err)}") from err
        commit.given.append(_Given(path, place, new))


def removing(path: Path) -> None:
    """Let a file be no more, together with what is written."""
    with together():
        commit = _current.get()
        assert commit is not None
        if os.path.lexists(path):
            commit.given.append(_Given(path, Path(os.path.realpath(path)), None))


def new_files(path: Path) -> list[tuple[Path, Path]]:
    """Return what is written together for a file, with others of its stem, not yet in place.

    Each as the path that it is to have and where it is now.
    """
    commit = _current.get()
    assert commit is not None, "nothing is written together here"
    return [
        (one.shown, one.new)
        for one in commit.given
        if one.new is not None and one.shown.parent == path.parent and one.shown.stem == path.stem
    ]


def until_in_place(held: contextlib.AbstractContextManager[T]) -> T:
    """Hold something, as a lock, until what is written together is in its places."""
    commit = _current.get()
    assert commit is not None, "nothing is written together here"
    return commit.held.enter_context(held)


def _enter(folder: Path) -> None:
    """Bring a folder in order before something is written there: once a run."""
    settle(folder)
    if folder not in _swept and not os.path.lexists(folder / records.NAME):
        _swept.add(folder)
        leftovers.sweep(folder)


def _put(one: _Given) -> None:
    """Put one file in place: a rename within a folder is one step."""
    try:
        if one.new is not None:
            one.new.replace(one.place)
            written.note(one.shown)
        else:
            one.place.unlink(missing_ok=True)
    except OSError as err:
        raise FileError(f"cannot write {one.shown}: {reason_of(err)}") from err
    records.sync(one.place.parent)


def _put_all(given: Sequence[_Given]) -> None:
    """Put several files in their places: decided by a record, undone if a step cannot be made."""
    steps = [Step(one.place, one.new, None) for one in given]
    try:
        for k, one in enumerate(given):
            steps[k] = Step(one.place, one.new, _name_for_old(one.place))
            steps[k].keep()
        all_records = _records_of(steps)
        for record in reversed(all_records):  # the first decides
            record.write()
        records.perform(all_records, "finish")
    except OSError as err:
        names = {str(path): one.shown for one in given for path in (one.new, one.place)}
        what = f"cannot write {names.get(str(err.filename), err.filename)}: {reason_of(err)}"
        _take_back(steps, what)
        raise FileError(what) from err
    for one in given:
        if one.new is not None:
            written.note(one.shown)
    with contextlib.suppress(OSError):  # all is in place; the next look takes the records away
        records.close(all_records)


def _take_back(steps: Sequence[Step], what: str) -> None:
    """Undo what has been done of a commit; if that fails too, the next look goes on with it."""
    all_records = _records_of(steps)
    decider = all_records[0].path
    try:
        if decider.exists():
            replace(all_records[0], do="undo").write()
        records.perform(all_records, "undo")
        records.close(all_records)
    except OSError as err:
        raise FileError(
            f"{what}; and what was there cannot be put back: {reason_of(err)}. {decider} names the "
            "files; the next run that meets them puts them in order"
        ) from err


def _name_for_old(place: Path) -> Path | None:
    """Return a free name beside a file for the one that is there, None if there is none."""
    if not os.path.lexists(place):
        return None
    old = leftovers.neighbour(place, leftovers.OLD)
    old.unlink()
    return old


def _records_of(steps: Sequence[Step]) -> list[Record]:
    by_folder: dict[Path, list[Step]] = {}
    for step in steps:
        by_folder.setdefault(step.place.parent, []).append(step)
    decider, *others = by_folder
    key = zlib.crc32("".join(sorted(str(step.new or step.old) for step in steps)).encode())
    return [
        Record(
            folder=folder,
            key=f"{key:08x}",
            do="finish",
            decider=decider,
            others=tuple(others) if folder == decider else (),
            steps=tuple(own),
        )
        for folder, own in by_folder.items()
    ]


def settle(folder: Path, wanted: Path | None = None) -> None:
    """Finish or undo what a run that was killed has left half done in a folder, and say so.

    All who look into a folder or open a file of it come by here first: without such, it is one look.

    Raises
    ------
    FileError
        If it cannot be, and `wanted`, where one file is read, is one of those files.
    """
    folder = Path(os.path.realpath(folder))
    place = folder / records.NAME
    if not os.path.lexists(place):
        return
    record = None
    try:
        record = records.read(folder)
        if record is not None:
            with alone_in(*_folders_of(record)):  # a run that is still at it finishes by itself
                _settle_alone(folder)
    except ValueError as err:
        written.remark(f"{err}; it is left alone, and you may remove it")
    except (OSError, FileError) as err:
        if wanted is None or record is None or _names(record, wanted):
            reason = reason_of(err) if isinstance(err, OSError) else str(err)
            raise FileError(
                f"{place} is left of a run that was cut short while it put files in their places, "
                f"and they cannot be put in order: {reason}. Files that it names may be of different "
                "versions; when you have made sure of them, remove it"
            ) from err


def _names(record: Record, wanted: Path) -> bool:
    """Whether a file, or what goes with it under the same name, is one of a record's."""
    own = (wanted.name, f"{wanted.stem}.")
    return any(s.place.name == own[0] or s.place.name.startswith(own[1]) for s in record.steps)


def _folders_of(record: Record) -> set[Path]:
    found = {record.folder, record.decider, *record.others}
    if not record.is_decider:
        decider = records.read(record.decider)
        if decider is not None and decider.key == record.key:
            found.update(decider.others)
    return {folder for folder in found if folder.is_dir()}


def _settle_alone(folder: Path) -> None:
    record = records.read(folder)
    if record is None:
        return
    decider = records.read(record.decider)
    if decider is None or decider.key != record.key:
        # Not decided yet, or done in all folders: either way what is beside the places goes.
        if not record.decider.is_dir():
            raise FileError(f"the folder {record.decider} cannot be seen from here")
        _check_owner([record])
        record.path.unlink(missing_ok=True)
        for step in record.steps:
            step.forget()
        return
    found = [decider]
    for other in decider.others:
        theirs = records.read(other) if other.is_dir() else None
        if theirs is not None and theirs.key == decider.key:
            found.append(theirs)
    _check_owner(found)
    records.perform(found, decider.do)
    records.close(found)
    places = [str(step.place) for one in found for step in one.steps]
    done = "put in their places" if decider.do == "finish" else "left as they were before it"
    written.remark(
        f"a run was cut short while it wrote {', '.join(sorted(places))}; they have been {done} now"
    )


def _check_owner(found: Iterable[Record]) -> None:
    for record in found:
        if not record.is_theirs():
            raise FileError("whoever wrote it does not own the files that it names")


def _take_after(new: Path, place: Path) -> None:
    """Give a new file the owner, permissions and attributes of the one it replaces.

    What only the system's administrator may give is said. Other names of the old file (hard links)
    keep the old version, as in snapshots that are made of them.
    """
    try:
        old = place.stat()
    except OSError:
        mask = os.umask(0)
        os.umask(mask)
        new.chmod(0o666 & ~mask)
        return
    own = new.stat()
    if (old.st_uid, old.st_gid) != (own.st_uid, own.st_gid):
        with contextlib.suppress(OSError):
            os.chown(new, -1, old.st_gid)
        try:
            os.chown(new, old.st_uid, -1)
        except OSError:
            written.remark(f"{place} was another user's and is yours now")
    new.chmod(stat.S_IMODE(old.st_mode))
    with contextlib.suppress(OSError, AttributeError):
        for name in os.listxattr(place):
            with contextlib.suppress(OSError):
                os.setxattr(new, name, os.getxattr(place, name))
    if old.st_nlink > 1:
        written.remark(f"{place} had other names (hard links), which keep the version before")
