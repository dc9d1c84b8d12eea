"""The recipe that made a layer, written from its lineage."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import yaml

from polygene import provenance
from polygene.classes import dataclass
from polygene.errors import DataError
from polygene.formats import address
from polygene.layer import distinct_name
from polygene.notes import Warned
from polygene.provenance import Lineage, Node
from polygene.recipe.reading import Option
from polygene.record import OTHER, checksum


@dataclass(frozen=True)
class Drafted:
    """The text of a recipe, how many steps and inputs it has, and what is to be said of it."""

    text: str
    steps: int
    inputs: int
    notes: list[str]


def draft(
    own: Lineage,
    commands: Mapping[str, Mapping[str, Option]],
    folder: Path,
    near: Path,
    destination: str,
) -> Drafted:
    """Write the recipe for a layer.

    Parameters
    ----------
    commands : what each command that may be a step knows, as in `read_recipe`
    folder : where the recipe will be; addresses are told from there
    near : the folder of the layer; files that are not found from here are looked for there
    destination : where the recipe writes the result

    Raises
    ------
    DataError
        If nothing is known of how the layer came about, or a command cannot be a step.
    """
    root = provenance.history(own)
    if not root.command:
        raise DataError(
            f"{root.made.place or root.made.name}: nothing is known of how it came about, so there "
            "is no recipe to write"
        )
    ordered = provenance.nodes(root)[::-1]
    names = _names(ordered)
    notes: list[str] = []
    inputs, steps = {}, []
    for node in ordered:
        if node.command:
            steps.append(_step(node, names, commands, notes))
        else:
            inputs[names[node.key]] = _found(node, folder, near, notes)
    # Within a history a layer may come before what it is made of; a recipe does not mind.
    recipe = {
        "title": f"How {root.made.name} came about",
        "inputs": inputs,
        "steps": steps,
        "outputs": {names[root.key]: destination},
    }
    text = yaml.safe_dump(recipe, sort_keys=False, allow_unicode=True, width=100)
    versions = sorted({node.version for node in ordered if node.version})
    head = f"# Written from the lineage of {root.made.place} (Polygene {', '.join(versions)}).\n"
    return Drafted(head + text, len(steps), len(inputs), notes)


def _names(nodes: list[Node]) -> dict[str, str]:
    """Return a name for each layer, distinct and fit for a recipe."""
    names: dict[str, str] = {}
    for node in nodes:
        names[node.key] = distinct_name(node.made.name, names.values())
    return names


def _step(
    node: Node,
    names: Mapping[str, str],
    commands: Mapping[str, Mapping[str, Option]],
    notes: list[str],
) -> dict[str, Any]:
    if node.command not in commands:
        raise DataError(
            f"{node.made.name} was made by {node.command!r}, which is no step of a recipe"
        )
    inputs = [names[below.key] for role, below in node.used if role != OTHER]
    others = [names[below.key] for role, below in node.used if role == OTHER]
    step: dict[str, Any] = {node.command: inputs[0] if len(inputs) == 1 else inputs}
    if others:
        step["with"] = others[0] if len(others) == 1 else others
    for key, value in node.options.items():
        if key == provenance.PART:
            notes.append(
                Warned(
                    f"{node.made.name} is a part of a result, {value}; the recipe makes all of it"
                )
            )
        elif key in commands[node.command]:
            step[key] = value
        else:
            notes.append(
                Warned(f"{node.made.name}: --{key} of {node.command} has no place in a recipe")
            )
    return {**step, "as": names[node.key]}


def _found(node: Node, folder: Path, near: Path, notes: list[str]) -> str:
    """Return the address of a source as seen from the recipe's folder; say if it has changed."""
    path, fragment = address.split(node.made.place)
    mark = "" if fragment is None else f"#{fragment}"
    for place in (Path(path), near / path):
        if place.is_file():
            if node.made.checksum and checksum(place) != node.made.checksum:
                notes.append(
                    Warned(f"{place} is not what it was when {node.made.name} was read from it")
                )
            return f"{os.path.relpath(place, folder)}{mark}"
    notes.append(
        Warned(f"{node.made.place}, a source, is not there; the recipe names it all the same")
    )
    return node.made.place
