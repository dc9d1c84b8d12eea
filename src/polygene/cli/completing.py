"""What the shell completes: files and layers, fields of the layers that were named, codes of CRS."""

from __future__ import annotations

import contextlib
import glob
import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from polygene.errors import PolygeneError

if TYPE_CHECKING:
    import click
    from click.shell_completion import CompletionItem

    from polygene.formats.address import LayerRef

MOST = 60  # codes of CRS that are offered
_INPUTS = ("inputs", "address", "first", "input_")

Completing = Callable[["click.Context", "click.Parameter", str], list[Any]]


def addresses(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Complete an address: the layers of a file after its name, else files."""
    from polygene.formats.endings import may_hold_layers

    path, mark, begun = incomplete.partition("#")
    if mark:
        from polygene.formats.address import resolve

        try:
            refs: list[LayerRef] = resolve(f"{path}#*")
        except PolygeneError:
            return []
        return [f"{path}#{ref.name}" for ref in refs if ref.name.startswith(begun)]
    folder = Path(path).parent
    return [
        f"{place}/" if place.is_dir() else str(place)
        for place in sorted(folder.glob(f"{glob.escape(Path(path).name if path else '')}*"))
        if place.is_dir() or may_hold_layers(place)
    ]


_OTHERS = {"with_where": ("with_",), "keep": ("with_", *_INPUTS), "drop": ("with_", *_INPUTS)}


def complete_by_metavar(param: click.Option) -> None:
    """Let an option complete what it says it takes: fields, expressions of them, a CRS."""
    if param.metavar in ("FIELD", "FIELDS", "EXPR") or param.type.name == "EXPR":
        complete = _fields(*_OTHERS.get(str(param.name), _INPUTS))
    elif param.metavar == "CRS":
        complete = codes
    else:
        return
    param.shell_complete = lambda ctx, incomplete: _items(complete(ctx, param, incomplete))  # type: ignore[method-assign]


def _items(found: list[Any]) -> list[CompletionItem]:
    from click.shell_completion import CompletionItem

    return [one if isinstance(one, CompletionItem) else CompletionItem(one) for one in found]


def _fields(*roles: str) -> Completing:
    """Return what completes names of fields, of layers that were named before, by argument.

    Of several with commas between, or in an expression, the last is completed.
    """

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[Any]:
        found = re.search(r"[\w.]*$", incomplete)
        begun = found[0] if found else ""
        front = incomplete[: len(incomplete) - len(begun)]
        names: dict[str, None] = {}
        for role in roles:
            # What stands before an option that has no value yet is with the rest of the words.
            given = ctx.params.get(role) or (ctx.args if role in _INPUTS else ())
            for text in (given,) if isinstance(given, str) else given:
                names.update(dict.fromkeys(_fields_of(text)))
        return [front + name for name in names if name.casefold().startswith(begun.casefold())]

    return complete


def _fields_of(text: str) -> list[str]:
    """Return the fields of the layers that an address stands for; none if it cannot be read."""
    from polygene.formats.address import resolve
    from polygene.formats.registry import readable_format

    names: list[str] = []
    with contextlib.suppress(PolygeneError, OSError):
        for ref in resolve(text):
            for info in readable_format(ref.path).list_layers(ref.path):
                if info.name == ref.name:
                    names += [name for name, _ in info.fields]
    return names


def codes(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[Any]:
    """Complete a CRS: its code by the first digits, else a layer, or by words of its name."""
    from click.shell_completion import CompletionItem
    from pyproj.database import query_crs_info
    from pyproj.enums import PJType

    begun = incomplete.casefold()
    kinds = [PJType.GEOGRAPHIC_2D_CRS, PJType.PROJECTED_CRS]
    known = query_crs_info(auth_name="EPSG", pj_types=kinds)
    found = [info for info in known if f"epsg:{info.code}".startswith(begun)]
    if not found:
        layers = addresses(ctx, param, incomplete)
        if layers:
            return layers
        found = [info for info in known if begun in info.name.casefold()]
    return [CompletionItem(f"EPSG:{info.code}", help=info.name) for info in found[:MOST]]
