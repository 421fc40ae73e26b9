"""Live progress: one LISTEN connection, fanned out to any number of server-sent event streams."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator
from typing import Any

import psycopg
import structlog
from sqlalchemy.exc import SQLAlchemyError
from sse_starlette import ServerSentEvent

from plumcrate.records.database import CHANNEL, Database
from plumcrate.records.queries.libraries import survey_view
from plumcrate.records.queries.runs import run_view
from plumcrate.records.tables import Library, Run, Survey

log = structlog.get_logger()

#: Progress of one run or survey is sent at most so often, in seconds.
_GATHER = 0.25
_BACKLOG = 500


class Hub:
    """Hears what the database tells and passes it on as events ``run``, ``survey`` and ``item``."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._streams: set[asyncio.Queue[ServerSentEvent]] = set()
        self._changed: set[tuple[str, int]] = set()
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
                connection = await psycopg.AsyncConnection.connect(self._database.url, autocommit=True)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    async for notice in connection.notifies():
                        self._heard(json.loads(notice.payload))
            except psycopg.OperationalError:
                await asyncio.sleep(1.0)

    def _heard(self, payload: dict[str, Any]) -> None:
        if "item" in payload:
            self._send("item", payload["item"])
        for noun in ("run", "survey"):
            if noun in payload:
                self._changed.add((noun, int(payload[noun])))

    async def _tell(self) -> None:
        while True:
            await asyncio.sleep(_GATHER)
            changed, self._changed = self._changed, set()
            if not self._streams:
                continue
            for noun, number in changed:
                try:
                    view = await asyncio.to_thread(self._view, noun, number)
                except SQLAlchemyError:
                    log.warning("an event was not sent: the database does not answer", noun=noun, id=number)
                    continue
                if view is not None:
                    self._send(noun, view)

    def _view(self, noun: str, number: int) -> dict[str, Any] | None:
        with self._database.begin() as session:
            if noun == "run":
                run = session.get(Run, number)
                return run_view(session, run).model_dump(mode="json") if run else None
            survey = session.get(Survey, number)
            if survey is None:
                return None
            library = session.get_one(Library, survey.library_id)
            return survey_view(survey, library.slug).model_dump(mode="json")

    def _send(self, event: str, data: dict[str, Any]) -> None:
        message = ServerSentEvent(json.dumps(data), event=event)
        for stream in self._streams:
            with contextlib.suppress(asyncio.QueueFull):  # a slow reader misses steps, never the end state
                stream.put_nowait(message)

    async def stream(self) -> AsyncIterator[ServerSentEvent]:
        """Events from now on, for one reader."""
        queue: asyncio.Queue[ServerSentEvent] = asyncio.Queue(_BACKLOG)
        self._streams.add(queue)
        try:
            while True:
                yield await queue.get()
        finally:
            self._streams.discard(queue)
