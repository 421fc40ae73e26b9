"""Counting what is served, in memory, and noting it now and then: no request waits for a record."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable
from datetime import UTC, date, datetime

import structlog

from plumcrate.accesslog.visitors import is_bot
from plumcrate.records.database import Database
from plumcrate.records.queries.asked import note_asked
from plumcrate.records.queries.traffic import TrafficCount, add_sent

log = structlog.get_logger()

#: What was counted is noted after so many seconds at the latest, or as soon as it is so much.
_EVERY, _MOST = 10.0, 20_000

_Key = tuple[int, date, int, str, bool]


def _today() -> date:
    return datetime.now(UTC).date()


#: Behind the format of what was sent to who asked for less data: it is counted apart.
LEANER = " (save-data)"


class SentCounter:
    """Safe in several threads. What a killed process had not noted yet is lost: some seconds at most."""

    def __init__(self, database: Database, *, today: Callable[[], date] = _today) -> None:
        self._database, self._today = database, today
        self._sums: dict[_Key, list[int]] = defaultdict(lambda: [0, 0, 0])
        self._asked: set[int] = set()
        self._guard = threading.Lock()
        self._ending = threading.Event()
        self._full = threading.Event()
        self._thread: threading.Thread | None = None

    def count(
        self,
        library_id: int,
        picture_id: int,
        format: str,
        sent: int,
        instead_of: int,
        agent: str | None,
        file_id: int | None = None,
    ) -> None:
        """One answer: bytes sent, and what they stand for of the file as it first was. ``file_id``: which
        file it was, to know which sizes are asked for."""
        key = (library_id, self._today(), picture_id, format, is_bot(agent))
        with self._guard:
            sums = self._sums[key]
            sums[0] += 1
            sums[1] += sent
            sums[2] += instead_of
            if file_id is not None and not key[-1]:
                self._asked.add(file_id)
            if len(self._sums) >= _MOST:
                self._full.set()

    def ask(self, file_id: int, agent: str | None) -> None:
        """A file of a size that was removed, which somebody asked for."""
        if not is_bot(agent):
            with self._guard:
                self._asked.add(file_id)

    def start(self) -> None:
        self._thread = threading.Thread(target=self._go_on, name="counting", daemon=True)
        self._thread.start()

    def _go_on(self) -> None:
        while not self._ending.is_set():
            self._full.wait(_EVERY)
            self._full.clear()
            self.note()

    def note(self) -> None:
        """Notes what was counted. Where the database does not answer it is kept, and noted later."""
        with self._guard:
            sums, self._sums = self._sums, defaultdict(lambda: [0, 0, 0])
            asked, self._asked = self._asked, set()
        if not (sums or asked):
            return
        try:
            with self._database.begin() as session:
                add_sent(session, [TrafficCount(*key, *values) for key, values in sums.items()])
                note_asked(session, asked)
        except Exception as error:
            log.warning("what was sent could not be noted yet", reason=str(error).splitlines()[:1])
            with self._guard:
                self._asked |= asked
                for key, values in sums.items():
                    kept = self._sums[key]
                    self._sums[key] = [have + more for have, more in zip(kept, values, strict=True)]

    def close(self) -> None:
        self._ending.set()
        self._full.set()
        if self._thread is not None:
            self._thread.join(10)
        self.note()
