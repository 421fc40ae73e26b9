"""What the running service holds: made once, and found by every request through :func:`service_of`."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Self, cast

import anyio
import anyio.to_thread
from starlette.requests import HTTPConnection

from plumcrate.delivery.counting import SentCounter
from plumcrate.delivery.finding import Finder, Found
from plumcrate.delivery.serving import PictureServer
from plumcrate.imaging.recipe import Limits
from plumcrate.intake.remaking import Remaking
from plumcrate.keeping.sealing import Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.people.attempts import Attempts
from plumcrate.previews.placeholders import Placeholders
from plumcrate.previews.previews import Previews
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database
from plumcrate.renditions.cuts import Cutter
from plumcrate.renditions.touch_ups import Toucher
from plumcrate.renditions.trial import Trier
from plumcrate.sandbox.children import Sandbox
from plumcrate.sandbox.pace import Urgency
from plumcrate.sandbox.rewriting import Faults, PageRewriter
from plumcrate.settings import Settings

from .events import Hub
from .metrics import Metrics

#: No request of a person takes so long, in seconds; what does, is ended by the database.
_SECONDS = 30


@dataclass(frozen=True, slots=True)
class Service:
    """``monitor`` is a database with a pool of its own, so that a monitor waits for nobody. The limiters
    bound threads that wait for a child, for the disk, or for a monitor."""

    settings: Settings
    database: Database
    monitor: Database
    hub: Hub
    state_folder: StateFolder
    queue: Queue
    seal: Seal
    attempts: Attempts
    page_faults: Faults
    sandbox: Sandbox
    page_sandbox: Sandbox
    upload_trial_sandbox: Sandbox
    page_rewriter: PageRewriter
    previews: Previews
    placeholders: Placeholders
    cutter: Cutter
    toucher: Toucher
    trier: Trier
    counter: SentCounter
    remaking: Remaking
    metrics: Metrics
    pictures: PictureServer
    page_threads: anyio.CapacityLimiter
    upload_threads: anyio.CapacityLimiter
    trial_threads: anyio.CapacityLimiter
    upload_trial_threads: anyio.CapacityLimiter
    health_threads: anyio.CapacityLimiter

    @classmethod
    def of(cls, settings: Settings) -> Self:
        database = Database(settings.database_url, pool_size=20, seconds=_SECONDS)
        finder = Finder(database)
        state_folder = StateFolder(database, settings.state_dir)
        children = partial(
            Sandbox, 2, settings.child_memory_mb, settings.seconds_per_megapixel, urgency=Urgency.PERSON
        )
        sandbox = children(limits=Limits(settings.most_pixels))
        # Pages have children of their own: a long one holds up no preview. So has what is only tried whole.
        page_sandbox = children()
        upload_trial_sandbox = Sandbox(
            1,
            settings.child_memory_mb,
            settings.seconds_per_megapixel,
            urgency=Urgency.BULK,
            limits=Limits(settings.most_pixels),
        )
        previews = Previews(
            database,
            state_folder,
            sandbox,
            most_bytes=settings.most_bytes,
            room=settings.previews_mb * 1_000_000,
            threads=2,
        )
        remaking = Remaking(database, state_folder)
        counter = SentCounter(database)
        monitor = Database(settings.database_url, pool_size=2, seconds=5)
        return cls(
            settings=settings,
            database=database,
            monitor=monitor,
            hub=Hub(database, finder.forget),
            state_folder=state_folder,
            queue=Queue(settings.database_url),
            seal=Seal(settings.state_dir),
            attempts=Attempts(),
            page_faults=Faults(),
            sandbox=sandbox,
            page_sandbox=page_sandbox,
            upload_trial_sandbox=upload_trial_sandbox,
            page_rewriter=PageRewriter(page_sandbox),
            previews=previews,
            placeholders=Placeholders(previews),
            cutter=Cutter(database, state_folder, sandbox),
            toucher=Toucher(database, state_folder, sandbox),
            trier=Trier(database, state_folder, sandbox),
            counter=counter,
            remaking=remaking,
            metrics=Metrics(monitor, pool=database),
            pictures=PictureServer(finder, partial(_lacking, remaking), counter),
            page_threads=anyio.CapacityLimiter(8),
            upload_threads=anyio.CapacityLimiter(2),
            # One of the two children stays free for previews.
            trial_threads=anyio.CapacityLimiter(1),
            upload_trial_threads=anyio.CapacityLimiter(1),
            health_threads=anyio.CapacityLimiter(2),
        )

    def start(self) -> None:
        self.hub.start()
        self.counter.start()
        if self.settings.metrics_address is not None:
            self.metrics.serve(self.settings.metrics_address)

    async def close(self) -> None:
        await self.hub.stop()
        self.metrics.close()
        await anyio.to_thread.run_sync(self.counter.close)
        for each in (
            self.remaking,
            self.previews,
            self.page_sandbox,
            self.upload_trial_sandbox,
            self.sandbox,
            self.database,
            self.monitor,
        ):
            each.close()


def service_of(request: HTTPConnection) -> Service:
    """The service that answers a request."""
    return cast(Service, request.app.state.service)


def _lacking(remaking: Remaking, found: Found) -> None:
    """A picture that was asked for, whose copies or whose record are not as they should be."""
    own, known = found.forms[0], found.known
    remaking.note(found.library.id, own.path, None if found.changed or known is None else known.file_id)
