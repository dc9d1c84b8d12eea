"""What is told of recipes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from polygene.cli.words.blocks import Line, Words
from polygene.notes import counted, worded_anew

if TYPE_CHECKING:
    from polygene.cli.facts import RecipeDrafted, StepPlanned, StepRan
    from polygene.recipe.reading import Recipe
    from polygene.recipe.running import Finished

WIDE = 18


def planned(found: Recipe, steps: Sequence[StepPlanned], say: Words) -> None:
    say.title(found.title or found.path.stem, "checked; nothing was run")
    for name, text in found.inputs.items():
        say.line(name, text, WIDE)
    for one in steps:
        more = "".join(
            f", {key}" if value is True else f", {key} {' and '.join(value)}"
            for key, value in one["given"].items()
        )
        say.line(one["step"], f"{one['command']} {' and '.join(one['inputs'])}{more}", WIDE)
    for name, text in found.outputs.items():
        say.line("output", f"{name} to {text}", WIDE)
    _unused(found, say)


def _unused(found: Recipe, say: Words) -> None:
    say.note(*(f"{name} is used by nothing" for name in found.unused))


def step(ran: StepRan, wide: int) -> Line:
    what = "as last time" if ran["reused"] else f"{ran['seconds']:.2f} s"
    n = ran["features"]
    count = "" if n is None else f"{counted(n, 'feature')}, "
    return Line(ran["step"], f"{ran['command']}: {count}{what}", wide)


def ended(found: Recipe, report: str | None, seconds: float, wide: int, say: Words) -> None:
    for name, text in found.outputs.items():
        say.line("written", f"{name} to {text}", wide)
    if report is not None:
        say.line("report", report, wide)
    say.line("in all", f"{seconds:.2f} s", wide)
    _unused(found, say)


def to_know(finished: Finished) -> list[str]:
    """Return what there is to know of a run, each with the steps that said it."""
    return [
        worded_anew(note, lambda text, steps=steps: f"{steps}: {text}")  # type: ignore[misc]
        if steps and not note.startswith(f"{steps}: ")
        else note
        for steps, note in finished.to_know()
    ]


def drafted(path: str, facts: RecipeDrafted, say: Words) -> None:
    words = f"{counted(facts['steps'], 'step')}, {counted(facts['inputs'], 'input')}"
    label = "would be" if facts["written"] is None else "written"
    say.line(label, f"{path}: {words}, to {facts['to']}")
