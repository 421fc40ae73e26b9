"""Live progress: one LISTEN connection, fanned out to any number of server-sent event streams."""

from __future__ import annotations

import asyncio
import contextlib
import json
import secrets
import time
from collections import OrderedDict
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
#: Those whose end somebody waits for.
_LASTING = ("run", "job")
_MOST_CHANGED = 5_000
#: What was told is remembered for so long, in seconds, and of so many nouns.
_REMEMBERED_FOR, _REMEMBERED = 600.0, 5_000
#: Whether a reader may still read is asked so often, in seconds.
_ASK_EVERY = 5.0
#: So many read at a time.
MOST_READERS = 200


class _Stream:
    """One reader: who it is, and what waits to be sent, by what it is of. Of each noun only the newest waits:
    a slow reader misses steps, and never the state in which something ended."""

    def __init__(self, actor: Actor) -> None:
        self.actor = actor
        self._waiting: dict[tuple[str, int], ServerSentEvent] = {}
        self._any = asyncio.Event()

    def put(self, of: tuple[str, int], event: ServerSentEvent) -> None:
        self._waiting.pop(of, None)
        if len(self._waiting) >= _BACKLOG:
            # What became of single files is a step; runs and jobs are few.
            oldest = next((one for one in self._waiting if one[0] not in _LASTING), next(iter(self._waiting)))
            del self._waiting[oldest]
        self._waiting[of] = event
        self._any.set()

    async def next(self) -> ServerSentEvent:
        await self._any.wait()
        event = self._waiting.pop(next(iter(self._waiting)))
        if not self._waiting:
            self._any.clear()
        return event


class _Memory:
    """Of what was told in the latest minutes, for who was cut off: each noun with the number of its newest
    event. What it was is looked up when it is told again."""

    def __init__(self) -> None:
        self._start = secrets.token_hex(4)  # ids of another start of the service are not ours
        self._number = 0
        self._told: OrderedDict[tuple[str, int], tuple[int, float]] = OrderedDict()
        self._forgotten = 0  # the newest number that is remembered no more

    def add(self, of: tuple[str, int]) -> str:
        """The id of an event."""
        now = time.monotonic()
        self._number += 1
        self._told.pop(of, None)
        self._told[of] = self._number, now
        while len(self._told) > _REMEMBERED or next(iter(self._told.values()))[1] < now - _REMEMBERED_FOR:
            _, (self._forgotten, _) = self._told.popitem(last=False)
        return self.latest

    @property
    def latest(self) -> str:
        return f"{self._start}-{self._number}"

    def since(self, event_id: str) -> list[tuple[str, int]] | None:
        """What was told of after that event; None where that is not known any more, or too much."""
        start, _, number = event_id.rpartition("-")
        if start != self._start or not number.isdecimal() or not number.isascii() or len(number) > 18:
            return None
        if not self._forgotten <= int(number) <= self._number:
            return None
        since = [of for of, (count, _) in self._told.items() if count > int(number)]
        return since if len(since) <= _BACKLOG else None


class Hub:
    """Hears what the database tells and passes it on as events ``run``, ``job``, ``item``, and
    ``description`` (of one picture) and ``descriptions`` (of many in a library). ``served``
    hears of files whose copies changed, by library and path; of None when it may have missed some."""

    def __init__(self, database: Database, served: Callable[[tuple[int, str] | None], None]) -> None:
        self._database, self._served = database, served
        self._streams: set[_Stream] = set()
        self._memory = _Memory()
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
        heard_before = False
        while True:
            try:
                connection = await PatientConnection.connect(self._database.url, autocommit=True)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self._served(None)  # what was told meanwhile was not heard
                    if heard_before:
                        self._forget()
                    heard_before = True
                    async for notice in connection.notifies():
                        self._heard(notice.payload)
            except psycopg.Error as error:
                log.warning("listening was cut off; trying again", reason=str(error).splitlines()[:1])
                await asyncio.sleep(1.0)

    def _forget(self) -> None:
        """What was told while nobody listened is not known: every reader looks for themselves."""
        self._memory = _Memory()
        for stream in self._streams:
            stream.put(("missed", 0), ServerSentEvent("{}", event="missed", id=self._memory.latest))

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
        self._changed |= {one for one in changed if one[0] in _LASTING or len(self._changed) < _MOST_CHANGED}
        self._any.set()

    async def _tell(self) -> None:
        while True:
            await self._any.wait()
            await asyncio.sleep(_GATHER)
            self._any.clear()
            changed, self._changed = self._changed, set()
            ids = {of: self._memory.add(of) for of in sorted(changed)}
            if not self._streams:
                continue
            for of, library_id, view in await asyncio.to_thread(self._views, list(ids)):
                event = ServerSentEvent(json.dumps(view), event=of[0], id=ids[of])
                for stream in self._streams:
                    if stream.actor.may(library_id, Ability.LOOK):
                        stream.put(of, event)

    def _views(self, changed: list[tuple[str, int]]) -> list[tuple[tuple[str, int], int, dict[str, Any]]]:
        """Each with the number of its library. One that cannot be made ends nobody's stream."""
        views = []
        for noun, number in changed:
            try:
                view = self._view(noun, number)
            except SQLAlchemyError:
                log.warning("events were not sent: the database does not answer", number=len(changed))
                break
            except Exception:
                log.exception("an event was not sent", noun=noun, number=number)
                continue
            if view is not None:
                views.append(((noun, number), *view))
        return views

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

    @property
    def readers(self) -> int:
        return len(self._streams)

    async def stream(
        self, actor: Actor, still: Callable[[], Actor | None], after: str | None = None
    ) -> AsyncIterator[ServerSentEvent]:
        """Events for one reader, of what they may see: from now on, or ``after`` the id of the last that they
        got. Where that is not known any more, an event ``missed`` tells them to look for themselves.
        ``still`` says who they are by now; the stream ends when that is nobody."""
        reader = _Stream(actor)
        self._streams.add(reader)
        try:
            missed, latest = self._memory.since(after) if after is not None else [], self._memory.latest
            if after is None:
                yield ServerSentEvent(id=latest)
            elif missed is None:
                yield ServerSentEvent("{}", event="missed", id=latest)
            for (noun, _), library_id, view in await asyncio.to_thread(self._views, missed or []):
                if actor.may(library_id, Ability.LOOK):
                    yield ServerSentEvent(json.dumps(view), event=noun, id=latest)
            loop = asyncio.get_running_loop()
            asked = loop.time()
            while True:
                message = None
                with contextlib.suppress(TimeoutError):
                    message = await asyncio.wait_for(reader.next(), _ASK_EVERY)
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
