"""The named steps of the change protocol, so that tests can kill the process at each."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum


class Step(StrEnum):
    """In the order in which a change passes them; the last two are those of pruning."""

    READ = "read"
    BACKED_UP = "backed-up"
    JOURNALLED = "journalled"
    STAGED = "staged"
    EXCHANGED = "exchanged"
    CHECKED = "checked"
    RECORDED = "recorded"
    CLEANED = "cleaned"
    CLOSED = "closed"
    SELECTED = "selected"
    DELETED = "deleted"


def _nothing(_: Step) -> None:
    return None


#: Called as each step is passed. Only fault tests put something else here.
observer: Callable[[Step], None] = _nothing


def passed(step: Step) -> None:
    """Says that a step is behind us."""
    observer(step)
