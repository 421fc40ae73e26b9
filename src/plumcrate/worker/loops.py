"""What a worker does again and again: each thing in a thread of its own, supervised, with a back-off.

A loop that has nothing to do waits to be told: the database notifies whenever something changed. Now and then
it looks all the same, since a notice can be missed and a time can come."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from typing import Any

import psycopg
import structlog

from plumcrate.records.database import CHANNEL
from plumcrate.records.listening import PatientConnection

log = structlog.get_logger()

#: After failures in a row the next round waits for twice as long, up to so many seconds.
_LONGEST = 60.0
#: Seconds until it is looked again whether the database answers.
_ANSWERS = 1.0


class Loop:
    """One thing, every so many seconds. A fault of ours in one round does not end it.

    ``is_away`` tells a database that does not answer from faults: it is tried again each second, and no fault
    is counted. ``idle``: seconds until the next round after one in which ``work`` found nothing to do (it
    returns False), ``resting``: after one in which it found something; unless the loop is woken."""

    def __init__(
        self,
        name: str,
        work: Callable[[], bool | None],
        every: float,
        is_away: Callable[[BaseException], bool],
        idle: float | None = None,
        resting: float | None = None,
    ) -> None:
        self.name, self._work, self._every, self._is_away = name, work, every, is_away
        self._idle, self._resting, self._busy = idle, resting or every, True
        self._woken = asyncio.Event()
        self._thread = ThreadPoolExecutor(1, thread_name_prefix=name)
        self._away = False
        self.failures = 0
        self.said: str | None = None
        self.since: datetime | None = None

    async def run(self) -> None:
        """Until cancelled."""
        while True:
            self._woken.clear()
            began = time.monotonic()
            await self.turn()
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(self.pause):
                    if self.pause > self._every:
                        await self._woken.wait()
                        # However often it is told, no sooner than it may.
                        await asyncio.sleep(began + self._every - time.monotonic())
                    else:
                        await asyncio.sleep(self.pause)

    async def turn(self) -> None:
        """One round."""
        try:
            found = await asyncio.get_running_loop().run_in_executor(self._thread, self._work)
            self._busy = found is not False
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
        if self._idle is not None and not self._busy and not self.failures:
            return self._idle
        if self.failures:
            return float(max(self._every, min(_LONGEST, self._every * 2**self.failures)))
        return self._resting

    def wake(self) -> None:
        """There may be something to do: the next round comes as soon as it may. From the event loop's
        thread."""
        self._woken.set()

    def report(self) -> dict[str, Any]:
        """For the record of workers: how often it failed in a row, since when, and how."""
        since = self.since.isoformat() if self.since else None
        return {"failures": self.failures, "said": self.said, "since": since}

    def close(self) -> None:
        self._thread.shutdown(wait=False, cancel_futures=True)


async def listen(url: str, loops: Iterable[Loop]) -> None:
    """Wakes loops whenever the database notifies, and when it is back; until cancelled."""
    while True:
        with contextlib.suppress(psycopg.Error):
            async with await PatientConnection.connect(url, autocommit=True) as connection:
                await connection.execute(f"LISTEN {CHANNEL}")
                for loop in loops:  # what was told meanwhile was not heard
                    loop.wake()
                async for _ in connection.notifies():
                    for loop in loops:
                        loop.wake()
        await asyncio.sleep(_ANSWERS)
