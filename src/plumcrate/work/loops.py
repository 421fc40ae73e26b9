"""What a worker does again and again: each thing in a thread of its own, supervised, with a back-off."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from typing import Any

import structlog

log = structlog.get_logger()

#: After failures in a row the next round waits for twice as long, up to so many seconds.
_LONGEST = 60.0
#: Seconds until it is looked again whether the database answers.
_ANSWERS = 1.0


class Loop:
    """One thing, every so many seconds. A fault of ours in one round does not end it.

    ``is_away`` tells a database that does not answer from faults: it is tried again each second, and no fault
    is counted.
    """

    def __init__(
        self, name: str, work: Callable[[], None], every: float, is_away: Callable[[BaseException], bool]
    ) -> None:
        self.name, self._work, self._every, self._is_away = name, work, every, is_away
        self._thread = ThreadPoolExecutor(1, thread_name_prefix=name)
        self._away = False
        self.failures = 0
        self.said: str | None = None
        self.since: datetime | None = None

    async def run(self) -> None:
        """Until cancelled."""
        while True:
            await self.turn()
            await asyncio.sleep(self.pause)

    async def turn(self) -> None:
        """One round."""
        try:
            await asyncio.get_running_loop().run_in_executor(self._thread, self._work)
        except Exception as error:
            self._away = self._is_away(error)
            if self._away:
                return
            self.failures += 1
            self.said = f"{type(error).__name__}: {error}".splitlines()[0][:300]
            self.since = self.since or datetime.now(UTC)
            log.exception(f"{self.name} failed; it is tried again", failures=self.failures)
        else:
            self._away = False
            self.failures, self.said, self.since = 0, None, None

    @property
    def pause(self) -> float:
        """Seconds until the next round."""
        if self._away:
            return _ANSWERS
        return float(max(self._every, min(_LONGEST, self._every * 2**self.failures if self.failures else 0)))

    def report(self) -> dict[str, Any]:
        """For the record of workers: how often it failed in a row, since when, and how."""
        since = self.since.isoformat() if self.since else None
        return {"failures": self.failures, "said": self.said, "since": since}

    def close(self) -> None:
        self._thread.shutdown(wait=False, cancel_futures=True)
