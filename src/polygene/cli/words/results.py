"""Which words belong to which summary."""

from __future__ import annotations

import importlib
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from polygene.cli.words.blocks import Words

if TYPE_CHECKING:
    from polygene.batch import Results

# Class of summary → module and function that words one; `overlays` words several at once.
_WORDINGS = {
    "BufferSummary": ("derived", "buffer"),
    "CrossingsSummary": ("derived", "crossings"),
    "DissolveSummary": ("derived", "dissolve"),
    "HullSummary": ("derived", "hull"),
    "JoinSummary": ("derived", "join"),
    "KeyJoinSummary": ("derived", "join_by_key"),
    "PartsSummary": ("derived", "parts"),
    "CopySummary": ("prepared", "convert"),
    "FieldsSummary": ("prepared", "fields"),
    "MeasureSummary": ("prepared", "measure"),
    "MendSummary": ("prepared", "mend"),
    "ReprojectSummary": ("prepared", "reproject"),
    "SubsetSummary": ("prepared", "subset"),
    "MergeSummary": ("merge", "merged"),
}


def words_of(done: Results[Any], said: Sequence[str] = ()) -> Words:
    """Return the words for what was done to several inputs; ``said`` is what is to be known first."""
    say = Words()
    say.note_all(said)
    say.layers = [item.source.name for item in done]
    if type(done[0].result.summary).__name__ == "OverlaySummary":
        from polygene.cli.words.overlays import overlays

        overlays(done, say)
        return say
    for item in done:
        say.note(*item.notes)
        word(item.result.summary, say)
    return say


def word(summary: Any, say: Words) -> None:
    """Word one summary."""
    module, name = _WORDINGS[type(summary).__name__]
    getattr(importlib.import_module(f"polygene.cli.words.{module}"), name)(summary, say)
