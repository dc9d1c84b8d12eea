"""``polygene run``."""

from __future__ import annotations

import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from polygene.cli import grounds, options, outcome, recording, show
from polygene.cli.asked import Asked, asks

if TYPE_CHECKING:
    from polygene.cli.facts import RecipeDrafted, StepPlanned, StepRan
    from polygene.recipe.reading import RecipeStep
    from polygene.recipe.running import Ran


@recording.command()
@click.argument("recipe", type=click.Path(path_type=Path))
@click.option(
    "--set", "given", multiple=True, metavar="NAME=VALUE", help="Set a parameter of the recipe."
)
@click.option(
    "--from-lineage", metavar="LAYER", help="Write RECIPE anew, as the one that made this layer."
)
@options.replace
@options.proving
@click.option("--report", metavar="FILE", help="Write a page about the run: an .html file.")
@click.option("--dry-run", is_flag=True, help="Check the recipe and print the plan; run nothing.")
@asks(Asked, grounds.common, options.json, options.quiet)
def run(
    asked: Asked, recipe: Path, given: tuple[str, ...], from_lineage: str | None, report: str | None
) -> None:
    """Run a recipe file: inputs, steps and outputs (docs/recipes.md).

    The whole file is checked first. Only what changed since the last run is done anew; all outputs are
    written together at the end, or none.

    \b
    Examples:
      polygene run recipe.yaml --dry-run
      polygene run recipe.yaml --report report.html
      polygene run recipe.yaml --memory 4GB --workers 4
      polygene run again.yaml --from-lineage result.gpkg#quiet_zones
    """
    if from_lineage is not None:
        _write_recipe(recipe, from_lineage, asked)
        return
    from polygene.cli import recipes
    from polygene.cli.words import recipes as worded
    from polygene.cli.words.blocks import Words

    began = time.monotonic()
    known = recipes.known_options()
    found = recipes.read(recipe, dict(_pair(text) for text in given), known)
    page = None if report is None else recipes.page_of(report, found, asked.replace)
    recipes.check_outputs(found, asked.replace)
    say = Words()
    if asked.dry_run:
        planned = [_plan_of(step) for step in found.steps]
        worded.planned(found, planned, say)
        asked.tell(outcome.Outcome("run", planned, say, is_dry=True, is_looked_at=True))
        return
    wide = max(18, *(len(name) for name in (*found.outputs, *(s.name for s in found.steps))))
    says_now = not (asked.quiet or asked.as_json)

    def tell(ran: Ran) -> None:
        if says_now:  # as they are done, since they may take long
            show.lay_out([worded.step(_facts(ran, found.outputs), wide)], sys.stderr)

    if says_now:
        show.title(found.title or found.path.stem, stream=sys.stderr)
    finished = recipes.run_read(found, known, tell, grounds.texts_of(asked), asked.replace)
    if page is not None:
        recipes.write_report(page, found, finished, time.monotonic() - began)
    seconds = time.monotonic() - began
    worded.ended(found, report, seconds, wide, say)
    say.notes = [*worded.to_know(finished), *say.notes]
    facts = [_facts(ran, found.outputs) for ran in finished.ran]
    asked.tell(outcome.Outcome("run", facts, say, seconds=seconds))


def _facts(ran: Ran, outputs: Mapping[str, str]) -> StepRan:
    return {
        "step": ran.step.name,
        "command": ran.step.command,
        "line": ran.line,
        "written": outputs.get(ran.step.name),
        "features": ran.features,
        "reused": ran.is_reused,
        "seconds": round(ran.seconds, 3),
        "held": list(ran.held),
        "told": ran.facts.get("results", []),
    }


def _plan_of(step: RecipeStep) -> StepPlanned:
    return {
        "step": step.name,
        "command": step.command,
        "inputs": list(step.inputs),
        "given": dict(step.given),
    }


def _write_recipe(path: Path, layer: str, asked: Asked) -> None:
    """Write the recipe that made a layer."""
    from polygene.cli.recipes import known_options
    from polygene.cli.words import recipes as worded
    from polygene.cli.words.blocks import Words
    from polygene.commit.together import replacing
    from polygene.formats import addressed
    from polygene.formats.base import check_free
    from polygene.provenance import Made, source
    from polygene.reading import single
    from polygene.recipe.from_lineage import draft

    check_free(path, asked.replace)
    ref = single(layer, "what a recipe is written of")
    found = addressed.read(ref).layers[0]
    own = found.lineage or source(Made(found.name, ref.words, found.n_rows, ""))
    destination = f"again.gpkg#{found.name}"
    drafted = draft(own, known_options(), path.parent, ref.path.parent, destination)
    if not asked.dry_run:
        with replacing(path) as temporary:
            temporary.write_text(drafted.text, encoding="utf-8")
    facts: RecipeDrafted = {
        "written": None if asked.dry_run else str(path),
        "steps": drafted.steps,
        "inputs": drafted.inputs,
        "to": destination,
    }
    say = Words()
    worded.drafted(str(path), facts, say)
    say.note(*drafted.notes)
    asked.tell(outcome.Outcome("run", [facts], say, is_dry=asked.dry_run))


def _pair(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals:
        raise click.UsageError(f"{text!r} sets nothing; write it as NAME=VALUE")
    return name.strip(), value.strip()
