"""The record that makes several renames one step: what a run that was killed has left is finished.

While several files go to their places, ``.polygene.commit`` lies in each of their folders. It names
new files, their places, and the old files under other names. Once that of the decider is there, every
new file is whole and on the disk, and the commit is decided: whoever looks next makes the steps that
are missing. If one cannot be made, that record is rewritten first, and then all are undone.

A record comes from a disk that others may write: it can only rename, within its own folder, files that
have the names of our neighbours, and only if whoever wrote it owns what it names.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

from polygene.classes import dataclass
from polygene.commit import leftovers
from polygene.commit.leftovers import is_neighbour

NAME = leftovers.RECORD
_MOST_BYTES = 16 << 20

Do = Literal["finish", "undo"]


@dataclass(frozen=True)
class Step:
    """A file that goes to its place, or goes away.

    new : the new one beside it; None if the place is to be empty
    old : where the one before is kept; None if there was none
    """

    place: Path
    new: Path | None
    old: Path | None

    def keep(self) -> None:
        """Keep the old file under its other name as well, if the disk has links.

        Otherwise it is only moved at the moment that the new one takes its place.
        """
        if self.old is not None:
            with contextlib.suppress(OSError):
                os.link(self.place, self.old, follow_symlinks=False)

    def finish(self) -> None:
        if self.old is not None and not _is_there(self.old) and _is_there(self.place):
            if self.new is not None and not _is_there(self.new):
                return  # done by somebody before us
            self.place.replace(self.old)
        if self.new is None:
            self.place.unlink(missing_ok=True)
        elif _is_there(self.new):
            self.new.replace(self.place)

    def undo(self) -> None:
        if self.old is not None:
            if _is_there(self.old):
                self.old.replace(self.place)
        elif self.new is not None and not _is_there(self.new):
            self.place.unlink(missing_ok=True)
        self.forget()

    def forget(self) -> None:
        """Remove what is beside the place."""
        for path in (self.new, self.old):
            if path is not None:
                leftovers.remove(path)


@dataclass(frozen=True)
class Record:
    """The steps of a commit in one folder.

    key : the same in all folders of the commit
    decider : the folder whose record decides; the folder itself for that
    others : of a decider, the other folders
    """

    folder: Path
    key: str
    do: Do
    decider: Path
    others: tuple[Path, ...]
    steps: tuple[Step, ...]

    @property
    def path(self) -> Path:
        return self.folder / NAME

    @property
    def is_decider(self) -> bool:
        return self.decider == self.folder

    def write(self) -> None:
        """Put the record in its place, whole and on the disk.

        Raises
        ------
        OSError
            If it cannot be.
        """
        content = {
            "polygene commit": 1,
            "key": self.key,
            "do": self.do,
            "decider": os.path.relpath(self.decider, self.folder),
            "others": [os.path.relpath(other, self.folder) for other in self.others],
            "steps": [
                [s.place.name, s.new and s.new.name, s.old and s.old.name] for s in self.steps
            ],
        }
        new = leftovers.neighbour(self.path)
        with new.open("w", encoding="utf-8", errors="surrogateescape") as file:
            json.dump(content, file, indent=1)
            file.flush()
            os.fsync(file.fileno())
        new.chmod(0o644)
        new.replace(self.path)
        sync(self.folder)

    def is_theirs(self) -> bool:
        """Whether the one who wrote it owns all that it names, or is whoever runs this."""
        owner = self.path.lstat().st_uid
        if hasattr(os, "geteuid") and owner == os.geteuid():
            return True
        paths = [p for step in self.steps for p in (step.place, step.new, step.old) if p]
        return all(p.lstat().st_uid == owner for p in paths if _is_there(p))


def read(folder: Path) -> Record | None:
    """Return the record in a folder, None if there is none.

    Raises
    ------
    OSError
        If it cannot be read.
    ValueError
        If it is no record: a run leaves it whole or not at all.
    """
    path = folder / NAME
    try:
        with path.open("rb") as file:
            text = file.read(_MOST_BYTES)
    except FileNotFoundError:
        return None
    try:
        content = json.loads(text)
        decider = Path(os.path.realpath(folder / content["decider"]))
        others = tuple(Path(os.path.realpath(folder / other)) for other in content["others"])
        steps = tuple(_step(folder, *names) for names in content["steps"])
        key, do = str(content["key"]), content["do"]
    except (KeyError, TypeError, RecursionError) as err:
        raise ValueError(f"{path} is no record of a commit") from err
    if do not in ("finish", "undo"):
        raise ValueError(f"{path} says neither finish nor undo")
    return Record(folder, key, do, decider, others, steps)


def _step(folder: Path, place: Any, new: Any, old: Any) -> Step:
    for name in (place, new, old):
        if name is not None and (name in ("", ".", "..") or "/" in name or os.sep in name):
            raise ValueError(f"{name!r} is not the name of a file in {folder}")
    for name in (new, old):
        if name is not None and not is_neighbour(name):
            raise ValueError(f"{name!r} is not the name of a file that a commit leaves")
    return Step(folder / place, new and folder / new, old and folder / old)


def perform(records: Sequence[Record], do: Do) -> None:
    """Make the steps of a commit, or undo them; what is made already stays as it is.

    Raises
    ------
    OSError
        If one cannot be.
    """
    for record in records:
        for step in record.steps:
            if do == "finish":
                step.finish()
            else:
                step.undo()
        sync(record.folder)


def close(records: Sequence[Record]) -> None:
    """Take the records of a commit away when all is done: the decider first, old files at the end.

    Raises
    ------
    OSError
        If one cannot be taken away; whoever looks next finds all done and tries again.
    """
    for record in sorted(records, key=lambda one: not one.is_decider):
        record.path.unlink(missing_ok=True)
        sync(record.folder)
    for record in records:
        for step in record.steps:
            step.forget()


def sync(folder: Path) -> None:
    """See to it that names in a folder are on the disk, where the system has a way to."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _is_there(path: Path) -> bool:
    return os.path.lexists(path)
