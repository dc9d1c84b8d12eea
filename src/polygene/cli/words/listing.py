"""What commands tell of files without looking into layers: what is in them, what is wrong."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from polygene.cli.words.blocks import Story, Words
from polygene.errors import with_options
from polygene.info import NO_GEOMETRY
from polygene.notes import Warned, counted

if TYPE_CHECKING:
    from polygene.cli.facts import FileChecked, FileListed, Found, LayerListed


def listed(files: Sequence[FileListed], say: Words) -> None:
    for k, file in enumerate(files):
        if k:
            say.gap()
        _file(file, say)


def _file(file: FileListed, say: Words) -> None:
    layers = file["layers"]
    tables = [y for y in layers if y["geometry"] == NO_GEOMETRY]
    counts = [(len(layers) - len(tables), "layer"), (len(tables), "table")]
    said = [counted(n, what) for n, what in counts if n] or ["no layer"]
    say.title(file["file"], f"{file['format']}, {' and '.join(said)}")
    systems = list(dict.fromkeys(y["crs"] for y in layers if y not in tables))
    head = ["layer", "holds", "fields", "extent"]
    rows = [[y["name"], _holds(y), str(len(y["fields"])), _extent(y)] for y in layers]
    if len(systems) > 1:
        head.insert(2, "CRS")
        for row, y in zip(rows, layers, strict=True):
            row.insert(2, "" if y in tables else y["crs"].split(" ")[0])
    if layers:
        say.table(head, rows, right=[1, len(head) - 2], flexible=[0])
        say.gap()
    for system in systems:
        say.line("CRS", system)
    for y in layers:
        if y["problem"]:
            say.note(Warned(f"{y['name']} cannot be read: {y['problem']}"))


_WEIGHTS = {"refused": "may be refused", "misread": "may be misread", "form": "form only"}


def checked(files: Sequence[FileChecked], say: Words) -> None:
    for k, file in enumerate(files):
        if k:
            say.gap()
        standard = f"{file['standard']} {file['version']}".strip()
        findings = sorted(file["findings"], key=lambda one: list(_WEIGHTS).index(one.weight))
        said = counted(len(findings), "finding") if findings else "nothing found against it"
        say.title(file["file"], f"{standard}: {said}")
        rows = [
            [
                _WEIGHTS[weight],
                with_options(f"{place}: {words}" + (f" ({clause})" if clause else "")),
            ]
            for clause, place, words, weight in findings
        ]
        if rows:
            say.blocks.append(Story(["it", "because"], rows))


def answered(asked: str, answers: Sequence[Found], say: Words) -> None:
    """Tell what words of the trade come to, the likeliest first."""
    if not answers:
        say.line("not known", f"{asked!r} is no word that is known here; --help lists all commands")
    for k, one in enumerate(answers):
        if k:
            say.gap()
        say.title(one["command"] or "not here", one["sentence"])
        if one["example"]:
            say.typed(one["example"])


def _holds(layer: LayerListed) -> str:
    """Return how many of what, as in ``24 multipolygons Z``."""
    kind, *dimensions = layer["geometry"].split(" ")
    if layer["problem"]:
        return kind
    n = layer["features"]
    if kind == NO_GEOMETRY:
        return f"{counted(n, 'row')} without geometry"
    if kind not in _KINDS:
        return " ".join([counted(n, "feature"), f"({layer['geometry']})"])
    return " ".join([counted(n, kind), *dimensions])


_KINDS = ("point", "multipoint", "line", "multiline", "polygon", "multipolygon")


def _extent(layer: LayerListed) -> str:
    if layer["geometry"] == NO_GEOMETRY:
        return ""
    if layer["extent"] is None:
        return "none" if layer["features"] == 0 else "not stated"
    x0, y0, x1, y1 = layer["extent"]
    # Three figures of what it spans, so that a small thing is not all zeroes.
    span = max(x1 - x0, y1 - y0, 1e-9)
    decimals = 2 - math.floor(math.log10(span))
    decimals = min(max(decimals, 4 if layer["geographic"] else 0), 9)
    return " ".join(f"{value:.{decimals}f}" for value in layer["extent"])
