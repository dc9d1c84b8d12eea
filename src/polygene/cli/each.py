"""What commands share that make one layer out of each INPUT without an OTHER."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

from polygene.cli import options, overlay, show

if TYPE_CHECKING:
    from polygene.batch import Results
    from polygene.layer import Layer
    from polygene.progress import Progress


def common(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that all have which work on geometry."""
    return _with(function, True, options.invalid)


def common_carrying(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that all have which carry geometry as it is."""
    return _with(function, True, options.invalid_carried)


def common_but_out(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add the same, but the destination."""
    return _with(function, False, options.invalid_carried)


def common_mending(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add the same, where there is no choice what to do about invalid polygons."""
    return _with(function, True)


def _with(function: Callable[..., Any], has_out: bool, *invalid: Any) -> Callable[..., Any]:
    chosen = (
        options.inputs,
        options.where,
        *([options.out] if has_out else []),
        options.replace,
        options.next_,
        *invalid,
        options.crs,
        options.stop_at_first,
        options.json,
        options.quiet,
    )
    for option in reversed(chosen):
        function = option(function)
    return function


def run(
    command: str,
    operation: Callable[[Layer, Progress], Any],
    prints: Callable[[Any], Iterable[str]],
    *,
    inputs: tuple[str, ...],
    where: Any,
    out: str,
    replace: bool,
    next_: bool,
    crs: str | None,
    stop_at_first: bool,
    as_json: bool,
    quiet: bool,
    invalid: str | None = None,
    box: Any = None,
) -> None:
    """Work on every input, write the results, and say what was done.

    ``operation`` gives back a result with ``layer`` and ``summary``; ``prints`` words a summary and
    returns the notes there are. ``invalid`` says what becomes of invalid polygons where they are only
    carried. Features outside ``box`` need not be read.
    """
    existing = options.on_existing(replace, next_)
    from polygene import batch
    from polygene.crs import parse

    began = time.monotonic()
    with show.progress(quiet) as progress:
        done: Results[Any] = batch.run(
            inputs,
            lambda layer: (operation(layer, progress), []),
            out,
            choice=batch.Choice(where, parse(crs) if crs else None, invalid or "keep", box),
            on_existing=existing,
            stops_at_first=stop_at_first,
            counts_invalid=invalid is not None,
            progress=progress,
        )
    seconds = time.monotonic() - began
    overlay.tell(done, command, seconds, as_json)
    if not (as_json or quiet):
        _say(done, prints, seconds)
    overlay.tell_failed(done.failed)


def _say(done: Results[Any], prints: Callable[[Any], Iterable[str]], seconds: float) -> None:
    notes: list[str] = []
    for item in done:
        notes += item.notes
        notes += prints(item.result.summary)
    overlay.written(done, seconds)
    for text in dict.fromkeys(notes):
        show.note(text)
