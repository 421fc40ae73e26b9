"""How much of the processors children take, by who waits for what they do.

A person's question runs like any program. Copies of new uploads step back a little. Bulk work leaves the
processors to others, but never all of them: on a machine that is always busy it still gets its floor.

Linux shares processors between sessions first (``sched_autogroup_enabled``, sched(7)), and each child is a
session of its own. How nice that session is may be changed at any time and without privilege, up and down,
through ``/proc/PID/autogroup``: that is the lever. A process's own niceness can only be raised. It counts
where there are no autogroups, and within a control group (systemd's ``CPUWeight=``), where whoever runs the
service sets the weight."""

from __future__ import annotations

import contextlib
import os
import time
from enum import Enum

#: Sessions are at most so nice (sched(7)).
_NICEST = 19
#: Who gets less than such a part of what the processors would give is held back.
_ENOUGH = 0.6
#: The share is that of the last so many seconds.
_WINDOW = 5.0


class Urgency(Enum):
    """Who waits. ``nice`` is the niceness of the child's process, ``session`` that of its session at
    first."""

    PERSON = (0, 0)
    ARRIVAL = (5, 5)
    BULK = (10, _NICEST)

    @property
    def nice(self) -> int:
        return self.value[0]

    @property
    def session(self) -> int:
        return self.value[1]


def next_niceness(now: int, share: float, busy: int, floor: float) -> int:
    """How nice the sessions of ``busy`` children should be that together had ``share`` processors.

    Below the floor they press forward quickly; well above it they step back slowly, so that it is found where
    the floor is just kept; where nobody else wants the processors they are as nice as can be.
    """
    if share >= 0.8 * min(busy, os.cpu_count() or 1):
        return _NICEST
    if share < floor:
        return max(0, now - 4)
    if share > 2 * floor:
        return min(_NICEST, now + 1)
    return now


class Pace:
    """Watches bulk children and holds the lever. ``floor`` is in processors, for all of them together."""

    def __init__(self, floor: float) -> None:
        self.floor = floor
        self.niceness = Urgency.BULK.session
        #: Processors that each busy child had of late; None when none was busy.
        self.share: float | None = None
        self._busy = 0
        self._seen: list[tuple[float, float, int]] = []

    def look(self, used: float, busy: int) -> int:
        """Takes note of the processor seconds that all children have used so far, of whom ``busy`` work; says
        how nice their sessions should be now."""
        now = time.monotonic()
        if not busy:
            self._seen.clear()
            self.share = None
            return self.niceness
        self._seen.append((now, used, busy))
        while len(self._seen) > 2 and self._seen[1][0] < now - _WINDOW:
            self._seen.pop(0)
        began, before, _ = self._seen[0]
        if now - began < _WINDOW / 2:
            return self.niceness
        share = max(0.0, used - before) / (now - began)
        self.share, self._busy = share / busy, busy
        self.niceness = next_niceness(self.niceness, share, busy, self.floor)
        return self.niceness

    @property
    def held_back(self) -> str | None:
        """By what bulk work is held back, in plain words; None when it gets about what it asks for."""
        processors = os.cpu_count() or 1
        fair = min(1.0, processors / self._busy) if self._busy else 1.0
        if self.share is None or self.share > _ENOUGH * fair:
            return None
        got = self.share * self._busy
        return f"other programs of this machine: it gets {got:.1f} of {processors} processors"


def pull(lever: int, niceness: int) -> None:
    """Makes a session so nice. What the system forbids, or allows only so often, is left for the next
    time."""
    with contextlib.suppress(OSError):
        os.write(lever, str(niceness).encode())
