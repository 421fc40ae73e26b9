"""The worker process: takes jobs from the queue, feeds the runs, recovers what dead workers left."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import time

import procrastinate
import psycopg
import structlog
from sqlalchemy.exc import OperationalError

from plumcrate.records.database import Database
from plumcrate.settings import Settings

from .engine import Engine
from .queue import RUN_SURVEY, TREAT_PICTURE, Queue
from .runs import feed
from .sandbox import Sandbox

log = structlog.get_logger()

_FEED_EVERY = 0.4
_RESCUE_EVERY = 3.0
_HEARTBEAT = 1.0
#: A worker that has not been heard from for so long is dead, and its jobs are taken over.
SILENT_AFTER = 5.0
_FEEDER_LOCK = (727_012, 1)
_DATABASE_ERRORS = (OperationalError, psycopg.OperationalError, procrastinate.exceptions.ConnectorException)


class Worker:
    """One worker process's work, until :meth:`stop`."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.database = Database(settings.database_url, pool_size=2 * settings.children + 4)
        self.sandbox = Sandbox(settings.children, settings.child_memory_mb, settings.seconds_per_megapixel)
        self.engine = Engine(settings, self.database, self.sandbox)
        self.queue = Queue(settings.database_url)
        self._stopping = asyncio.Event()

    async def run(self) -> None:
        """Works until told to stop; a lost database is waited for."""
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, self.stop)
        while not self._stopping.is_set():
            try:
                await asyncio.to_thread(self.engine.recover_all)
                await self._work()
            except _DATABASE_ERRORS as error:
                log.warning("the database does not answer; trying again", reason=str(error).splitlines()[0])
                await self._sleep(2.0)
        self.sandbox.close()
        self.database.close()

    def stop(self) -> None:
        """Ends after the steps in hand; pictures that are being encoded go back in line."""
        self.engine.stopping = True
        self._stopping.set()

    async def _sleep(self, seconds: float) -> None:
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self._stopping.wait(), seconds)

    async def _work(self) -> None:
        connector = procrastinate.PsycopgConnector(conninfo=self.settings.database_url)
        app = procrastinate.App(connector=connector)
        app.task(name=TREAT_PICTURE)(self.engine.treat_picture)
        app.task(name=RUN_SURVEY)(self.engine.run_survey)
        async with app.open_async():
            worker = asyncio.create_task(
                app.run_worker_async(
                    concurrency=self.settings.children,
                    fetch_job_polling_interval=0.5,
                    update_heartbeat_interval=_HEARTBEAT,
                    stalled_worker_timeout=SILENT_AFTER,
                    delete_jobs="always",
                    install_signal_handlers=False,
                    shutdown_graceful_timeout=20,
                )
            )
            feeder = asyncio.create_task(self._feed(app))
            stopper = asyncio.create_task(self._stopping.wait())
            done, pending = await asyncio.wait({worker, feeder, stopper}, return_when=asyncio.FIRST_COMPLETED)
            if stopper in done:
                await asyncio.to_thread(self.sandbox.close)
            for task in pending:
                task.cancel()
            outcomes = await asyncio.gather(worker, feeder, stopper, return_exceptions=True)
        for outcome in outcomes:
            if isinstance(outcome, Exception):
                raise outcome

    async def _feed(self, app: procrastinate.App) -> None:
        rescued = 0.0
        while True:
            await asyncio.to_thread(self._feed_once)
            if time.monotonic() - rescued > _RESCUE_EVERY:
                rescued = time.monotonic()
                for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=SILENT_AFTER):
                    log.info("taking over a dead worker's job", job=job.id)
                    await app.job_manager.retry_job(job)
            await asyncio.sleep(_FEED_EVERY)

    def _feed_once(self) -> None:
        with self.database.advisory_lock(*_FEEDER_LOCK) as free:
            if free:
                with self.database.begin() as session:
                    feed(session, self.queue, at_a_time=4 * self.settings.children)
