"""What commands are asked alike, as one object, and the one way to work on each INPUT."""

from __future__ import annotations

import contextlib
import functools
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import fields, replace
from typing import TYPE_CHECKING, Any, TypeVar

import click

from polygene.classes import dataclass
from polygene.cli import outcome, show
from polygene.commands import COMMANDS

if TYPE_CHECKING:
    from polygene.batch import Companion, Result, Results, Writing
    from polygene.formats.destination import OnExisting
    from polygene.geometry import Extent
    from polygene.growing.calls import Call
    from polygene.layer import Layer
    from polygene.ops.overlays.how import How
    from polygene.progress import Progress
    from polygene.reading import Choice
    from polygene.table.expression import Expression
    from polygene.units import Distance


@dataclass(frozen=True)
class Asked:
    """What most commands are asked, by the names of their options."""

    inputs: tuple[str, ...] = ()
    where: Expression | None = None
    with_where: Expression | None = None
    out: str | None = None
    replace: bool = False
    next_: bool = False
    invalid: str | None = None
    crs: str | None = None
    keep_dump: str | None = None
    stop_at_first: bool = False
    dry_run: bool = False
    as_json: bool = False
    quiet: bool = False
    memory: int | None = None
    workers: int | None = None
    tasks: int | None = None
    cluster: str | None = None
    resume: bool = False

    @property
    def on_existing(self) -> OnExisting:
        """What to do about results that exist; one of the two options at most."""
        if self.replace and self.next_:
            raise click.UsageError("--replace and --next exclude each other")
        return "replace" if self.replace else "next" if self.next_ else "refuse"

    def choice(
        self, *, carries: bool = False, box: Extent | None = None, takes_tables: bool = False
    ) -> Choice:
        """Return how INPUT is taken; what becomes of invalid polygons if they are only carried."""
        from polygene.crs import parse
        from polygene.reading import Choice

        invalid = self.invalid if carries and self.invalid else "keep"
        crs = parse(self.crs) if self.crs else None
        return Choice(self.where, crs, invalid, box, takes_tables=takes_tables)

    def other_choice(self) -> Choice:
        """Return how OTHER is taken."""
        from polygene.crs import parse
        from polygene.reading import Choice

        return Choice(self.with_where, parse(self.crs) if self.crs else None)

    def tell(self, told: outcome.Outcome) -> None:
        outcome.tell(told, self.as_json, self.quiet)


@dataclass(frozen=True)
class OverlayAsked(Asked):
    """What overlays are asked besides."""

    single_parts: bool = False
    precision: Distance | None = None
    snap: Distance | None = None
    give_slivers: Distance | None = None
    follow: Distance | None = None
    refresh: str | None = None
    apportion: str | None = None

    def how(self, progress: Progress) -> How:
        from polygene.table.tokens import names_of

        return {
            "single_parts": self.single_parts,
            "precision": self.precision,
            "snap": self.snap,
            "give_slivers": self.give_slivers,
            "follow": self.follow,
            "refresh": names_of(self.refresh),
            "apportion": names_of(self.apportion),
            "invalid": self.invalid or "mend",
            "progress": progress,
        }


def asks(kind: type[Asked], *chosen: Callable[[Any], Any]) -> Callable[[Any], Any]:
    """Give a command options; it is called with those that are fields of ``kind`` as one of that."""
    names = {field.name for field in fields(kind)}

    def decorate(function: Callable[..., None]) -> Any:
        @functools.wraps(function)
        def call(**given: Any) -> None:
            own = {name: given.pop(name) for name in names & given.keys()}
            function(kind(**own), **given)

        found: Any = call
        for option in reversed(chosen):
            found = option(found)
        return found

    return decorate


R = TypeVar("R", bound="Result")


def work_on_each(
    command: str,
    asked: Asked,
    operation: Callable[[Layer, Progress], R],
    *,
    before: Callable[[Progress], Sequence[str]] | None = None,
    box: Extent | None = None,
    carries: bool = False,
    side: Companion[R] | None = None,
    call: Call | None = None,
    others: Sequence[str] = (),
    near: Callable[[], tuple[Extent, Any] | None] | None = None,
) -> None:
    """Work on every INPUT, write the results unless it is a dry run, and tell what was done.

    ``before`` is done first, as reading OTHER, and returns what there is to say. Features outside
    ``box`` need not be read. ``carries`` says that geometry is only carried. ``call`` is the same
    operation as a value, and ``others`` the addresses of its OTHERs, where it may be cut into tasks.
    ``near`` tells, after ``before``, where all lies that the operation keeps, and in which CRS.
    """
    from polygene import batch
    from polygene.cli.words import results
    from polygene.growing.calls import Call

    way = batch.Writing(asked.on_existing, asked.stop_at_first, carries, asked.dry_run)
    began = time.monotonic()
    with show.progress(asked.quiet) as progress:
        assert asked.out is not None
        if call is None and isinstance(operation, Call):
            call = operation
        takes = COMMANDS[command].takes_tables
        choice = asked.choice(carries=carries, box=box, takes_tables=takes)
        done, said = in_tasks(asked, call, others, choice, way, progress)
        if done is None:
            said += before(progress) if before is not None else []
            choice = replace(choice, near=near()) if near is not None else choice

            def work(layer: Layer) -> R:
                return operation(layer, progress)

            done = batch.run(
                asked.inputs, work, asked.out, choice=choice, way=way, side=side, progress=progress
            )
    seconds = time.monotonic() - began
    words = results.words_of(done, said)
    told = outcome.Outcome(
        command=command,
        results=[outcome.result_of(item, is_dry=asked.dry_run) for item in done],
        words=words,
        written=outcome.places_of([target for item in done for target in item.targets]),
        failed=[outcome.Failure(f.source.words, f.reason) for f in done.failed],
        seconds=seconds,
        is_dry=asked.dry_run,
        more=[("links", side.out)] if side is not None else [],
    )
    asked.tell(told)
    if done.failed:
        sys.exit(1)


def in_tasks(
    asked: Asked,
    call: Call | None,
    others: Sequence[str],
    choice: Choice,
    way: Writing,
    progress: Progress,
) -> tuple[Results[Any] | None, list[str]]:
    """Work in tasks if that is asked for or the layers are too large for memory.

    Returns what was done, None if it is to be done at once, and what there is to say before.
    """
    from polygene.cli import grounds

    wanted = grounds.of(asked)
    if wanted is None and not (call is not None and grounds.is_too_large([*asked.inputs, *others])):
        return None, []
    from polygene.growing.placing import work_in_tasks
    from polygene.growing.running import OneTaskError

    if call is None:
        return None, ["this is one task, and done at once"]
    assert asked.out is not None
    try:
        done = work_in_tasks(
            call,
            asked.inputs,
            others,
            asked.out,
            choice=choice,
            other_choice=asked.other_choice(),
            way=way,
            grounds=wanted or grounds.of_machine(),
            progress=progress,
        )
    except OneTaskError as reason:
        return None, [f"done at once: {reason}"]
    return done, []


@contextlib.contextmanager
def keeping_dump(folder: str | None, layers: Sequence[Layer]) -> Iterator[None]:
    """Keep what went into a work of which a proof fails."""
    from polygene.errors import ProofError
    from polygene.writing import dump

    try:
        yield
    except ProofError:
        if folder is not None:
            place = dump(folder, layers, ["polygene", *sys.argv[1:]])
            show.note(f"what is needed to find out why is kept in {place}")
        raise
