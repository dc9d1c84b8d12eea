"""What the overlay commands share: their options, and the run of one over OTHERs."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import grounds, options, recording
from polygene.cli.asked import OverlayAsked, asks, keeping_dump, work_on_each
from polygene.commands import COMMANDS

if TYPE_CHECKING:
    from polygene.geometry import Extent
    from polygene.layer import Layer
    from polygene.progress import Progress
    from polygene.reading import Other

common = asks(
    OverlayAsked,
    options.inputs,
    options.where,
    options.with_where,
    options.out,
    options.replace,
    options.next_,
    options.snap,
    options.give_slivers,
    options.follow,
    options.refresh,
    options.apportion,
    options.single_parts,
    options.precision,
    options.invalid,
    options.crs,
    options.keep_dump,
    grounds.common,
    options.stop_at_first,
    options.dry_run,
    options.json,
    options.quiet,
)


def command_of(name: str) -> click.Command:
    """Return the command of an overlay that needs no more than the common options."""
    told = COMMANDS[name].overlay
    assert told is not None
    is_one = told.takes == "one"

    def call(asked: OverlayAsked, with_: Any, **more: Any) -> None:
        operation = getattr(importlib.import_module(f"polygene.ops.{name}"), name)
        run(name, operation, asked, [with_] if is_one else with_, **more)

    call.__doc__ = told.help
    function = common(call)
    if told.has_origins:
        function = options.origins(function)
    if told.takes_match:
        function = options.match(function)
    function = (options.with_required if is_one else options.with_several)(function)
    command: click.Command = recording.command(name)(function)
    return command


def run(
    name: str,
    operation: Callable[..., Any],
    asked: OverlayAsked,
    others: Sequence[str | Other],
    **more: Any,
) -> None:
    """Lay every INPUT over the OTHERs, addresses or what is read already."""
    from polygene.growing.calls import Call
    from polygene.progress import SILENT

    read: list[Other] = []
    addresses = [y for y in others if isinstance(y, str)]
    # What moves borders, or gives parts away, may reach beyond what is near.
    reaches = asked.snap or asked.give_slivers or asked.precision
    keeps_near = name in ("clip", "intersect") and not reaches
    keeps_other_near = name in ("clip", "erase", "intersect", "imprint") and not reaches

    def before(progress: Progress) -> list[str]:
        from polygene.reading import near_inputs, read_other

        choice = asked.other_choice()
        if keeps_other_near:
            choice = near_inputs(choice, asked.inputs, addresses)
        read.extend(read_other(y, choice, progress) if isinstance(y, str) else y for y in others)
        return [note for y in read for note in y.notes]

    def work(layer: Layer, progress: Progress) -> Any:
        mine = [y.over(layer) for y in read]
        with keeping_dump(asked.keep_dump, [layer, *mine]):
            return operation(layer, *mine, **asked.how(progress), **more)

    def near() -> tuple[Extent, Any] | None:
        from polygene.reading import place_of_all

        return place_of_all(read)

    call = None
    if len(addresses) == len(others):
        told = {k: v for k, v in asked.how(SILENT).items() if k != "progress"}
        call = Call(name, operation.__module__, operation.__name__, {**told, **more})
    work_on_each(
        name,
        asked,
        work,
        before=before,
        call=call,
        others=addresses,
        near=near if keeps_near else None,
    )
