"""YAML read so that errors can name the line, and so that no key comes twice."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import yaml

from polygene.errors import FileError, SheetError, did_you_mean, reason_of

_TRUTH = {"true": True, "yes": True, "on": True, "false": False, "no": False, "off": False}
MOST_VALUES = 100_000  # with aliases written out: a kilobyte of them can stand for billions


class Lined(dict[str, Any]):
    """A mapping that knows the line, counted from 1, of each key."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: dict[str, int] = {}
        self.line = 1


class _Loader(yaml.SafeLoader):
    """A safe loader that makes `Lined` mappings and refuses keys given twice.

    What stands there without quotes is text as it is written, or null: YAML 1.1 would make 535 of a
    code like 01027, what is false of a field named ``no``, and 750 of 12:30.
    """

    yaml_implicit_resolvers = {
        first: [one for one in rules if one[0] == "tag:yaml.org,2002:null"]
        for first, rules in yaml.SafeLoader.yaml_implicit_resolvers.items()
    }


def _construct_mapping(loader: _Loader, node: yaml.MappingNode) -> Lined:
    found = Lined()
    found.line = node.start_mark.line + 1
    for key_node, value_node in node.value:
        key = loader.construct_object(key_node, deep=True)
        line = key_node.start_mark.line + 1
        key = key_node.value if isinstance(key_node, yaml.ScalarNode) else str(key)
        if key in found:
            raise yaml.MarkedYAMLError(
                problem=f"{key!r} comes twice, first in line {found.lines[key]}",
                problem_mark=key_node.start_mark,
            )
        found[key] = loader.construct_object(value_node, deep=True)
        found.lines[key] = line
    return found


_Loader.add_constructor(yaml.resolver.BaseResolver.DEFAULT_MAPPING_TAG, _construct_mapping)


def load(path: Path) -> Lined:
    """Read a file whose outermost thing is a mapping.

    Raises
    ------
    FileError
        If it cannot be read.
    SheetError
        If it does not parse, with line and caret.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    except UnicodeDecodeError as err:
        raise FileError(f"cannot read {path}: it is not UTF-8 text") from err
    return parse(text, path)


def as_truth(value: Any) -> bool | None:
    """Return what a value says as true or false; None if it says neither."""
    return _TRUTH.get(str(value).strip().lower())


def parse(text: str, path: Path) -> Lined:
    """Read a text as `load` does; ``path`` is for messages."""
    try:
        found = _constructed(text)
    except yaml.MarkedYAMLError as err:
        mark = err.problem_mark
        if mark is None:
            raise SheetError(path, None, str(err.problem)) from err
        snippet = mark.get_snippet(indent=2, max_length=76)
        raise SheetError(path, mark.line + 1, f"{err.problem or err.context}\n{snippet}") from err
    except yaml.YAMLError as err:
        raise SheetError(path, None, str(err).splitlines()[0]) from err
    except RecursionError as err:
        raise SheetError(path, None, "it is nested too deeply") from err
    except (ValueError, OverflowError) as err:
        raise SheetError(path, None, f"it holds a value that is none of its type: {err}") from err
    if not isinstance(found, Lined):
        raise SheetError(path, 1, "a mapping is wanted here, lines of the form name: value")
    return found


def _constructed(text: str) -> Any:
    loader = _Loader(text)
    try:
        node = loader.get_single_node()
        if node is None:
            return None
        if _size(node, {}) > MOST_VALUES:
            raise yaml.MarkedYAMLError(
                problem=f"its aliases stand for more than {MOST_VALUES:,} values",
                problem_mark=node.start_mark,
            )
        return loader.construct_document(node)
    finally:
        loader.dispose()


def _size(node: yaml.Node, known: dict[int, int]) -> int:
    """Return how many values a node has if every alias in it is written out."""
    if id(node) in known:
        return known[id(node)]
    known[id(node)] = 1  # for one that holds itself
    below = node.value if isinstance(node, yaml.SequenceNode) else []
    if isinstance(node, yaml.MappingNode):
        below = [child for pair in node.value for child in pair]
    known[id(node)] = 1 + sum(_size(child, known) for child in below)
    return known[id(node)]


class SheetReader:
    """What reading a match sheet and a recipe share: sections, keys, mistakes with their line."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def fail(self, line: int | None, reason: str) -> SheetError:
        return SheetError(self.path, line, reason)

    def mapping(self, parent: Lined, key: str) -> Lined:
        """Return the section below a key; an empty one if it is not there."""
        value = parent.get(key)
        if value is None:
            return Lined()
        if not isinstance(value, Lined):
            raise self.fail(
                parent.lines[key], f"{key!r} needs lines of the form name: value below it"
            )
        return value

    def one_value(self, found: Lined, key: str) -> str | None:
        """Return the one value that stands under a key; None if there is none."""
        value = found.get(key)
        if isinstance(value, (list, dict)):
            raise self.fail(found.lines[key], f"{key!r} has one value")
        return None if value is None else str(value)

    def truth(self, found: Lined, key: str) -> bool:
        """Return what is said under a key as true or false; false if it is not there."""
        value = found.get(key, "false")
        truth = as_truth(value[0] if isinstance(value, list) and len(value) == 1 else value)
        if truth is None:
            raise self.fail(found.lines[key], f"{key!r} is true or false")
        return truth

    def check_keys(self, found: Lined, keys: Iterable[str], known: Sequence[str], of: str) -> None:
        """Refuse keys that are not known, with the nearest that is."""
        for key in keys:
            if key not in known:
                raise self.fail(
                    found.lines[key],
                    f"{of} has no {key!r}{did_you_mean(key, known)} (it has {', '.join(known)})",
                )
