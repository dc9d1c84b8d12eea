"""Names of results: what is filled into a destination, and what cannot be a layer's name."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence

from polygene.errors import UsageError
from polygene.formats.address import LayerRef
from polygene.formats.file_names import file_name
from polygene.layer import distinct_name

_RESERVED = ("gpkg_", "rtree_", "sqlite_")
_HOLE = re.compile(r"\{\{|\}\}|\{([^{}]*)\}")  # a brace itself is written twice
_OWN = ("name", "file", "n")

Values = Mapping[str, str | None]  # of the fields a destination names, for one part of a result


def fields_in(destination: str) -> list[str]:
    """Return the fields that a destination names in braces, besides name, file and n."""
    holes = [found[1] for found in _HOLE.finditer(destination) if found[1] is not None]
    return list(dict.fromkeys(hole for hole in holes if hole not in _OWN))


def matching(pattern: str) -> re.Pattern[str]:
    """Return what a pattern matches however it is filled in, in capitals or not."""
    texts, at = [], 0
    for found in _HOLE.finditer(pattern):
        own = ".+" if found[1] is not None else re.escape(found[0][0])
        texts += [re.escape(pattern[at : found.start()]), own]
        at = found.end()
    return re.compile("".join(texts) + re.escape(pattern[at:]), re.IGNORECASE | re.DOTALL)


class Filling:
    """Fills patterns for results: each thing in braces by one text, distinct ones by distinct texts.

    made : what becomes of a text, such as a name that any system takes
    """

    def __init__(self, made: Callable[[str], str]) -> None:
        self._made = made
        self._texts: dict[tuple[str, str | None], str] = {}
        self._taken: dict[str, set[str]] = {}

    def text(self, hole: str, value: str | None) -> str:
        """Return the text for a value in braces; two values differ by more than capitals."""
        if (hole, value) not in self._texts:
            taken = self._taken.setdefault(hole, set())
            plain = "null" if value is None else value if value.strip() else "blank"
            text = distinct_name(self._made(plain), taken, folds=True)
            self._texts[hole, value] = text
            taken.add(text.casefold())
        return self._texts[hole, value]

    def filled(self, pattern: str, name: str, source: LayerRef, k: int, values: Values) -> str:
        """Return a pattern filled in for the kth source; see `check_pattern`."""

        def text(found: re.Match[str]) -> str:
            hole = found[1]
            if hole is None:
                return found[0][0]
            if hole == "name":
                return self.text(hole, name)
            if hole == "file":
                return self._made(source.path.stem)
            if hole == "n":
                return str(k + 1)
            return self.text(hole, values[hole])

        return _HOLE.sub(text, pattern)


def safely() -> Filling:
    """Return what fills in paths."""
    return Filling(file_name)


def plainly() -> Filling:
    """Return what fills in names of layers."""
    return Filling(str)


def distinct_names(sources: Sequence[LayerRef]) -> list[str]:
    """Return a name for each source: its own, where several have one with as much in front as it takes.

    That is the file's name, or else the folder's too, or else the ending.
    """
    names = [source.name for source in sources]
    for front in (
        lambda path: path.stem,
        lambda path: f"{path.absolute().parent.name}_{path.stem}",
        lambda path: f"{path.absolute().parent.name}_{path.stem}_{path.suffix[1:]}",
    ):
        counts = Counter(name.casefold() for name in names)
        if max(counts.values(), default=1) == 1:
            break
        names = [
            f"{front(source.path)}_{source.name}" if counts[name.casefold()] > 1 else name
            for source, name in zip(sources, names, strict=True)
        ]
    return names


def check_pattern(destination: str, parts: Iterable[Values]) -> None:
    """Refuse a destination with a lone brace, or something in two that cannot be filled in for a part.

    Raises
    ------
    UsageError
    """
    fields = {*fields_in(destination)}
    if any(fields - {*values} for values in parts) or re.search("[{}]", _HOLE.sub("", destination)):
        raise UsageError(
            f"{destination}: what can be filled in is {{name}}, {{file}}, {{n}} and the fields of "
            "the result; a brace that is meant as it stands is written twice"
        )


def check_name(name: str) -> None:
    """Refuse a name that no layer can have.

    Raises
    ------
    UsageError
    """
    if not name.isprintable() and re.search("[\ud800-\udfff\0]", name):
        raise UsageError(f"{name!r} cannot be a layer's name: it holds a null or is not UTF-8")
    if not name.strip() or name.lower().startswith(_RESERVED):
        raise UsageError(
            f"{name!r} cannot be a layer's name; names that begin with {', '.join(_RESERVED)} "
            "belong to the format"
        )


def check_distinct(places: Iterable[tuple[str, str, str]]) -> None:
    """Refuse two results in one place; each is told as its path, its name and the words for both.

    Raises
    ------
    UsageError
        If there are such.
    """
    seen = set()
    for path, name, words in places:
        if (path, name.casefold()) in seen:
            raise UsageError(
                f"several results would be written to {words}; put {{name}} into the "
                "destination, as in 'out.gpkg#{name}_park', or give a folder"
            )
        seen.add((path, name.casefold()))
