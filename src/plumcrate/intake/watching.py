"""Watching libraries' folders: what the system tells about changes becomes arrivals.

One worker watches a library, under a lock. Watching begins with a survey, which finds what changed
while nobody watched.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Callable
from pathlib import Path

import structlog
from sqlalchemy import select
from watchfiles import Change, awatch

from plumcrate.contract.jobs import JobKind
from plumcrate.jobs.long_work import start_unless_open
from plumcrate.keeping.keeper import Keeper
from plumcrate.queue.locks import WATCH_LOCK
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database, HeldLocks, lost_connection
from plumcrate.records.tables import Library
from plumcrate.runs.runs import automation_of
from plumcrate.storage.errors import StorageError

from .arrivals import note_arrivals
from .headers import is_picture

log = structlog.get_logger()


class Watcher:
    """Keeps one watch for each library that wants it and whose folder is there."""

    def __init__(self, database: Database, queue: Queue, keeper_of: Callable[[Library], Keeper]) -> None:
        self._database, self._queue, self._keeper_of = database, queue, keeper_of
        self._tasks: dict[int, asyncio.Task[None]] = {}
        self._locks = HeldLocks(database.url)

    async def tend(self) -> None:
        """Starts and ends watches as the libraries' settings say."""
        wanted = await asyncio.to_thread(self._wanted)
        for library_id, task in list(self._tasks.items()):
            if library_id not in wanted or task.done():
                task.cancel()
                await asyncio.gather(task, return_exceptions=True)
                del self._tasks[library_id]
        for library_id, library in wanted.items():
            if library_id not in self._tasks:
                self._tasks[library_id] = asyncio.create_task(self._watch(library))

    async def close(self) -> None:
        for task in self._tasks.values():
            task.cancel()
        await asyncio.gather(*self._tasks.values(), return_exceptions=True)
        self._tasks.clear()
        self._locks.close()

    def _wanted(self) -> dict[int, Library]:
        with self._database.begin() as session:
            rows = list(session.scalars(select(Library)))
        return {row.id: row for row in rows if automation_of(row).watch and self._is_there(row)}

    def _is_there(self, library: Library) -> bool:
        try:
            with self._keeper_of(library).store.visit():
                return True
        except StorageError:
            return False

    async def _watch(self, library: Library) -> None:
        async with self._lock(library.id) as free:
            if not free:
                await asyncio.sleep(5.0)  # another worker watches it
                return
            root = Path(library.root)

            def ours(change: Change, path: str) -> bool:
                inside = Path(path).relative_to(root).as_posix()
                return is_picture(inside) or ("." not in Path(path).name)

            try:
                changes = awatch(
                    root, watch_filter=ours, step=100, debounce=400, rust_timeout=5000, yield_on_timeout=True
                )
                coming = asyncio.ensure_future(anext(changes))
                await asyncio.sleep(0.5)  # it watches by now, so nothing falls between it and the survey
                await asyncio.to_thread(self._look_once, library.id)
                log.info("watching", library=library.slug)
                while True:
                    seen = await coming
                    paths = [Path(path).relative_to(root).as_posix() for _, path in seen]
                    if paths:
                        await asyncio.to_thread(self._tell, library.id, paths)
                    elif not await asyncio.to_thread(self._is_there, library) or not self._locks.hold():
                        return  # another folder may stand there when it is back: it is watched anew
                    coming = asyncio.ensure_future(anext(changes))
            except StopAsyncIteration:
                return
            except Exception as error:
                if lost_connection(error):
                    await asyncio.sleep(2.0)
                    return
                log.warning("a folder cannot be watched", library=library.slug, reason=str(error)[:300])
                await asyncio.sleep(30.0)

    @contextlib.asynccontextmanager
    async def _lock(self, library_id: int) -> AsyncIterator[bool]:
        """All watches of a worker hold their locks on one connection, which is none of the pool's."""
        free = await asyncio.to_thread(self._locks.take, WATCH_LOCK, library_id)
        try:
            yield free
        finally:
            if free:
                await asyncio.to_thread(self._locks.give_back, WATCH_LOCK, library_id)

    def _look_once(self, library_id: int) -> None:
        with self._database.begin() as session:
            library = session.get(Library, library_id)
            if library is not None:
                start_unless_open(session, self._queue, library, JobKind.SURVEY)

    def _tell(self, library_id: int, paths: list[str]) -> None:
        with self._database.begin() as session:
            library = session.get(Library, library_id)
            if library is not None:
                note_arrivals(session, library, paths)
