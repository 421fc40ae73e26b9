"""The processes of a browser: which there are, what memory they use, how all of them end."""

from __future__ import annotations

import contextlib
import os
import signal
import time
from pathlib import Path

_PROC = Path("/proc")
_PAGE = os.sysconf("SC_PAGE_SIZE")


def below(root: int, marker: str | None = None) -> set[int]:
    """All descendants of a process, and all others whose environment holds ``marker``."""
    parents: dict[int, int] = {}
    marked: set[int] = set()
    for place in _PROC.iterdir():
        if not place.name.isdigit():
            continue
        number = int(place.name)
        try:
            state, parent = (place / "stat").read_text().rpartition(")")[2].split()[:2]
            if state == "Z":
                continue  # ended already
            parents[number] = int(parent)
            if marker is not None and marker.encode() in (place / "environ").read_bytes():
                marked.add(number)
        except (OSError, IndexError, ValueError):
            continue
    found = {root} | marked
    while more := {number for number, parent in parents.items() if parent in found} - found:
        found |= more
    return found - {root, os.getpid()}


def memory_of(processes: set[int]) -> int:
    """Bytes in memory that are theirs alone: what they share with each other is left out."""
    total = 0
    for number in processes:
        with contextlib.suppress(OSError, ValueError, IndexError):
            _, resident, shared, *_ = (_PROC / str(number) / "statm").read_text().split()
            total += (int(resident) - int(shared)) * _PAGE
    return total


def end_all(root: int, marker: str | None = None) -> None:
    """Ends every descendant at once; also those that are made meanwhile."""
    end = time.monotonic() + 5
    while (alive := below(root, marker)) and time.monotonic() < end:
        for number in alive:
            with contextlib.suppress(OSError):
                os.kill(number, signal.SIGKILL)
        time.sleep(0.02)
