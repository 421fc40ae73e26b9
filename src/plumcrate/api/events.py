"""Live progress: one LISTEN connection, fanned out to any number of server-sent event streams."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator, Callable
from typing import Any

import psycopg
import structlog
from sqlalchemy.exc import SQLAlchemyError
from sse_starlette import ServerSentEvent

from plumcrate.contract.people import Ability
from plumcrate.people.actor import Actor
from plumcrate.records.database import CHANNEL, Database
from plumcrate.records.listening import PatientConnection
from plumcrate.records.queries.jobs import job_view
from plumcrate.records.queries.runs import item_view, run_view
from plumcrate.records.tables import Item, Job, Library, Picture, Run

log = structlog.get_logger()

#: Progress of one run or job is sent at most so often, in seconds.
_GATHER = 0.25
_BACKLOG = 500
#: What the database tells of, each by a number: the record's own, and of ``descriptions`` the library's.
_NOUNS = ("run", "job", "item", "description", "descriptions")
_MOST_CHANGED = 5_000
#: Whether a reader may still read is asked so often, in seconds.
_ASK_EVERY = 5.0
#: So many read at a time.
MOST_READERS = 200


class _Stream:
    """One reader: who it is, and what waits to be sent."""

    def __init__(self, actor: Actor) -> None:
        self.actor = actor
        self.queue: asyncio.Queue[ServerSentEvent] = asyncio.Queue(_BACKLOG)


class Hub:
    """Hears what the database tells and passes it on as events ``run``, ``job``, ``item``, and
    ``description`` (of one picture) and ``descriptions`` (of many in a library). ``served``
    hears of files whose copies changed, by library and path; of None when it may have missed some."""

    def __init__(self, database: Database, served: Callable[[tuple[int, str] | None], None]) -> None:
        self._database, self._served = database, served
        self._streams: set[_Stream] = set()
        self._changed: set[tuple[str, int]] = set()
        self._any = asyncio.Event()
        self._tasks: list[asyncio.Task[None]] = []

    def start(self) -> None:
        self._tasks = [asyncio.create_task(self._listen()), asyncio.create_task(self._tell())]

    async def stop(self) -> None:
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    async def _listen(self) -> None:
        while True:
            try:
                connection = await PatientConnection.connect(self._database.url, autocommit=True)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self._served(None)  # what was told meanwhile was not heard
                    async for notice in connection.notifies():
                        self._heard(notice.payload)
            except psycopg.Error as error:
                log.warning("listening was cut off; trying again", reason=str(error).splitlines()[:1])
                await asyncio.sleep(1.0)

    def _heard(self, payload: str) -> None:
        try:
            told = json.loads(payload)
            if "served" in told:
                self._served((int(told["library"]), str(told["served"])))
                return
            changed = {(noun, int(told[noun])) for noun in _NOUNS if noun in told}
        except (ValueError, TypeError, KeyError):
            log.warning("a notification that makes no sense", payload=payload[:200])
            return
        if len(self._changed) < _MOST_CHANGED:
            self._changed |= changed
        self._any.set()

    async def _tell(self) -> None:
        while True:
            await self._any.wait()
            await asyncio.sleep(_GATHER)
            self._any.clear()
            changed, self._changed = self._changed, set()
            if not self._streams or not changed:
                continue
            try:
                views = await asyncio.to_thread(self._views, sorted(changed))
            except SQLAlchemyError:
                log.warning("events were not sent: the database does not answer", number=len(changed))
                continue
            except Exception:  # one event that cannot be made ends nobody's stream
                log.exception("events were not sent", number=len(changed))
                continue
            for noun, library_id, view in views:
                self._send(noun, library_id, view)

    def _views(self, changed: list[tuple[str, int]]) -> list[tuple[str, int, dict[str, Any]]]:
        """Each with the number of its library."""
        views = ((noun, self._view(noun, number)) for noun, number in changed)
        return [(noun, *view) for noun, view in views if view is not None]

    def _view(self, noun: str, number: int) -> tuple[int, dict[str, Any]] | None:
        with self._database.begin() as session:
            if noun == "item":
                item = session.get(Item, number)
                run = session.get(Run, item.run_id) if item else None
                if item is None or run is None:
                    return None
                return run.library_id, item_view(item).model_dump(mode="json", exclude={"outputs"})
            if noun == "description":
                picture = session.get(Picture, number)
                return (picture.library_id, {"picture_id": number}) if picture else None
            if noun == "descriptions":
                library = session.get(Library, number)
                return (number, {"library": library.slug}) if library else None
            if noun == "run":
                run = session.get(Run, number)
                return (run.library_id, run_view(session, run).model_dump(mode="json")) if run else None
            job = session.get(Job, number)
            if job is None:
                return None
            slug = session.get_one(Library, job.library_id).slug
            return job.library_id, job_view(session, job, slug).model_dump(mode="json")

    def _send(self, event: str, library_id: int, data: dict[str, Any]) -> None:
        message = ServerSentEvent(json.dumps(data), event=event)
        for stream in self._streams:
            if not stream.actor.may(library_id, Ability.LOOK):
                continue
            if stream.queue.full():  # a slow reader misses steps, and never the end state
                stream.queue.get_nowait()
            stream.queue.put_nowait(message)

    @property
    def readers(self) -> int:
        return len(self._streams)

    async def stream(self, actor: Actor, still: Callable[[], Actor | None]) -> AsyncIterator[ServerSentEvent]:
        """Events from now on, for one reader, of what they may see. ``still`` says who they are by now; the
        stream ends when that is nobody."""
        reader = _Stream(actor)
        self._streams.add(reader)
        try:
            loop = asyncio.get_running_loop()
            asked = loop.time()
            while True:
                message = None
                with contextlib.suppress(TimeoutError):
                    message = await asyncio.wait_for(reader.queue.get(), _ASK_EVERY)
                if loop.time() - asked > _ASK_EVERY:
                    asked = loop.time()
                    now = await asyncio.to_thread(still)
                    if now is None:
                        return
                    reader.actor = now
                if message is not None:
                    yield message
        finally:
            self._streams.discard(reader)
