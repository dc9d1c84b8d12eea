"""Documents of XML, with nothing fetched and nothing that grows; their elements in flat lists."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from itertools import chain
from operator import attrgetter, methodcaller
from pathlib import Path
from typing import Any

import numpy as np
from lxml import etree

from polygene.arrays import I64Array
from polygene.errors import FileError, reason_of
from polygene.formats import once
from polygene.formats.columns import ADVICE

_BLOCK = 1 << 16
_COMMON: dict[str, Any] = {
    "load_dtd": False,
    "no_network": True,
    "remove_comments": True,
    "remove_pis": True,
}
get_tag: Callable[[Any], str] = attrgetter("tag")
get_text: Callable[[Any], str | None] = attrgetter("text")
get_parent: Callable[[Any], Any] = methodcaller("getparent")


def is_xml(head: bytes) -> bool:
    """Whether a file begins as XML does, and not as a page of HTML."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):  # UTF-16
        head = head.replace(b"\0", b"")[2:]
    start = head.removeprefix(b"\xef\xbb\xbf").lstrip().lower()
    return start.startswith(b"<") and not start.startswith((b"<!doctype html", b"<html"))


def root_of(path: Path, name: str, known: Sequence[str]) -> Any:
    """Return the root of a document, parsed once a run; ``known`` are local names it may have.

    Entities of the document's own are put in while they do not grow; those from elsewhere are not
    fetched, and a document that has such is refused (XML 1.0, 4.2).

    Raises
    ------
    FileError
        If it cannot be read, is no XML, or is something else than its ending says.
    """
    try:
        state = path.stat()
        key = ("xml", str(path), state.st_mtime_ns, state.st_size, state.st_ino)
        root = once.made_once(key, lambda: _parsed(path))
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    except etree.XMLSyntaxError as err:
        raise FileError(f"{path} is {_fault(err)}; {ADVICE}") from err
    found = local(root.tag)
    if known and found not in known:
        is_other = f"is XML but no {name}: its outermost element is <{found}>"
        if found == "ExceptionReport":  # what a service says instead of data
            is_other += f", by which a service says {' '.join(root.itertext()).strip()[:200]!r}"
        raise FileError(f"{path} {is_other}")
    return root


def _fault(err: etree.XMLSyntaxError) -> str:
    line, column = err.position
    text = (err.msg or "").split(", line ")[0]
    if "Premature end" in text or "EndTag" in text or "no element found" in text:
        return f"cut short, or an element has no end: line {line}, column {column}"
    return f"no valid XML: {text[:1].lower()}{text[1:]} in line {line}, column {column}"


def _parsed(path: Path) -> Any:
    has_entities = _has_entities(path)
    # Without the guard against growing texts may be of any length; with entities it stays.
    parser = etree.XMLParser(
        huge_tree=not has_entities,
        resolve_entities="internal" if has_entities else False,
        collect_ids=False,
        **_COMMON,
    )
    return etree.parse(str(path), parser).getroot()


def _has_entities(path: Path) -> bool:
    """Whether a document declares entities, which it does before its first element."""
    parser = etree.XMLPullParser(events=("start",), resolve_entities=False, **_COMMON)
    with path.open("rb") as file:
        while block := file.read(_BLOCK):
            parser.feed(block)
            first = next(iter(parser.read_events()), None)
            if first is not None:
                own = first[1].getroottree().docinfo.internalDTD
                found = [] if own is None else list(own.iterentities())
                for one in found:
                    if one.system_url is not None:
                        raise FileError(
                            f"{path} refers to {one.system_url!r} for a part of it (its entity "
                            f"{one.name!r}), which is not fetched; take the entity out"
                        )
                return bool(found)
    return False


def local(tag: object) -> str:
    """Return the name of a tag without its namespace."""
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""


class Stream:
    """Chosen elements of a document, in its order, with a number for the name of each.

    elements : the elements
    names : local names that are known
    code : (n,) place of each one's name in ``names``
    """

    def __init__(self, root: Any, names: Sequence[str], elements: list[Any] | None = None) -> None:
        self.names = list(dict.fromkeys(names))
        tags = (f"{{*}}{name}" for name in self.names)
        self.elements = list(root.iter(*tags)) if elements is None else elements
        self.code = self.codes(map(get_tag, self.elements), len(self.elements))

    @staticmethod
    def of_each(
        owners: Sequence[Any], names: Sequence[str]
    ) -> tuple[Stream, I64Array, list[Any], I64Array]:
        """Return the chosen elements within each of some, the number of the one each is in, and both
        for elements of other names."""
        found = list(map(list, map(methodcaller("iter"), owners)))  # by names it is slower
        counts = np.fromiter(map(len, found), np.int64, len(found))
        stream = Stream(None, names, list(chain.from_iterable(found)))
        owner = np.repeat(np.arange(len(found)), counts)
        is_own = np.zeros(len(owner), bool)
        is_own[np.cumsum(counts) - counts] = True
        kept, other = stream.code >= 0, np.flatnonzero((stream.code < 0) & ~is_own)
        others = stream.at(other)
        stream.elements, stream.code = stream.at(np.flatnonzero(kept)), stream.code[kept]
        return stream, owner[kept], others, owner[other]

    def codes(self, tags: Iterable[str], n: int) -> I64Array:
        """Return the place of the local names of tags among those known, -1 for others."""
        place = {name: k for k, name in enumerate(self.names)}
        by_tag: dict[str, int] = _Numbers(lambda tag: place.get(local(tag), -1))
        return np.fromiter(map(by_tag.__getitem__, tags), np.int64, n)

    def code_of(self, name: str) -> int:
        return self.names.index(name)

    def are(self, *names: str) -> np.ndarray:
        """Return (n,) which elements have one of these names."""
        is_one = np.zeros(len(self.names) + 1, bool)  # the last is that of names not known, -1
        is_one[[self.names.index(name) for name in names]] = True
        return is_one[self.code]

    def number_of(self, *names: str) -> I64Array:
        """Return (n,) how many elements of these names have begun, less one: the last one's number."""
        return np.cumsum(self.are(*names)) - 1

    def at(self, rows: I64Array) -> list[Any]:
        return list(map(self.elements.__getitem__, rows.tolist()))

    def parents_of(self, rows: I64Array) -> I64Array:
        """Return the code of the parent of each of these elements."""
        return self.codes(map(get_tag, map(get_parent, self.at(rows))), len(rows))

    def texts_of(self, rows: I64Array) -> list[str | None]:
        return list(map(get_text, self.at(rows)))


class _Numbers(dict[str, int]):
    """Numbers that are looked for once for each tag."""

    def __init__(self, find: Callable[[str], int]) -> None:
        super().__init__()
        self._find = find

    def __missing__(self, tag: str) -> int:
        self[tag] = found = self._find(tag)
        return found
