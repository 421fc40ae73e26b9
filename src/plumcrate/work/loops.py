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


class Loop:
    """One thing, every so many seconds. A fault of ours in one round does not end it.

    ``is_fatal`` tells errors that end the worker's work, such as a lost database, from others.
    """

    def __init__(
        self, name: str, work: Callable[[], None], every: float, is_fatal: Callable[[BaseException], bool]
    ) -> None:
        self.name, self._work, self._every, self._is_fatal = name, work, every, is_fatal
        self._thread = ThreadPoolExecutor(1, thread_name_prefix=name)
        self.failures = 0
        self.said: str | None = None
        self.since: datetime | None = None

    async def run(self) -> None:
        """Until cancelled. Raises what is fatal."""
        while True:
            await self.turn()
            await asyncio.sleep(self.pause)

    async def turn(self) -> None:
        """One round. Raises what is fatal."""
        try:
            await asyncio.get_running_loop().run_in_executor(self._thread, self._work)
        except Exception as error:
            if self._is_fatal(error):
                raise
            self.failures += 1
            self.said = f"{type(error).__name__}: {error}".splitlines()[0][:300]
            self.since = self.since or datetime.now(UTC)
            log.exception(f"{self.name} failed; it is tried again", failures=self.failures)
        else:
            self.failures, self.said, self.since = 0, None, None

    @property
    def pause(self) -> float:
        """Seconds until the next round."""
        return float(max(self._every, min(_LONGEST, self._every * 2**self.failures if self.failures else 0)))

    def report(self) -> dict[str, Any]:
        """For the record of workers: how often it failed in a row, since when, and how."""
        since = self.since.isoformat() if self.since else None
        return {"failures": self.failures, "said": self.said, "since": since}

    def close(self) -> None:
        self._thread.shutdown(wait=False, cancel_futures=True)
