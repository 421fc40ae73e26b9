"""What one turn of a run's item comes to. Turns return a step; :mod:`.items` records it."""

from __future__ import annotations

from dataclasses import dataclass

from .treating import ItemOutcome


@dataclass(frozen=True, slots=True)
class Ended:
    """The item is done, passed over or failed."""

    outcome: ItemOutcome


@dataclass(frozen=True, slots=True)
class CopiesLater:
    """The file is served in its light form. Its copies come in a turn of their own."""

    light: ItemOutcome


@dataclass(frozen=True, slots=True)
class Again:
    """The same turn comes again, after ``pause`` seconds.

    ``code`` and ``reason`` say why; both are empty when only the worker stopped. ``counts``: whether this was
    one of the tries after which the item fails. A volume that is away or a full disk is waited for as often
    as it takes.
    """

    pause: float = 0.0
    code: str | None = None
    reason: str = ""
    counts: bool = False


Step = Ended | CopiesLater | Again
