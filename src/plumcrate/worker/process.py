"""The worker process: takes jobs from the queue, feeds the runs, takes in what arrives, recovers what
dead workers left."""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import signal
import socket
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import structlog
from sqlalchemy import select
from sqlalchemy.exc import DBAPIError

from plumcrate import __version__
from plumcrate.contract.runs import RunState
from plumcrate.delivery import purging
from plumcrate.delivery.purging import Purger
from plumcrate.imaging.recipe import Limits
from plumcrate.intake.arrivals import take_in_settled
from plumcrate.intake.watching import Watcher
from plumcrate.jobs.maintenance import Retention
from plumcrate.keeping.sealing import Seal
from plumcrate.outgoing import Guard, Outgoing
from plumcrate.queue.locks import FEEDER_LOCK, INTAKE_LOCK
from plumcrate.queue.tasks import ASKED, DEFAULT, EXPRESS, RUN_JOB, TREAT_PICTURE, Queue
from plumcrate.records.database import Database
from plumcrate.records.queries.workers import SILENT_AFTER, children_of_all
from plumcrate.records.tables import Arrival, Library, Run, WorkerRow
from plumcrate.sandbox.children import Sandbox, Sandboxes
from plumcrate.sandbox.pace import Urgency
from plumcrate.settings import Settings
from plumcrate.storage.errors import StorageError
from plumcrate.webhooks import outgoing as webhooks
from plumcrate.webhooks.outgoing import WebhookSender, notify_of_files
from plumcrate.worker.heartbeat import Heartbeat, hear_no_more

from .engine import Engine
from .feeding import feed
from .lanes import Lane, Rescue, database_is_away
from .loops import Loop, listen

log = structlog.get_logger()

_FEED_EVERY = 0.5
_RESCUE_EVERY = 5.0
_THOROUGH_EVERY = 2.0
#: Seconds until caches and webhooks are looked at again, whose pauses nobody is told of; those of all else
#: that found nothing to do are a setting.
_IDLE = 8.0
#: A sign of life, of the worker and of each lane; it counts as dead without one for :data:`SILENT_AFTER`.
_HEARTBEAT = 2.0
_WATCH_EVERY = 10.0
_RETAIN_EVERY = 60.0
_PURGE_EVERY = 0.5
_TELL_EVERY = 1.0
_RECOVER_EVERY = 10.0
_PACE_EVERY = 1.0
_POLLING = 8.0


class Worker:
    """One worker process's work, until :meth:`stop`."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.database = Database(settings.database_url, pool_size=2 * settings.children + 8)
        limits = settings.child_memory_mb, settings.seconds_per_megapixel
        pixels = Limits(settings.most_pixels)
        self.sandboxes = Sandboxes(
            bulk=Sandbox(settings.children, *limits, limits=pixels, floor=settings.bulk_floor),
            arrivals=Sandbox(1, *limits, limits=pixels, urgency=Urgency.ARRIVAL),
            person=Sandbox(settings.children, *limits, limits=pixels, urgency=Urgency.PERSON),
        )
        self.engine = Engine(settings, self.database, self.sandboxes)
        self.queue = Queue(settings.database_url)
        self.watcher = Watcher(self.database, self.queue, self.engine.keeper)
        guard = Guard(settings.pages_allowed)
        self._out = [Outgoing(guard, seconds=seconds) for seconds in (purging.SECONDS, webhooks.SECONDS)]
        self.purger = Purger(self.database, self._out[0], notify_of_files)
        self.sender = WebhookSender(self.database, Seal(settings.state_dir), self._out[1])
        self.retention = Retention(self.database, self.engine.state, settings)
        self.name = f"{socket.gethostname()}:{os.getpid()}:{secrets.token_hex(4)}"
        self.heartbeat = Heartbeat(settings.database_url)
        self._away: dict[int, str] = {}
        self._looked_away = 0.0
        self._stopping = asyncio.Event()
        tasks: dict[str, Callable[..., None]] = {
            TREAT_PICTURE: self.engine.treat_picture,
            RUN_JOB: self.engine.run_job,
        }
        # One more than the children, so that a survey does not wait for long pictures.
        self.lanes = [
            Lane(
                settings.database_url,
                queue,
                concurrency,
                tasks,
                silent_after=SILENT_AFTER,
                polling=_POLLING,
            )
            for queue, concurrency in ((DEFAULT, settings.children + 1), (ASKED, 2), (EXPRESS, 1))
        ]
        asleep = settings.idle_seconds
        self.loops = [
            Loop("feeding runs", self._feed, _FEED_EVERY, database_is_away, asleep, _THOROUGH_EVERY),
            *(
                Loop(name, work, every, database_is_away, idle)
                for name, work, every, idle in (
                    ("heartbeat", self._hear, _HEARTBEAT, None),
                    ("taking in arrivals", self._take_in, _FEED_EVERY, asleep),
                    ("recovering open changes", self.engine.recover_all, _RECOVER_EVERY, asleep),
                    ("deleting what expired", self._retain, _RETAIN_EVERY, None),
                    ("pacing bulk work", self.sandboxes.bulk.keep_pace, _PACE_EVERY, _IDLE),
                    ("purging caches", self.purger.turn, _PURGE_EVERY, min(_IDLE, asleep)),
                    ("sending webhooks", self.sender.turn, _TELL_EVERY, min(_IDLE, asleep)),
                )
            ),
        ]

    async def run(self) -> None:
        """Works until told to stop; a lost database is waited for."""
        loop = asyncio.get_running_loop()
        # Jobs have threads of their own number: one for each child, one beside, and those of the other lanes.
        loop.set_default_executor(ThreadPoolExecutor(self.settings.children + 8, thread_name_prefix="job"))
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, self.stop)
        stopper = asyncio.create_task(self._stopping.wait())
        tasks = [asyncio.create_task(self._settle_at_start())]
        await asyncio.wait({stopper, *tasks}, return_when=asyncio.FIRST_COMPLETED)
        if not stopper.done():
            # Each comes back by itself when the database was away; none ends but by a fault that is neither.
            tasks = [
                asyncio.create_task(keeping)
                for keeping in (
                    *(lane.keep() for lane in self.lanes),
                    *(each.run() for each in self.loops),
                    listen(self.settings.database_url, self.loops),
                    Rescue(self.settings.database_url, SILENT_AFTER).keep(_RESCUE_EVERY),
                    self._watch(),
                )
            ]
            await asyncio.wait({stopper, *tasks}, return_when=asyncio.FIRST_COMPLETED)
        if stopper.done():
            await asyncio.to_thread(self.sandboxes.close)
        for task in (stopper, *tasks):
            task.cancel()
        outcomes = await asyncio.gather(stopper, *tasks, return_exceptions=True)
        await self.watcher.close()
        for each in self.loops:
            each.close()
        self.sandboxes.close()
        self.purger.close()
        self.sender.close()
        for out in self._out:
            out.close()
        self.heartbeat.close()
        # A database that is away forgets the silent by itself.
        with contextlib.suppress(DBAPIError), self.database.begin() as session:
            hear_no_more(session, self.name)
        self.database.close()
        for outcome in outcomes:
            if isinstance(outcome, Exception):
                raise outcome

    def stop(self) -> None:
        """Ends after the steps in hand; pictures that are being encoded go back in line."""
        self.engine.stopping = True
        self._stopping.set()

    async def _settle_at_start(self) -> None:
        """What a dead process left open, before anything else has opened a change of its own."""
        while True:
            try:
                await asyncio.to_thread(self.engine.recover_all, at_start=True)
                return
            except Exception as error:
                if not database_is_away(error):
                    raise
                await asyncio.sleep(_HEARTBEAT)

    async def _watch(self) -> None:
        while True:
            try:
                await self.watcher.tend()
            except Exception as error:
                if not database_is_away(error):
                    log.exception("watching failed; it is tried again")
            await asyncio.sleep(_WATCH_EVERY)

    # -- what the loops do ---------------------------------------------------------------------

    def _hear(self) -> None:
        row = WorkerRow(
            id=self.name,
            host=socket.gethostname(),
            pid=os.getpid(),
            children=self.settings.children,
            version=__version__,
            most_pixels=self.settings.most_pixels,
            most_bytes=self.settings.most_bytes,
            loops={each.name: each.report() for each in self.loops},
            held_back=self.sandboxes.bulk.pace.held_back,
        )
        lanes = [number for lane in self.lanes if (number := lane.number) is not None]
        self.heartbeat.beat(row, lanes)

    def _feed(self) -> bool:
        """Whether there are runs to be fed."""
        with self.database.advisory_lock(*FEEDER_LOCK) as free:
            if not free:
                return False
            thorough = time.monotonic() - self._looked_away >= _THOROUGH_EVERY
            if thorough:
                self._away = self._libraries_away()
                self._looked_away = time.monotonic()
            with self.database.begin() as session:
                children = children_of_all(session) or self.settings.children
                return feed(session, self.queue, children, thorough=thorough, away=self._away)

    def _libraries_away(self) -> dict[int, str]:
        """Those with runs whose folder, or whose backups' folder, is not there: their runs wait."""
        with self.database.reading() as session:
            running = select(Run.library_id).where(Run.state == RunState.RUNNING)
            libraries = list(session.scalars(select(Library).where(Library.id.in_(running))))
        reasons = {library.id: self.engine.why_away(library) for library in libraries}
        return {number: reason for number, reason in reasons.items() if reason is not None}

    def _take_in(self) -> bool:
        """Whether anything has arrived that is still to be taken in."""
        with self.database.reading() as session:
            libraries = list(
                session.scalars(select(Library).where(Library.id.in_(select(Arrival.library_id))))
            )
        for library in libraries:
            with self.database.advisory_lock(INTAKE_LOCK, library.id) as free:
                if not free:
                    continue
                try:
                    taken = take_in_settled(self.database, self.engine.keeper(library), library)
                except StorageError as error:
                    log.warning("intake is waiting", library=library.slug, reason=str(error))
                    continue
                except Exception as error:
                    if database_is_away(error):
                        raise
                    log.exception("intake failed", library=library.slug)  # a library's fault is its own
                    continue
                if taken.pictures or taken.gone:
                    log.info(
                        "taken in",
                        library=library.slug,
                        pictures=len(taken.pictures),
                        gone=taken.gone,
                        runs=taken.runs,
                    )
        return bool(libraries)

    def _retain(self) -> None:
        with self.database.reading() as session:
            libraries = list(session.scalars(select(Library)))
        self.retention.tend(self.engine.keeper, libraries)
