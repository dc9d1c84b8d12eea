"""The JSON Schema of what ``--json`` prints, made of the types of the facts themselves.

``python -m polygene.cli.schema`` prints ``docs/output.schema.json``.
"""

from __future__ import annotations

import dataclasses
import enum
import json
import types
import typing
from collections.abc import Sequence
from typing import Any

from polygene.cli import facts
from polygene.cli.outcome import SHAPE, Failure
from polygene.commands import COMMANDS
from polygene.geometry import Family
from polygene.ops.ask import Asking
from polygene.ops.buffer import BufferSummary
from polygene.ops.by_key import KeyJoinSummary
from polygene.ops.compare import Comparison
from polygene.ops.crossings import CrossingsSummary
from polygene.ops.dissolve import DissolveSummary
from polygene.ops.fields import FieldsSummary
from polygene.ops.hull import HullSummary
from polygene.ops.join import JoinSummary
from polygene.ops.measure import MeasureSummary
from polygene.ops.mend import MendSummary
from polygene.ops.merge import MergeSummary
from polygene.ops.parts import PartsSummary
from polygene.ops.reproject import ReprojectSummary
from polygene.ops.subset import SubsetSummary
from polygene.ops.summary import CopySummary, OverlaySummary

Schema = dict[str, Any]
_SUMMARIES: dict[str, tuple[type, ...]] = {
    **{name: (OverlaySummary,) for name, c in COMMANDS.items() if c.overlay is not None},
    "intersect": (OverlaySummary, CrossingsSummary),
    "mend": (MendSummary,),
    "subset": (SubsetSummary,),
    "fields": (FieldsSummary,),
    "reproject": (ReprojectSummary,),
    "convert": (CopySummary,),
    "dissolve": (DissolveSummary,),
    "buffer": (BufferSummary,),
    "hull": (HullSummary,),
    "parts": (PartsSummary,),
    "join": (JoinSummary, KeyJoinSummary),
    "measure": (MeasureSummary,),
}
_OTHERS: dict[str, tuple[Any, ...]] = {
    "layers": (facts.FileListed,),
    "check": (facts.FileChecked,),
    "find": (facts.Found,),
    "peek": (facts.Peeked,),
    "audit": (facts.Audited,),
    "compare": (Comparison,),
    "ask": (Asking,),
    "draw": (facts.Drawn,),
    "page": (facts.PageMade,),
    "lineage": (dict[str, Any],),  # W3C PROV-JSON, which has a schema of its own
    "subset": (facts.RelationsCounted,),
    "merge": (facts.SheetDrafted,),
    "tally": (facts.Tallied,),
    "run": (facts.StepRan, facts.StepPlanned, facts.RecipeDrafted),
    "demo": (facts.DemoMade,),
}
_HEAD: dict[str, Schema] = {
    "polygene": {"const": SHAPE, "description": "The version of this shape"},
    "command": {"enum": ["", *COMMANDS], "description": "Nothing where none was recognised"},
    "results": {
        "type": "array",
        "description": "One for each input, layer, file or step; what they hold, by command, is below",
    },
    "failed": {
        "type": "array",
        "description": "What could not be done; all of it where results is empty",
    },
    "notes": {
        "type": "array",
        "items": {"type": "string"},
        "description": "What a person is told besides",
    },
    "warnings": {
        "type": "array",
        "items": {"type": "string"},
        "description": "Those of the notes that warn: what is lost, guessed or no longer true",
    },
    "seconds": {"type": "number", "minimum": 0},
    "dry_run": {
        "const": True,
        "description": "There if nothing was written since it was only tried",
    },
}


def schema() -> Schema:
    """Return the schema of the document that any command prints."""
    known: dict[str, Schema] = {}
    by_command = []
    for name in COMMANDS:
        kinds = [_worked(kind, known) for kind in _SUMMARIES.get(name, ())]
        if name == "merge":
            kinds.append(
                _object({"written": str | list[str] | None, "summary": MergeSummary}, known)
            )
        kinds += [_of(kind, known) for kind in _OTHERS.get(name, ())]
        items = kinds[0] if len(kinds) == 1 else {"anyOf": kinds}
        by_command.append(
            {
                "if": {"properties": {"command": {"const": name}}},
                "then": {"properties": {"results": {"items": items}}},
            }
        )
    properties = {**_HEAD, "failed": {**_HEAD["failed"], "items": _of(Failure, known)}}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What a command of Polygene prints with --json",
        "type": "object",
        "properties": properties,
        "required": ["polygene", "command", "results", "failed", "notes", "warnings"],
        "additionalProperties": False,
        "allOf": by_command,
        "$defs": dict(sorted(known.items())),
    }


def _worked(summary: type, known: dict[str, Schema]) -> Schema:
    """Return the schema of an INPUT that was worked on."""
    return _object(
        {
            "source": str,
            "written": str | list[str] | None,
            "summary": summary,
            "notes": list[str],
            "seconds": float,
        },
        known,
    )


def _object(
    hints: dict[str, Any], known: dict[str, Schema], required: Sequence[str] | None = None
) -> Schema:
    return {
        "type": "object",
        "properties": {name: _of(hint, known) for name, hint in hints.items()},
        "required": sorted(hints if required is None else required),
        "additionalProperties": False,
    }


_PLAIN: dict[Any, Schema] = {
    Any: {},
    str: {"type": "string"},
    bool: {"type": "boolean"},
    int: {"type": "integer"},
    float: {"type": ["number", "null"]},  # what is not finite is null
    type(None): {"type": "null"},
}


def _of(hint: Any, known: dict[str, Schema]) -> Schema:
    """Return the schema of what `outcome.plain` makes of a type; named ones go to ``known``."""
    if hint in _PLAIN:
        return _PLAIN[hint]
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return {"anyOf": [_of(one, known) for one in inner]}
    if origin is tuple and Ellipsis not in inner:
        return {"type": "array", "prefixItems": [_of(one, known) for one in inner]}
    if origin in (list, tuple, Sequence):
        return {"type": "array", "items": _of(inner[0], known)}
    if origin is typing.Literal:
        return {"enum": list(inner)}
    if origin is dict:
        return {"type": "object", "additionalProperties": _of(inner[1], known)}
    if isinstance(hint, type) and issubclass(hint, enum.Enum):
        return {"enum": [one.words if isinstance(one, Family) else one.value for one in hint]}
    name = hint.__name__
    if name not in known:
        known[name] = {}  # lest a type that holds itself be gone round for ever
        known[name] = _named(hint, known)
    return {"$ref": f"#/$defs/{name}"}


def _named(hint: Any, known: dict[str, Schema]) -> Schema:
    hints = typing.get_type_hints(hint)
    if dataclasses.is_dataclass(hint):
        names = [field.name for field in dataclasses.fields(hint)]
        found = _object({name: hints[name] for name in names}, known)
    else:
        found = _object(hints, known, sorted(getattr(hint, "__required_keys__", hints)))
    first = (hint.__doc__ or "").strip().split("\n\n")[0].split(". ")[0]
    if first and not first.startswith(f"{hint.__name__}("):
        found["description"] = " ".join(first.split()).rstrip(".")
    return found


def text() -> str:
    """Return the schema as its file has it."""
    found = schema()
    named = ",\n".join(f"  {_line(k)}: {_line(v)}" for k, v in found.pop("$defs").items())
    rules = ",\n".join(f"  {_line(rule)}" for rule in found.pop("allOf"))
    head = json.dumps(found, indent=1, ensure_ascii=False).removesuffix("\n}")
    return f'{head},\n "allOf": [\n{rules}\n ],\n "$defs": {{\n{named}\n }}\n}}\n'


def _line(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)


if __name__ == "__main__":
    print(text(), end="")
