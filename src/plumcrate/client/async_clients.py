"""The client for asyncio: the same resources, awaited."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable
from dataclasses import replace
from functools import partial
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO, Self, TypeVar

import httpx
from httpx_sse import ServerSentEvent, aconnect_sse

from plumcrate.contract.automation import NewFiles, Uploaded
from plumcrate.contract.common import Page
from plumcrate.contract.jobs import JOB_ENDS, Job
from plumcrate.contract.runs import RUN_ENDS, Run

from . import methods, wire
from .calls import Call
from .calls import jobs as job_calls
from .calls import runs as run_calls
from .clients import Client
from .errors import ClientError, ProblemError
from .patience import Patience, once
from .uploads import Progress

T = TypeVar("T")


class AsyncClient(methods.Service["AsyncClient"]):
    """:class:`~plumcrate.client.Client` for asyncio."""

    def __init__(
        self,
        url: str,
        key: str,
        *,
        timeout: float = 30.0,
        patience: float = wire.PATIENCE,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        super().__init__(self)
        self.url, self._key, self._patience = url, key, patience
        #: What stands in for the network may do so for both kinds of client.
        self._blocking = transport if isinstance(transport, httpx.BaseTransport) else None
        self._http = httpx.AsyncClient(**wire.options(url, key, timeout), transport=transport)
        self.allowance = methods.Allowance[AsyncClient](self)
        self.audit = methods.Audit[AsyncClient](self)
        self.backups = methods.Backups[AsyncClient](self)
        self.descriptions = methods.Descriptions[AsyncClient](self)
        self.invitations = methods.Invitations[AsyncClient](self)
        self.jobs = _Jobs(self)
        self.keys = methods.Keys[AsyncClient](self)
        self.libraries = methods.Libraries[AsyncClient](self)
        self.members = methods.Members[AsyncClient](self)
        self.near_duplicates = methods.NearDuplicates[AsyncClient](self)
        self.needs = methods.Needs[AsyncClient](self)
        self.pages = methods.Pages[AsyncClient](self)
        self.people = methods.People[AsyncClient](self)
        self.pictures = _Pictures(self)
        self.recipes = methods.Recipes[AsyncClient](self)
        self.reports = methods.Reports[AsyncClient](self)
        self.runs = _Runs(self)
        self.serving = methods.Serving[AsyncClient](self)
        self.site_pages = methods.SitePages[AsyncClient](self)
        self.sizes = methods.Sizes[AsyncClient](self)
        self.touches = methods.Touches[AsyncClient](self)
        self.watermarks = methods.Watermarks[AsyncClient](self)
        self.webhooks = methods.Webhooks[AsyncClient](self)
        self.weighings = methods.Weighings[AsyncClient](self)

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.aclose()

    async def aclose(self) -> None:
        await self._http.aclose()

    async def send(self, call: Call[T], *, patience: float | None = None) -> T:
        """Sends a call and reads its answer. ``patience``: instead of the client's."""
        patient, call = Patience(self._patience if patience is None else patience), once(call)
        while True:
            try:
                return await self.send_once(call)
            except ClientError as error:
                pause = patient.pause(error)
            await asyncio.sleep(pause)

    async def send_once(self, call: Call[T]) -> T:
        """As :meth:`send`, and whatever fails is not sent again."""
        try:
            return wire.read(call, await self._http.request(**wire.request(call)))
        except httpx.TransportError as error:
            raise wire.unreachable(self._http.base_url, error) from error

    async def walk(self, call: Call[Page[T]]) -> AsyncIterator[T]:
        """Every row of a list, page by page."""
        while True:
            page = await self.send(call)
            for row in page.rows:
                yield row
            if page.cursor is None:
                return
            call = replace(call, params={**(call.params or {}), "after": page.cursor})

    async def events(self) -> AsyncIterator[tuple[str, dict[str, Any]]]:
        """The event stream: pairs of ``run``, ``job`` or ``item`` and its data, until closed."""
        try:
            async for event in self._events(wire.LISTENING):
                if event.data:
                    yield event.event, event.json()
        except httpx.TransportError as error:
            raise wire.unreachable(self._http.base_url, error) from error

    async def _events(self, timeout: httpx.Timeout) -> AsyncIterator[ServerSentEvent]:
        async with aconnect_sse(self._http, "GET", "/events", timeout=timeout) as source:
            if not source.response.is_success:
                await source.response.aread()
            wire.check(source.response)
            yield ServerSentEvent("open")
            async for event in source.aiter_sse():
                yield event

    async def follow(self, noun: str, number: int) -> AsyncIterator[dict[str, Any] | None]:
        """What is told of a noun; None: look for yourself."""
        while True:
            try:
                async for event in self._events(wire.QUIET):
                    told = wire.told(event, noun, number)
                    if told is not None or event.event == "open":
                        yield told
            except (httpx.TransportError, ProblemError):
                yield None
            await asyncio.sleep(wire.PAUSE)

    def blocking(self) -> Client:
        """One that is called in a thread."""
        return Client(self.url, self._key, patience=self._patience, transport=self._blocking)


class _Runs(methods.Runs[AsyncClient]):
    async def follow(self, run_id: int) -> AsyncIterator[Run]:
        """A run as it is now, then whenever it changed, until it has ended."""
        async for told in self.client.follow("run", run_id):
            if told is None:
                run = await self.client.send(run_calls.get(run_id), patience=wire.FOLLOWING)
            else:
                run = Run.model_validate(told)
            yield run
            if run.state in RUN_ENDS:
                return

    async def wait(self, run_id: int) -> Run:
        """Returns when the run has finished or was stopped."""
        return [run async for run in self.follow(run_id)][-1]


class _Jobs(methods.Jobs[AsyncClient]):
    async def follow(self, job_id: int) -> AsyncIterator[Job]:
        """A job as it is now, then whenever it changed, until it has ended."""
        async for told in self.client.follow("job", job_id):
            if told is None:
                job = await self.client.send(job_calls.get(job_id), patience=wire.FOLLOWING)
            else:
                job = Job.model_validate(told)
            yield job
            if job.state in JOB_ENDS:
                return

    async def wait(self, job_id: int) -> Job:
        """Returns when the job has ended."""
        return [job async for job in self.follow(job_id)][-1]


class _Pictures(methods.Pictures[AsyncClient]):
    async def upload_file(
        self,
        library: str,
        path: str,
        file: BinaryIO,
        *,
        treat: NewFiles = NewFiles.AT_ONCE,
        wait: float = 20.0,
        replaces: str | None = None,
        told: Progress | None = None,
    ) -> Uploaded:
        """As the other client's, in a thread of its own."""
        with self.client.blocking() as client:
            upload = partial(client.pictures.upload_file, library, path, file)
            return await asyncio.to_thread(upload, treat=treat, wait=wait, replaces=replaces, told=told)

    async def upload_files(
        self,
        library: str,
        files: Iterable[tuple[str, Path]],
        *,
        treat: NewFiles = NewFiles.AT_ONCE,
        wait: float = 20.0,
        replaces: str | None = None,
        at_a_time: int = 4,
    ) -> AsyncIterator[tuple[str, Uploaded | ClientError | OSError]]:
        """As the other client's, in threads of their own."""
        with self.client.blocking() as client:
            found = client.pictures.upload_files(
                library, files, treat=treat, wait=wait, replaces=replaces, at_a_time=at_a_time
            )
            while (one := await asyncio.to_thread(next, found, None)) is not None:
                yield one
