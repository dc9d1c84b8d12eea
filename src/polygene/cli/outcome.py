"""What a command comes to: facts, the words made of them, where it was written; told in one way.

``--json`` prints it in the shape of ``docs/output.schema.json``, whatever the command.
"""

from __future__ import annotations

import contextvars
import dataclasses
import enum
import math
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import field
from typing import TYPE_CHECKING, Any

from polygene.classes import dataclass
from polygene.cli import show
from polygene.cli.speaking import say
from polygene.cli.words.blocks import Words
from polygene.errors import with_options
from polygene.notes import Warned, gathered, in_order, visible, worded_anew

if TYPE_CHECKING:
    from polygene.batch import Done
    from polygene.formats.destination import Target

SHAPE = 1  # of what --json prints; a larger number where a program that reads it must change


@dataclass(frozen=True)
class Failure:
    """What could not be done: the source, or nothing where the whole failed, and the reason."""

    source: str
    reason: str


@dataclass(frozen=True)
class Outcome:
    """What a command did, or found.

    results : facts, dataclasses or such that JSON has, one for each input, layer or file
    words : what is told to a person, made of the results
    written : where the results went, in words; on a dry run where they would have gone
    is_looked_at : whether the words are what was asked for, so that they go to standard output
    more : labels and places of what else was written
    """

    command: str
    results: Sequence[Any]
    words: Words
    written: str = ""
    failed: Sequence[Failure] = ()
    seconds: float | None = None
    is_dry: bool = False
    is_looked_at: bool = False
    more: Sequence[tuple[str, str]] = field(default_factory=list)


def tell(told: Outcome, as_json: bool, quiet: bool = False) -> None:
    """Print an outcome as it is asked for; keep it if somebody listens."""
    kept = _kept.get()
    if kept is not None:
        kept.append(told)
    if as_json:
        _print_json(document(told))
    elif not quiet:
        stream = sys.stdout if told.is_looked_at else sys.stderr
        show.lay_out(told.words.blocks, stream)
        _say_written(told)
        for text in gathered(in_order(told.words.notes), told.words.layers):
            show.note(worded_anew(text, with_options))
    for one in told.failed:
        first, *rest = with_options(one.reason).splitlines()
        show.line("failed", f"{one.source}: {first}" if one.source else first, sys.stderr)
        for line in rest:
            say(visible(line, keeps="\t"), sys.stderr)


def _say_written(told: Outcome) -> None:
    if told.written and told.is_dry:
        show.line("dry run", f"nothing was written; it would go to {told.written}", sys.stderr)
    elif told.written:
        took = "" if told.seconds is None else f" in {told.seconds:.2f} s"
        show.line("written", f"{told.written}{took}", sys.stderr)
    for label, place in told.more:
        if not told.is_dry:
            show.line(label, place, sys.stderr)


def document(told: Outcome) -> dict[str, Any]:
    """Return what ``--json`` prints, whatever the command and however it ended."""
    notes = in_order(told.words.notes)
    found: dict[str, Any] = {
        "polygene": SHAPE,
        "command": told.command,
        "results": plain(list(told.results)),
        "failed": [plain(one) for one in told.failed],
        "notes": [with_options(text) for text in notes],
        "warnings": [with_options(text) for text in notes if isinstance(text, Warned)],
    }
    for one in found["failed"]:
        one["reason"] = with_options(one["reason"])
    if told.seconds is not None:
        found["seconds"] = round(told.seconds, 3)
    if told.is_dry:
        found["dry_run"] = True
    return found


def result_of(item: Done[Any], is_dry: bool) -> dict[str, Any]:
    """Return the facts of one input that was worked on."""
    return {
        "source": item.source.words,
        "written": None if is_dry else addresses_of(item.targets),
        "summary": item.result.summary,
        "notes": [with_options(text) for text in item.notes],
        "seconds": round(item.seconds, 3),
    }


def addresses_of(targets: Sequence[Target]) -> str | list[str]:
    """Return the address of a result; of one that was parted, those of its parts."""
    words = [target.words for target in targets]
    return words[0] if len(words) == 1 else words


def places_of(targets: Sequence[Target]) -> str:
    """Say where results go: the layer, or the files that they are in."""
    places = list(dict.fromkeys(target.path for target in targets))
    where = targets[0].words if len(targets) == 1 else ", ".join(map(str, places[:3]))
    return where + (f" and {len(places) - 3} more files" if len(places) > 3 else "")


_kept: contextvars.ContextVar[list[Outcome] | None] = contextvars.ContextVar("kept", default=None)


@contextmanager
def keeping() -> Iterator[list[Outcome]]:
    """Keep the outcomes that commands tell while this lasts."""
    kept: list[Outcome] = []
    token = _kept.set(kept)
    try:
        yield kept
    finally:
        _kept.reset(token)


def plain(value: Any) -> Any:
    """Return facts as JSON has them: objects, lists, numbers, texts; families in words."""
    words = getattr(value, "words", None)
    if isinstance(value, enum.Enum) and isinstance(words, str):
        return words
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: plain(getattr(value, f.name)) for f in dataclasses.fields(value)}
    if isinstance(value, dict):
        return {str(key): plain(item) for key, item in value.items()}
    if isinstance(value, tuple) and hasattr(value, "_asdict"):
        return plain(value._asdict())
    if isinstance(value, (list, tuple)):
        return [plain(item) for item in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
    return value.item() if hasattr(value, "item") else str(value)


_told = False


def tell_failure(command: str, reason: str) -> None:
    """Print the document that ``--json`` asks for in an error too, unless there was one before.

    A script reads one document, not two.
    """
    if not _told:
        _print_json(document(Outcome(command, [], Words(), failed=[Failure("", reason)])))


def _print_json(value: Any) -> None:
    import orjson

    global _told
    _told = True
    say(orjson.dumps(value, option=orjson.OPT_INDENT_2).decode())
