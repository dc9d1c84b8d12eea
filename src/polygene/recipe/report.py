"""A run of a recipe as one page of HTML that needs nothing else: plan, results, steps, sources."""

from __future__ import annotations

import base64
import csv
from collections.abc import Sequence
from html import escape
from pathlib import Path

import pyarrow as pa

from polygene import __version__, provenance
from polygene import computing as pc
from polygene.clock import now
from polygene.commit.leftovers import passing_folder
from polygene.crs import label
from polygene.errors import PolygeneError
from polygene.formats.destination import Target
from polygene.geometry import Family
from polygene.layer import Layer, named_apart
from polygene.measures import row_areas, row_lengths, ruler_for
from polygene.notes import NULL_NAME, Warned, counted
from polygene.ops.summary import unit_of
from polygene.pages import html
from polygene.pages.viewing import viewed
from polygene.pictures.diagram import Arrow, Box, diagram
from polygene.pictures.looks import Look
from polygene.pictures.maps import MapPlan, draw_map
from polygene.recipe.kept import Told
from polygene.recipe.reading import Recipe
from polygene.recipe.running import Finished, Ran
from polygene.units import worded

MOST_ROWS = 40  # of a table that is shown
MOST_IN_REPORT = 100_000  # rows of a layer
MAP_SIZE = (9.6, 6.0)  # inches: about what two in a row have on the page
_STYLE = """
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink);
       font: 15px/1.5 "DejaVu Sans", Verdana, sans-serif; }
main { max-width: 1120px; margin: 0 auto; padding: 28px 24px 60px; }
h1 { font-size: 25px; margin: 0 0 4px; }
h2 { font-size: 18px; margin: 40px 0 10px; padding-bottom: 4px; border-bottom: 2px solid var(--deep); }
h3 { font-size: 15.5px; margin: 22px 0 6px; }
p { margin: 6px 0; } .soft { color: var(--soft); }
table { border-collapse: collapse; width: 100%; font-size: 13.5px; margin: 8px 0; }
th { text-align: left; color: var(--soft); font-weight: normal; }
th, td { padding: 4px 12px 4px 0; border-bottom: 1px solid var(--line); vertical-align: top; }
td.number, th.number { text-align: right; font-variant-numeric: tabular-nums; }
tr.total td { font-weight: bold; }
pre { background: var(--sheet); border: 1px solid var(--line); border-radius: 6px; padding: 10px 12px;
      overflow-x: auto; font: 12.5px/1.45 "DejaVu Sans Mono", Consolas, monospace; margin: 6px 0; }
code { font: 13px "DejaVu Sans Mono", Consolas, monospace; overflow-wrap: anywhere; }
.plan { width: min(100vw - 64px, max(100%, var(--wide))); position: relative; left: 50%;
        transform: translateX(-50%); overflow-x: auto; background: #fff;
        border: 1px solid var(--line); border-radius: 6px; }
.plan svg { width: min(var(--wide), max(100%, 0.55 * var(--wide))); height: auto; display: block; }
.look { height: 640px; margin: 12px 0; }
.maps { display: grid; grid-template-columns: repeat(auto-fill, minmax(480px, 1fr)); gap: 16px; }
figure { margin: 0; } figure img { width: 100%; border: 1px solid var(--line); border-radius: 6px; }
figure.wide { grid-column: 1 / -1; }
figcaption { font-size: 13px; color: var(--soft); }
ul.notes { padding-left: 20px; } ul.notes li { margin: 3px 0; }
.tag { background: var(--press); border-radius: 9px; padding: 1px 9px; font-size: 12px;
       color: var(--soft); font-weight: normal; }
.tag.warning { background: #a5433b; color: #fff; }
@media (max-width: 52rem) { .look { height: auto; } }
@media screen { .on-paper { display: none; } }
@media print { h2 { break-after: avoid; } figure, pre { break-inside: avoid; }
  .look { display: none; } }
"""


def report(recipe: Recipe, finished: Finished, seconds: float) -> str:
    """Return the page for a run that went well."""
    title = recipe.title or recipe.path.stem
    reused = sum(done.is_reused for done in finished.ran)
    facts = [
        f"{recipe.path.name}",
        now().replace("T", " ").removesuffix("Z") + " UTC",
        f"Polygene {__version__}",
        f"{counted(len(finished.ran), 'step')}, {reused} as last time",
        f"{seconds:.1f} s",
    ]
    parameters = ", ".join(f"{k} = {v}" for k, v in recipe.parameters.items())
    plan = _plan(recipe, finished)
    body = [
        f"<h1>{escape(title)}</h1>",
        f'<p class="soft">{escape(" · ".join(facts))}</p>',
        f'<p class="soft">Parameters: {escape(parameters)}</p>' if parameters else "",
        "<h2>What came out</h2>",
        _results(finished),
        _figures(finished),
        '<h2>How</h2><p class="soft">Inputs and steps from left to right; what a step is worked on '
        "with comes by a dashed arrow.</p>",
        f'<div class="plan">{plan}</div>',
        "<h2>To know</h2>",
        _notes(finished),
        "<h2>Steps</h2>",
        *(_step(done) for done in finished.ran),
        "<h2>Sources</h2>",
        _sources(finished),
    ]
    text = "\n".join(part for part in body if part)
    # As wide as it is drawn, or smaller where the window is; what is small is not blown up.
    wide = plan[plan.index(' width="') + 8 :].partition('"')[0]
    styles = [html.style(), _STYLE, f".plan {{ --wide: {wide}px; }}"]
    return html.document(title, styles, f"<main>\n{text}\n</main>", html.script())


def _table(
    head: Sequence[str],
    rows: Sequence[Sequence[str]],
    right: Sequence[int] = (),
    has_total: bool = False,
) -> str:
    def line(cells: Sequence[str], tag: str, kind: str = "") -> str:
        inner = "".join(
            f"<{tag}{' class=number' if k in right else ''}>{escape(cell)}</{tag}>"
            for k, cell in enumerate(cells)
        )
        return f"<tr{kind}>{inner}</tr>"

    lines = [line(head, "th")]
    for k, row in enumerate(rows):
        is_total = has_total and k == len(rows) - 1
        lines.append(line(row, "td", " class=total" if is_total else ""))
    return f"<table>{''.join(lines)}</table>"


def _results(finished: Finished) -> str:
    rows = [
        [t.name, t.words, f"{y.n_total:,}", y.geometry.family.words, _size(y), label(y.crs)]
        for t, y in finished.layers
    ]
    head = ["layer", "written to", "features", "kind", "size", "CRS"]
    return _table(head, rows, right=[2, 4]) if rows else "<p>No layers.</p>"


def _is_here(layer: Layer) -> bool:
    """Whether a layer was small enough to be read for the report."""
    return layer.n_rows > 0 or layer.n_total == 0


def _size(layer: Layer) -> str:
    if not _is_here(layer):
        return ""
    ruler = ruler_for(layer.crs)
    if layer.geometry.family == Family.POLYGONS:
        return worded(
            [float(row_areas(layer.geometry, ruler).sum())], unit_of(Family.POLYGONS, ruler)
        )[0]
    if layer.geometry.family == Family.LINES:
        return worded([float(row_lengths(layer.geometry, ruler).sum())], ruler.unit)[0]
    return ""


def _figures(finished: Finished) -> str:
    """Return the pictures and tables that the recipe makes, then its layers to look at.

    On paper they are still pictures.
    """
    maps, tables, on_paper = [], [], []
    for done in finished.ran:
        if done.step.is_figure:
            kind = done.place.suffix.lower()
            if kind in (".png", ".svg"):
                maps.append(_picture(done.place.read_bytes(), kind, done.step.name, " class=wide"))
            elif kind == ".csv":
                how = f'<p class="soft"><code>{escape(done.line)}</code></p>'
                tables.append(f"<h3>{escape(done.step.name)}</h3>{how}{_csv_table(done.place)}")
    for target, layer in finished.layers:
        if not _is_here(layer):
            continue
        try:
            on_paper.append(_map(target, layer))
        except PolygeneError:
            continue  # an empty layer has no map
    parts = [*tables]
    for name, pictures in (("maps", maps), ("maps on-paper", on_paper)):
        if pictures:
            parts.append(f'<div class="{name}">{"".join(pictures)}</div>')
    return "".join(parts) + _look(finished)


def _look(finished: Finished) -> str:
    """Return the layers as a map with tables, to be looked at in a browser."""
    here = [layer for _, layer in finished.layers if _is_here(layer)]
    layers = named_apart(sorted(here, key=_height))
    if not layers:
        return ""
    looks = [Look(colour_by=None if y.is_table else _telling_field(y)) for y in layers]
    told = [note for _, note in finished.to_know()]
    try:
        found = [viewed(layers, looks, most=MOST_IN_REPORT, notes=told)]
    except PolygeneError:  # some cannot be on one map, as with a CRS and without
        found = [
            viewed([y], [look], most=MOST_IN_REPORT, notes=told)
            for y, look in zip(layers, looks, strict=True)
        ]
    return "".join(f'<div class="look">{one.element}</div>' for one in found)


def _height(layer: Layer) -> tuple[int, float]:
    """Return how high a layer lies on a map: points on lines on polygons, and large ones lowest."""
    if layer.is_table:
        return 0, 0.0
    extent = layer.geometry.extent() or (0.0, 0.0, 0.0, 0.0)
    family = layer.geometry.family
    size = float(row_areas(layer.geometry).sum()) if family == Family.POLYGONS else 0.0
    rank = (Family.POLYGONS, Family.LINES, Family.POINTS).index(family)
    return rank, -(size or (extent[2] - extent[0]) * (extent[3] - extent[1]))


def _picture(data: bytes, kind: str, caption: str, width: str = "") -> str:
    mime = "image/svg+xml" if kind == ".svg" else "image/png"
    source = f"data:{mime};base64,{base64.b64encode(data).decode()}"
    return (
        f'<figure{width}><img alt="{escape(caption, quote=True)}" src="{source}">'
        f"<figcaption>{escape(caption)}</figcaption></figure>"
    )


def _map(target: Target, layer: Layer) -> str:
    look = Look(colour_by=_telling_field(layer))
    with passing_folder() as folder:
        place = folder / "map.png"
        draw_map(MapPlan([layer], [look], target.name, size=MAP_SIZE), place)
        return _picture(place.read_bytes(), ".png", target.words)


def _telling_field(layer: Layer) -> str | None:
    """Return the first text field with a few values to colour a map by, None if there is none."""
    for field in layer.table.schema:
        if pa.types.is_string(field.type):
            n = len(pc.unique(pc.drop_null(layer.table.column(field.name))))
            if 2 <= n <= 8:
                return str(field.name)
    return None


def _csv_table(path: Path) -> str:
    with path.open(encoding="utf-8", newline="") as file:
        head, *rows = csv.reader(file)
    columns = list(zip(*rows, strict=True)) if rows else []
    right = [k for k, column in enumerate(columns) if all(_is_number(cell) for cell in column)]
    shown = [
        [_short(cell) if k in right else cell or NULL_NAME for k, cell in enumerate(row)]
        for row in (rows if len(rows) <= MOST_ROWS else [*rows[: MOST_ROWS - 1], rows[-1]])
    ]
    more = len(rows) - len(shown)
    cut = f'<p class="soft">{more:,} rows more in the file</p>' if more else ""
    return _table(head, shown, right, has_total=bool(rows) and rows[-1][:1] == ["all"]) + cut


def _is_number(cell: str) -> bool:
    try:
        float(cell or "0")
    except ValueError:
        return False
    return True


def _short(cell: str) -> str:
    if not cell:
        return ""
    return f"{int(cell):,}" if cell.lstrip("-").isdigit() else f"{float(cell):,.2f}"


def _plan(recipe: Recipe, finished: Finished) -> str:
    """Return the diagram of the recipe."""
    boxes = [Box(name, name, text, "source") for name, text in recipe.inputs.items()]
    arrows = []
    for done in finished.ran:
        step = done.step
        n = done.features
        count = "" if n is None else f", {n:,} feature{'' if n == 1 else 's'}"
        kind = "result" if step.name in recipe.outputs else "step"
        boxes.append(Box(step.name, step.name, f"{step.command}{count}", kind))
        arrows += [Arrow(name, step.name) for name in step.inputs]
        arrows += [Arrow(name, step.name, True) for name in step.others]
    linked = {name for arrow in arrows for name in (arrow.start, arrow.stop)}
    return diagram([box for box in boxes if box.key in linked or box.kind != "source"], arrows)


def step_words(told: Told) -> str:
    """Return what a step told as HTML."""
    return f"<pre>{escape(told.words)}</pre>" if told.words.strip() else ""


def _notes(finished: Finished) -> str:
    items = []
    for steps, note in finished.to_know():
        mark = '<span class="tag warning">warning</span> ' if isinstance(note, Warned) else ""
        whose = f"<b>{escape(steps)}</b>: " if steps else ""
        items.append(f"<li>{mark}{whose}{escape(note)}</li>")
    if not items:
        return "<p>Nothing out of the ordinary.</p>"
    return f'<ul class="notes">{"".join(items)}</ul>'


def _step(done: Ran) -> str:
    tags = ["as last time" if done.is_reused else f"{done.seconds:.2f} s"]
    tags += [f"{held}, as expected" for held in done.held]
    marks = " ".join(f'<span class="tag">{escape(tag)}</span>' for tag in tags)
    head = f"<h3>{escape(done.step.name)} {marks}</h3><p><code>{escape(done.line)}</code></p>"
    return head + step_words(done.told)


def _sources(finished: Finished) -> str:
    made, credits = {}, []
    for _, layer in finished.layers:
        if layer.lineage is not None:
            for one in provenance.sources(layer.lineage):
                made[one.place, one.checksum] = one
            credits += provenance.credits_of(layer.lineage)
    rows = [
        [
            one.name,
            one.place,
            f"{one.features:,}",
            one.crs,
            one.checksum[:16],
            " · ".join(text for text in (one.credit, one.licence) if text),
        ]
        for one in made.values()
    ]
    head = ["layer", "file", "features", "CRS", "SHA-256", "credit"]
    table = _table(head, rows, right=[2]) if rows else "<p>None are known.</p>"
    lines = "".join(f"<p>{escape(text)}</p>" for text in dict.fromkeys(credits))
    return table + lines
