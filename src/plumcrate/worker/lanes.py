"""Lanes: procrastinate's workers, each begun anew when the database was away.

When a statement fails, procrastinate's worker ends, but only when the jobs in hand have ended, which may be
minutes. A lane does not wait for that: it begins a new worker as soon as the database answers, while what was
in hand goes on in its thread. Should a picture be taken up a second time meanwhile, its lock, the journal and
the hashes of the change protocol keep the two apart, as they do two workers on two machines."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Mapping
from typing import Any

import procrastinate
import procrastinate.worker
import structlog

from plumcrate.records.database import lost_connection
from plumcrate.records.listening import PatientConnection

log = structlog.get_logger()

#: Seconds until it is tried again whether the database answers.
_PAUSE = 1.0
#: Seconds between what is not to be.
_NEVER = 1e9
#: When a lane is stopped, its jobs in hand have so many seconds.
_GRACE = 20


def database_is_away(error: BaseException) -> bool:
    """Also as procrastinate wraps it."""
    chain: BaseException | None = error
    while chain is not None:
        if lost_connection(chain):
            return True
        if isinstance(chain, procrastinate.exceptions.ConnectorException) and chain.__cause__ is None:
            return True
        chain = chain.__cause__
    return False


class _Watched(procrastinate.PsycopgConnector):
    """Tells when a statement failed; the worker that sent it is about to end."""

    def __init__(self, url: str) -> None:
        super().__init__(conninfo=url, connection_class=PatientConnection)
        self.failed = asyncio.Event()

    async def _telling(self, sent: Any) -> Any:
        try:
            return await sent
        except procrastinate.exceptions.ConnectorException:
            self.failed.set()
            raise

    async def execute_query_async(self, query: Any, **arguments: Any) -> None:
        await self._telling(super().execute_query_async(query, **arguments))

    async def execute_query_one_async(self, query: Any, **arguments: Any) -> dict[str, Any]:
        row: dict[str, Any] = await self._telling(super().execute_query_one_async(query, **arguments))
        return row

    async def execute_query_all_async(self, query: Any, **arguments: Any) -> list[dict[str, Any]]:
        rows: list[dict[str, Any]] = await self._telling(super().execute_query_all_async(query, **arguments))
        return rows


class Lane:
    """Takes jobs of one queue, ``concurrency`` at a time. ``tasks`` are what it can do, by name.

    A lane whose worker, see :attr:`number`, gave no sign of life for ``silent_after`` seconds counts as dead.
    Giving the sign is the caller's, for all its lanes together."""

    def __init__(
        self,
        url: str,
        queue: str,
        concurrency: int,
        tasks: Mapping[str, Callable[..., None]],
        *,
        silent_after: float,
        polling: float = 0.5,
    ) -> None:
        self.queue = queue
        self._url, self._tasks = url, tasks
        self._options: dict[str, Any] = {
            "queues": [queue],
            "concurrency": concurrency,
            # A job is notified of; now and then a notice is missed.
            "fetch_job_polling_interval": polling,
            "update_heartbeat_interval": _NEVER,
            "abort_job_polling_interval": _NEVER,  # jobs are ended by their runs, not in the queue
            "stalled_worker_timeout": silent_after,
            "delete_jobs": "always",
            "install_signal_handlers": False,
            "shutdown_graceful_timeout": _GRACE,
        }
        self._worker: procrastinate.worker.Worker | None = None
        self._ending: set[asyncio.Task[None]] = set()

    @property
    def number(self) -> int | None:
        """The worker's, as the queue's tables have it; None while there is none."""
        return self._worker.worker_id if self._worker is not None else None

    async def keep(self) -> None:
        """Until cancelled. Raises what is neither ours nor the database's."""
        while True:
            connector = _Watched(self._url)
            working = asyncio.create_task(self._work(connector))
            failing = asyncio.create_task(connector.failed.wait())
            try:
                await asyncio.wait({working, failing}, return_when=asyncio.FIRST_COMPLETED)
            except asyncio.CancelledError:
                failing.cancel()
                working.cancel()
                await asyncio.gather(working, failing, *self._ending, return_exceptions=True)
                raise
            failing.cancel()
            if working.done():
                error = working.exception()
                if error is not None and not database_is_away(error):
                    raise error
            else:
                self._ending.add(working)
                working.add_done_callback(self._ended)
            log.warning("the database does not answer; trying again", lane=self.queue)
            await asyncio.sleep(_PAUSE)

    def _ended(self, working: asyncio.Task[None]) -> None:
        self._ending.discard(working)
        if not working.cancelled():
            working.exception()  # it was told already

    async def _work(self, connector: _Watched) -> None:
        app = procrastinate.App(connector=connector)
        for name, task in self._tasks.items():
            app.task(name=name)(task)
        async with app.open_async():
            self._worker = procrastinate.worker.Worker(app, **self._options)
            await self._worker.run()  # type: ignore[no-untyped-call]


class Rescue:
    """Puts jobs whose worker is dead in line again."""

    def __init__(self, url: str, silent_after: float) -> None:
        self._url, self._silent_after = url, silent_after

    async def keep(self, every: float) -> None:
        """Until cancelled."""
        while True:
            with contextlib.suppress(procrastinate.exceptions.ConnectorException):
                app = procrastinate.App(connector=_Watched(self._url))
                async with app.open_async():
                    while True:
                        await self._look(app)
                        await asyncio.sleep(every)
            await asyncio.sleep(_PAUSE)

    async def _look(self, app: procrastinate.App) -> None:
        for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=self._silent_after):
            log.info("a job whose worker fell silent is put in line again", job=job.id)
            await app.job_manager.retry_job(job)
