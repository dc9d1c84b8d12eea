"""Help that is read from top to bottom: options under what they are about."""

from __future__ import annotations

from typing import Any

import click

from polygene.cli import completing

TAKES = "What to work on"
HOW = "How"
WRITES = "Where it goes"
TASKS = "Layers larger than memory"
CHECKS = "Checks, and what is told"

_GROUPS = {
    TAKES: "with_ where with_where box box_crs crs encoding sheet header invalid outside_use rows "
    "fresh from_lineage given",
    WRITES: "out links chart report propose sources diagram piped raw if_changed replace next_ "
    "credit licence",
    TASKS: "memory workers cluster tasks resume",
    CHECKS: "strict no_proof stop_at_first keep_dump dry_run as_json quiet verbose details help",
}
_GROUP_OF = {name: group for group, names in _GROUPS.items() for name in names.split()}


def grouped(command: click.Command, ctx: click.Context) -> list[tuple[str, list[tuple[str, str]]]]:
    """Return the options of a command with their help, group by group, each in its order."""
    found: dict[str, list[tuple[str, str]]] = {
        group: [] for group in (TAKES, HOW, WRITES, TASKS, CHECKS)
    }
    order = [name for names in _GROUPS.values() for name in names.split()]
    params = command.get_params(ctx)

    def name_of(param: click.Parameter) -> str:
        return "help" if "--help" in param.opts else str(param.name)

    def place(param: click.Parameter) -> int:
        return order.index(name_of(param)) if name_of(param) in order else -1

    for param in sorted(params, key=place):  # stable: what is the command's own stays as declared
        record = param.get_help_record(ctx)
        if record is not None and isinstance(param, click.Option):
            found[_GROUP_OF.get(name_of(param), HOW)].append(record)
    return [(group, records) for group, records in found.items() if records]


class Helpful(click.Command):
    """A command whose help has its options in groups, and whose options complete what they take."""

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, **more)
        for param in self.params:
            if isinstance(param, click.Option):
                completing.complete_by_metavar(param)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        groups = grouped(self, ctx)
        if sum(len(records) for _, records in groups) < 8:
            groups = [("Options", [one for _, records in groups for one in records])]
        for group, records in groups:
            with formatter.section(group):
                formatter.write_dl(records)
