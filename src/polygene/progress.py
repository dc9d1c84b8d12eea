"""How the core says what it is doing: it calls, whoever listens decides what to show."""

from __future__ import annotations

from typing import Protocol


class Progress(Protocol):
    """Told of each stage as it begins."""

    def stage(self, name: str) -> None:
        """Begin a stage: ``reading roads``, ``finding crossings``."""
        ...


class Silent:
    """Listens to nothing."""

    def stage(self, name: str) -> None:
        del name


SILENT = Silent()
