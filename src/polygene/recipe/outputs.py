"""What a recipe's steps came to, put where its outputs go: all of it or none."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from polygene import provenance
from polygene.classes import NamedTuple
from polygene.commit.together import replacing, replacing_folder, together
from polygene.errors import DataError, ExistsError, FileError, PolygeneError, SheetError
from polygene.formats import address, addressed, destination, parquet_parts
from polygene.formats.address import LayerRef
from polygene.formats.destination import Target
from polygene.formats.naming import fields_in
from polygene.formats.parquet_parts.index import read_index
from polygene.formats.pieces import Pieces
from polygene.formats.registry import is_meant_as_folder
from polygene.layer import Layer
from polygene.provenance import Lineage
from polygene.recipe import owned
from polygene.recipe.reading import Recipe
from polygene.writing import nothing_to_part, placed

TO_LOOK_AT = 2_000_000  # vertices of a layer in a folder that is still read for the report


def layers_at(place: str) -> list[Layer]:
    """Return the layers of an address."""
    return [y for ref in address.resolve(place) for y in addressed.read(ref).layers]


def pieces_of(place: Path) -> Pieces | None:
    """Return the result of a step that is a folder in pieces; None for any other."""
    index = read_index(place) if parquet_parts.is_folder(place) else None
    if index is None:
        return None
    return Pieces.of_folder(place, index, parquet_parts.like_of(place, index, place.stem))


class Put(NamedTuple):
    """The layers and the files that were written, and what there is to know of it."""

    layers: list[tuple[Target, Layer]]
    files: list[Path]
    notes: list[str]


def check(recipe: Recipe, replaces: bool) -> None:
    """Refuse before anything runs what may not be written over; see `owned`.

    Raises
    ------
    SheetError, ExistsError
        With the output that may not: for it is an input or another output, or is there and not of an
        earlier run.
    """
    figures = {step.name for step in recipe.steps if step.is_figure}
    guard = owned.Guard(recipe, replaces)
    for step in recipe.steps:
        for path in owned.beside(step):
            try:
                guard.check_file(path)
            except ExistsError as err:
                raise ExistsError(f"{recipe.path}, line {step.line}: {err}") from err
            except PolygeneError as err:
                raise SheetError(recipe.path, step.line, str(err)) from err
    taken: dict[owned.Place, str] = {}
    for name, text in recipe.outputs.items():
        try:
            if name in figures:
                guard.check_file(Path(text))
                places = [owned.Place(os.path.realpath(text))]
            elif not fields_in(text):
                ref = LayerRef(Path(name), name)
                planned = destination.plan(text, [ref], "replace", keeps_names=True)
                guard.check_targets(planned)
                places = [owned.place_of(target) for target in planned]
            else:
                places = []
            for place in places:
                other = taken.setdefault(place, name)
                if other != name:
                    raise DataError(
                        f"{text} is where output {other!r} goes; write to another place"
                    )
        except ExistsError as err:
            raise ExistsError(f"{recipe.path}: output {name!r}: {err}") from err
        except PolygeneError as err:
            raise SheetError(recipe.path, None, f"output {name!r}: {err}") from err


def write(
    recipe: Recipe, places: Mapping[str, str], figures: Mapping[str, Path], replaces: bool
) -> Put:
    """Write all outputs, each under the name it has in the recipe unless the destination says one.

    Of a layer in a folder that is too large to look at, only what it is like comes back, and in
    `Layer.total` how many features it has.

    Raises
    ------
    FileError
        If they cannot be written.
    DataError, ExistsError
        If one is an input, or there and not of an earlier run, and ``replaces`` is false.
    """
    results: list[tuple[Target, Layer]] = []
    large: list[tuple[Target, Path, Pieces]] = []
    files: list[tuple[Target, Layer | Pieces]] = []
    notes: list[str] = []
    for name, text in recipe.outputs.items():
        if name in figures:
            continue
        place = Path(places[name])
        pieces = None if name in recipe.inputs or fields_in(text) else pieces_of(place)
        if pieces is not None:
            (target,) = destination.plan(text, [LayerRef(place, name)], "replace", keeps_names=True)
            if is_meant_as_folder(target.path) or destination.takes_pieces(target.path):
                lineage = _moved(pieces.like.lineage, target)
                large.append((target, place, pieces.called(target.name, lineage)))
                continue
        read = [
            addressed.read(ref) for ref in address.resolve(places[name] + _all(recipe, name, place))
        ]
        layers = [layer for one in read for layer in one.layers]
        results += _placed(name, text, layers, place)
        notes += [note for layer in layers for note in nothing_to_part(layer, text)]
        if name in recipe.inputs:  # no step has told of it
            notes += [note for one in read for note in one.notes]
    drawn = {Path(recipe.outputs[n]): p for n, p in figures.items() if n in recipe.outputs}
    files += results
    targets = [*(target for target, _ in files), *(target for target, _, _ in large)]
    guard = owned.Guard(recipe, replaces)
    with _kept():
        guard.check_targets(targets)
        for path in drawn:
            guard.check_file(path)
    with _kept(), together():
        for target, place, pieces in large:
            if is_meant_as_folder(target.path):
                _copy_folder(target, place, pieces.like.lineage)
            else:
                files.append((target, pieces))
        notes += destination.write_all(files)
        for path, place in drawn.items():
            with replacing(path) as temporary:
                temporary.write_bytes(place.read_bytes())
    files_of = [owned.Place(os.path.realpath(path)) for path in drawn]
    taken = [*map(owned.place_of, targets), *files_of]
    notes += owned.left_over(recipe, taken)
    owned.take(recipe, taken)
    results += [(target, _shown(place, pieces)) for target, place, pieces in large]
    return Put(results, list(drawn), notes)


def _all(recipe: Recipe, name: str, place: Path) -> str:
    return "" if name in recipe.inputs or place.is_dir() else "#*"


def _placed(
    name: str, text: str, layers: Sequence[Layer], place: Path
) -> list[tuple[Target, Layer]]:
    own = name if len(layers) == 1 else None
    named = [(LayerRef(place, own or layer.name), layer) for layer in layers]
    return [
        (t, replace(y, name=t.name, lineage=_moved(y.lineage, t)))
        for pairs in placed(named, text, "replace", keeps_names=True)
        for t, y in pairs
    ]


def _copy_folder(target: Target, place: Path, lineage: Lineage | None) -> None:
    destination.hold_place(target)
    index = read_index(place)
    assert index is not None
    with replacing_folder(target.path) as new:
        for part in index.parts:
            shutil.copyfile(place / part.file, new / part.file)
        told = "" if lineage is None else lineage.to_json()
        parquet_parts.write_index(new, replace(index, lineage=told))


def _shown(place: Path, pieces: Pieces) -> Layer:
    """Return a layer to be shown, or what it is like if it is too large for that."""
    like = pieces.like
    if pieces.n_vertices <= TO_LOOK_AT:
        whole = parquet_parts.read(place, place.stem).layers[0]
        return replace(whole, name=like.name, lineage=like.lineage)
    return replace(like, total=pieces.n_rows, rows=np.zeros(0, np.int64))


@contextlib.contextmanager
def _kept() -> Iterator[None]:
    """Say of results that cannot go to their places that they are there still."""
    try:
        yield
    except PolygeneError as err:
        raise FileError(
            f"{err}\nThe results of all steps are kept; the next run of the recipe only writes them."
        ) from err


def _moved(lineage: Lineage | None, target: Target) -> Lineage | None:
    """Return the lineage of a step's result where it is written to."""
    return None if lineage is None else provenance.moved(lineage, target.name, target.words)
