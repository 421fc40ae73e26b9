"""The two clients: what they have beside the methods of the list, and how they send."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Iterator
from types import TracebackType
from typing import Any, BinaryIO, Self, TypeVar

import httpx
from httpx_sse import ServerSentEvent, aconnect_sse, connect_sse
from pydantic import ValidationError

from plumcrate.contract.automation import NewFiles, Uploaded
from plumcrate.contract.common import Problem
from plumcrate.contract.jobs import JOB_ENDS, Job
from plumcrate.contract.pictures import Picture
from plumcrate.contract.runs import Run, RunState

from . import calls, uploads
from .calls import Call
from .errors import ClientError, ProblemError, UnreachableError, WrongAnswerError
from .methods import Methods
from .patience import Patience, once
from .uploads import Progress

T = TypeVar("T")

_ENDED = (RunState.FINISHED, RunState.STOPPED)
_PAUSE = 0.5
#: A stream that says nothing for so long is begun anew, and what is followed is looked at again.
_QUIET = httpx.Timeout(30.0, read=10.0)
_PAGE = 500
#: So many seconds a request is sent again, where that does no harm; and what is followed is looked for, while
#: the service or a server in front of it starts anew.
_PATIENCE, _FOLLOWING = 3.0, 300.0


def _options(url: str, key: str, timeout: float) -> dict[str, Any]:
    headers = {"Authorization": f"Bearer {key}"}
    return {"base_url": url.rstrip("/") + "/api/v1", "headers": headers, "timeout": timeout}


def _request(call: Call[Any]) -> dict[str, Any]:
    body = call.body.model_dump(mode="json", exclude_unset=True) if call.body is not None else None
    request: dict[str, Any] = {"method": call.method, "url": call.path, "params": call.params}
    if call.headers is not None:
        request["headers"] = dict(call.headers)
    if call.seconds is not None:
        request["timeout"] = call.seconds
    return request | ({"content": call.content} if call.content is not None else {"json": body})


def _read(call: Call[T], response: httpx.Response) -> T:
    _check(response)
    if call.answer is None:
        return response.content  # type: ignore[return-value]
    try:
        # A newer service may say more than is known here: that is passed over.
        return call.answer.validate_python(response.json() if response.content else None, extra="ignore")
    except ValueError as error:
        kind = response.headers.get("content-type", "no type")
        raise WrongAnswerError(
            f"{response.url} answered with {kind} that cannot be read: is Plum Crate at this address, and of "
            "a version that this program knows?"
        ) from error


def _check(response: httpx.Response) -> None:
    if response.is_success:
        return
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:
        title = f"The service answered {response.status_code} {response.reason_phrase}"
        problem = Problem(type="about:blank", title=title, status=response.status_code)
    wait = response.headers.get("retry-after", "")
    raise ProblemError(problem, float(wait) if wait.isdecimal() and len(wait) < 6 else None)


def _unreachable(url: httpx.URL, error: httpx.TransportError) -> UnreachableError:
    return UnreachableError(f"the service does not answer at {url}: {error or type(error).__name__}")


def _told(event: ServerSentEvent, noun: str, number: int) -> dict[str, Any] | None:
    """What an event says of the noun that is followed."""
    if event.event != noun or not event.data:
        return None
    data: dict[str, Any] = event.json()
    return data if data.get("id") == number else None


class Client(Methods):
    """Talks to a service at ``url`` with a key. Raises the errors of :mod:`plumcrate.client.errors`.

    Also a context manager that closes the connection at the end. ``timeout``: seconds for each answer;
    ``patience``: so many seconds a request that did not arrive, or that may be repeated, is sent again.
    ``transport`` stands in for the network.
    """

    def __init__(
        self,
        url: str,
        key: str,
        *,
        timeout: float = 30.0,
        patience: float = _PATIENCE,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self._patience = patience
        self._http = httpx.Client(**_options(url, key, timeout), transport=transport)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def send(self, call: Call[T], *, patience: float | None = None) -> T:
        """Sends a call and reads its answer. ``patience``: instead of the client's."""
        patient, call = Patience(self._patience if patience is None else patience), once(call)
        while True:
            try:
                return self._sent(call)
            except ClientError as error:
                pause = patient.pause(error)
            time.sleep(pause)

    def _sent(self, call: Call[T]) -> T:
        try:
            return _read(call, self._http.request(**_request(call)))
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error

    def all_pictures(self, slug: str, **filters: Any) -> Iterator[Picture]:
        """Every picture that matches, page by page."""
        page = self.pictures(slug, limit=_PAGE, **filters)
        yield from page.rows
        while page.cursor is not None:
            page = self.pictures(slug, limit=_PAGE, after=page.cursor, **filters)
            yield from page.rows

    def upload_file(
        self,
        slug: str,
        path: str,
        file: BinaryIO,
        *,
        treat: NewFiles = NewFiles.AT_ONCE,
        wait: float = 20.0,
        told: Progress | None = None,
    ) -> Uploaded:
        """Puts a new picture into a library piece by piece: what a cut interrupts is gone on with, through
        five minutes without an answer. Waits up to ``wait`` seconds for its light form."""
        upload = self.send(uploads.begin(slug, path, file, treat), patience=_FOLLOWING)
        patient = Patience(_FOLLOWING)
        while upload.uploaded is None:
            try:
                self._sent(uploads.piece(slug, upload.id, file, upload.offset))
            except ClientError as error:
                time.sleep(patient.pause_of_piece(error))
            now = self.send(uploads.progress(slug, upload.id), patience=_FOLLOWING)
            if now.offset > upload.offset:
                patient = Patience(_FOLLOWING)
            upload = now
            if told is not None:
                told(upload.offset, upload.length)
        ends = time.monotonic() + wait
        while treat is NewFiles.AT_ONCE and upload.uploaded.state == "waiting" and time.monotonic() < ends:
            time.sleep(_PAUSE)
            upload = self.send(uploads.progress(slug, upload.id), patience=_FOLLOWING)
            if upload.uploaded is None:
                break
        if upload.uploaded is None:
            raise WrongAnswerError(f"{path} was taken in, and is not there any more")
        return upload.uploaded

    def events(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """The event stream: pairs of ``run``, ``job`` or ``item`` and its data, until closed."""
        try:
            for event in self._events(httpx.Timeout(30.0, read=60.0)):
                if event.data:
                    yield event.event, event.json()
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error

    def _events(self, timeout: httpx.Timeout) -> Iterator[ServerSentEvent]:
        with connect_sse(self._http, "GET", "/events", timeout=timeout) as source:
            if not source.response.is_success:
                source.response.read()
            _check(source.response)
            yield ServerSentEvent("open")
            yield from source.iter_sse()

    def follow_run(self, run_id: int) -> Iterator[Run]:
        """A run as it is now, then whenever it changed, until it has ended."""
        for told in self._follow("run", run_id):
            run = (
                self.send(calls.run(run_id), patience=_FOLLOWING)
                if told is None
                else Run.model_validate(told)
            )
            yield run
            if run.state in _ENDED:
                return

    def follow_job(self, job_id: int) -> Iterator[Job]:
        """A job as it is now, then whenever it changed, until it has ended."""
        for told in self._follow("job", job_id):
            job = (
                self.send(calls.job(job_id), patience=_FOLLOWING)
                if told is None
                else Job.model_validate(told)
            )
            yield job
            if job.state in JOB_ENDS:
                return

    def _follow(self, noun: str, number: int) -> Iterator[dict[str, Any] | None]:
        """What is told of a noun; None: look for yourself."""
        while True:
            try:
                for event in self._events(_QUIET):
                    told = _told(event, noun, number)
                    if told is not None or event.event == "open":
                        yield told
            except (httpx.TransportError, ProblemError):
                yield None  # cut off, quiet for long, or too many listen: looked at, and listened to again
            time.sleep(_PAUSE)

    def wait_for_run(self, run_id: int) -> Run:
        """Returns when the run has finished or was stopped."""
        *_, run = self.follow_run(run_id)
        return run

    def wait_for_job(self, job_id: int) -> Job:
        """Returns when the job has ended."""
        *_, job = self.follow_job(job_id)
        return job


class AsyncClient(Methods):
    """:class:`Client` for asyncio."""

    def __init__(
        self,
        url: str,
        key: str,
        *,
        timeout: float = 30.0,
        patience: float = _PATIENCE,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        self._url, self._patience = url, patience
        self._http = httpx.AsyncClient(**_options(url, key, timeout), transport=transport)

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._http.aclose()

    async def send(self, call: Call[T], *, patience: float | None = None) -> T:
        """Sends a call and reads its answer. ``patience``: instead of the client's."""
        patient, call = Patience(self._patience if patience is None else patience), once(call)
        while True:
            try:
                return await self._sent(call)
            except ClientError as error:
                pause = patient.pause(error)
            await asyncio.sleep(pause)

    async def _sent(self, call: Call[T]) -> T:
        try:
            return _read(call, await self._http.request(**_request(call)))
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error

    async def all_pictures(self, slug: str, **filters: Any) -> AsyncIterator[Picture]:
        """Every picture that matches, page by page."""
        page = await self.pictures(slug, limit=_PAGE, **filters)
        for picture in page.rows:
            yield picture
        while page.cursor is not None:
            page = await self.pictures(slug, limit=_PAGE, after=page.cursor, **filters)
            for picture in page.rows:
                yield picture

    async def upload_file(
        self,
        slug: str,
        path: str,
        file: BinaryIO,
        *,
        treat: NewFiles = NewFiles.AT_ONCE,
        wait: float = 20.0,
        told: Progress | None = None,
    ) -> Uploaded:
        """As :meth:`Client.upload_file`; done in a thread of its own."""
        key = self._http.headers["authorization"].removeprefix("Bearer ")
        with Client(self._url, key, patience=self._patience) as one:
            return await asyncio.to_thread(
                one.upload_file, slug, path, file, treat=treat, wait=wait, told=told
            )

    async def events(self) -> AsyncIterator[tuple[str, dict[str, Any]]]:
        """The event stream: pairs of ``run``, ``job`` or ``item`` and its data, until closed."""
        try:
            async for event in self._events(httpx.Timeout(30.0, read=60.0)):
                if event.data:
                    yield event.event, event.json()
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error

    async def _events(self, timeout: httpx.Timeout) -> AsyncIterator[ServerSentEvent]:
        async with aconnect_sse(self._http, "GET", "/events", timeout=timeout) as source:
            if not source.response.is_success:
                await source.response.aread()
            _check(source.response)
            yield ServerSentEvent("open")
            async for event in source.aiter_sse():
                yield event

    async def _follow(self, noun: str, number: int) -> AsyncIterator[dict[str, Any] | None]:
        while True:
            try:
                async for event in self._events(_QUIET):
                    told = _told(event, noun, number)
                    if told is not None or event.event == "open":
                        yield told
            except (httpx.TransportError, ProblemError):
                yield None
            await asyncio.sleep(_PAUSE)

    async def wait_for_run(self, run_id: int) -> Run:
        """Returns when the run has finished or was stopped."""
        async for told in self._follow("run", run_id):
            run = (
                await self.send(calls.run(run_id), patience=_FOLLOWING)
                if told is None
                else Run.model_validate(told)
            )
            if run.state in _ENDED:
                return run
        raise AssertionError("a stream without an end has ended")

    async def wait_for_job(self, job_id: int) -> Job:
        """Returns when the job has ended."""
        async for told in self._follow("job", job_id):
            job = (
                await self.send(calls.job(job_id), patience=_FOLLOWING)
                if told is None
                else Job.model_validate(told)
            )
            if job.state in JOB_ENDS:
                return job
        raise AssertionError("a stream without an end has ended")
