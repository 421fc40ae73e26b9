"""Giving memory back to the system at the turns of a treatment."""

from __future__ import annotations

import ctypes
from collections.abc import Callable


def _found() -> Callable[[int], int] | None:
    try:
        found: Callable[[int], int] = ctypes.CDLL(None).malloc_trim
    except (OSError, AttributeError):  # no GNU C library
        return None
    return found


_TRIM = _found()


def give_back() -> None:
    """What was freed goes back to the system, so that the next stage's memory does not come on top: freed
    planes of a picture stay with the C library otherwise (mallopt(3), malloc_trim(3))."""
    if _TRIM is not None:
        _TRIM(0)
