"""Whether the disks have room: a full one stops the work of its library until it has some again."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import structlog

from plumcrate.records.tables import Library
from plumcrate.runs.faults import ROOM_SECONDS
from plumcrate.words import size

log = structlog.get_logger()


#: While a file is treated it stands there up to so many times: itself, its backup, its copies. Beside that so
#: much must be free.
_TIMES, _SPARE = 4, 16_000_000


@dataclass(frozen=True, slots=True)
class _Short:
    """Bytes that are wanted before work goes on, and since when."""

    wanted: int
    since: float


class DiskSpace:
    """Remembers the libraries for which a disk was full. Several threads may use it; ``clock`` in seconds."""

    def __init__(self, state_dir: Path, clock: Callable[[], float] = time.monotonic) -> None:
        self._state_dir, self._clock = state_dir, clock
        self._short: dict[int, _Short] = {}
        self._guard = threading.Lock()

    def ran_out(self, library: Library, bytes_of_file: int) -> None:
        """A file of a library could not be written."""
        wanted = _TIMES * bytes_of_file + _SPARE
        with self._guard:
            known = self._short.get(library.id)
            wanted = max(wanted, known.wanted) if known is not None else wanted
            self._short[library.id] = _Short(wanted, self._clock())
        if known is None:
            free = {place: size(_free(place)) for place in self._places(library)}
            log.warning("a disk is full: the library waits for room", library=library.slug, free=free)

    def lacking(self, library: Library) -> str | None:
        """Why a library waits for room; None when it does not. Where a quota says how much may be written,
        that is found out by trying."""
        with self._guard:
            short = self._short.get(library.id)
        if short is None:
            return None
        for place in self._places(library):
            free = _free(place)
            if free < short.wanted:
                return f"the disk of {place} is full ({size(free)} free): free {size(short.wanted)} or more"
        if self._clock() - short.since < ROOM_SECONDS:
            return "a disk or a quota was full a moment ago"
        with self._guard:
            self._short.pop(library.id, None)
        log.info("there is room again: the library goes on", library=library.slug)
        return None

    def _places(self, library: Library) -> list[str]:
        return [library.root, str(self._state_dir)]


def _free(place: str) -> int:
    """Bytes that we may still write there; none where that cannot be told."""
    try:
        facts = os.statvfs(place)
    except OSError:
        return 0
    return facts.f_bavail * facts.f_frsize
