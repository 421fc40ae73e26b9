"""The client that is called and answers."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, BinaryIO, Self, TypeVar

import httpx
from httpx_sse import ServerSentEvent, connect_sse

from plumcrate.contract.automation import NewFiles, Uploaded
from plumcrate.contract.common import Page
from plumcrate.contract.jobs import JOB_ENDS, Job
from plumcrate.contract.runs import RUN_ENDS, Run

from . import methods, uploads, wire
from .calls import Call
from .calls import jobs as job_calls
from .calls import runs as run_calls
from .errors import ClientError, ProblemError, WrongAnswerError
from .patience import Patience, once
from .uploads import Progress

if TYPE_CHECKING:
    from concurrent.futures import Future

T = TypeVar("T")


class Client(methods.Service["Client"]):
    """Talks to a service at ``url`` with a key. Raises the errors of :mod:`plumcrate.client.errors`.

    What can be asked for stands in its resources: ``client.runs.start(…)``, ``client.pictures.each(…)``.
    Also a context manager that closes the connection at the end. ``timeout``: seconds for each answer;
    ``patience``: so many seconds a request is sent again that did not arrive, or was refused for a moment;
    the service does it once. ``transport`` stands in for the network.
    """

    def __init__(
        self,
        url: str,
        key: str,
        *,
        timeout: float = 30.0,
        patience: float = wire.PATIENCE,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        super().__init__(self)
        self._patience = patience
        self._http = httpx.Client(**wire.options(url, key, timeout), transport=transport)
        self.allowance = methods.Allowance[Client](self)
        self.audit = methods.Audit[Client](self)
        self.backups = methods.Backups[Client](self)
        self.descriptions = methods.Descriptions[Client](self)
        self.invitations = methods.Invitations[Client](self)
        self.jobs = _Jobs(self)
        self.keys = methods.Keys[Client](self)
        self.libraries = methods.Libraries[Client](self)
        self.members = methods.Members[Client](self)
        self.near_duplicates = methods.NearDuplicates[Client](self)
        self.needs = methods.Needs[Client](self)
        self.pages = methods.Pages[Client](self)
        self.people = methods.People[Client](self)
        self.pictures = _Pictures(self)
        self.recipes = methods.Recipes[Client](self)
        self.reports = methods.Reports[Client](self)
        self.runs = _Runs(self)
        self.serving = methods.Serving[Client](self)
        self.site_pages = methods.SitePages[Client](self)
        self.sizes = methods.Sizes[Client](self)
        self.touches = methods.Touches[Client](self)
        self.watermarks = methods.Watermarks[Client](self)
        self.webhooks = methods.Webhooks[Client](self)
        self.weighings = methods.Weighings[Client](self)

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
                return self.send_once(call)
            except ClientError as error:
                pause = patient.pause(error)
            time.sleep(pause)

    def send_once(self, call: Call[T]) -> T:
        """As :meth:`send`, and whatever fails is not sent again."""
        try:
            return wire.read(call, self._http.request(**wire.request(call)))
        except httpx.TransportError as error:
            raise wire.unreachable(self._http.base_url, error) from error

    def walk(self, call: Call[Page[T]]) -> Iterator[T]:
        """Every row of a list, page by page."""
        while True:
            page = self.send(call)
            yield from page.rows
            if page.cursor is None:
                return
            call = replace(call, params={**(call.params or {}), "after": page.cursor})

    def events(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """The event stream: pairs of ``run``, ``job`` or ``item`` and its data, until closed."""
        try:
            for event in self._events(wire.LISTENING):
                if event.data:
                    yield event.event, event.json()
        except httpx.TransportError as error:
            raise wire.unreachable(self._http.base_url, error) from error

    def _events(self, timeout: httpx.Timeout) -> Iterator[ServerSentEvent]:
        with connect_sse(self._http, "GET", "/events", timeout=timeout) as source:
            if not source.response.is_success:
                source.response.read()
            wire.check(source.response)
            yield ServerSentEvent("open")
            yield from source.iter_sse()

    def follow(self, noun: str, number: int) -> Iterator[dict[str, Any] | None]:
        """What is told of a noun; None: look for yourself."""
        while True:
            try:
                for event in self._events(wire.QUIET):
                    told = wire.told(event, noun, number)
                    if told is not None or event.event == "open":
                        yield told
            except (httpx.TransportError, ProblemError):
                yield None  # cut off, quiet for long, or too many listen: looked at, and listened to again
            time.sleep(wire.PAUSE)


class _Runs(methods.Runs[Client]):
    def follow(self, run_id: int) -> Iterator[Run]:
        """A run as it is now, then whenever it changed, until it has ended."""
        for told in self.client.follow("run", run_id):
            look = told is None
            run = self.client.send(run_calls.get(run_id), patience=wire.FOLLOWING) if look else _run(told)
            yield run
            if run.state in RUN_ENDS:
                return

    def wait(self, run_id: int) -> Run:
        """Returns when the run has finished or was stopped."""
        *_, run = self.follow(run_id)
        return run


class _Jobs(methods.Jobs[Client]):
    def follow(self, job_id: int) -> Iterator[Job]:
        """A job as it is now, then whenever it changed, until it has ended."""
        for told in self.client.follow("job", job_id):
            look = told is None
            job = self.client.send(job_calls.get(job_id), patience=wire.FOLLOWING) if look else _job(told)
            yield job
            if job.state in JOB_ENDS:
                return

    def wait(self, job_id: int) -> Job:
        """Returns when the job has ended."""
        *_, job = self.follow(job_id)
        return job


class _Pictures(methods.Pictures[Client]):
    def upload_file(
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
        """Puts a picture into a library piece by piece: what a cut interrupts is gone on with, through
        five minutes without an answer. Waits up to ``wait`` seconds for its light form. ``replaces``: the
        ``original_version`` of the file whose place it takes, or ``*`` for whatever has the name."""
        send = self.client.send
        upload = send(uploads.begin(library, path, file, treat, replaces), patience=wire.FOLLOWING)
        patient = Patience(wire.FOLLOWING)
        while upload.uploaded is None:
            try:
                self.client.send_once(uploads.piece(library, upload.id, file, upload.offset))
            except ClientError as error:
                time.sleep(patient.pause_of_piece(error))
            now = send(uploads.progress(library, upload.id), patience=wire.FOLLOWING)
            if now.offset > upload.offset:
                patient = Patience(wire.FOLLOWING)
            upload = now
            if told is not None:
                told(upload.offset, upload.length)
        ends = time.monotonic() + wait
        found: Uploaded | None = upload.uploaded
        while found and found.state == "waiting" and treat is NewFiles.AT_ONCE and time.monotonic() < ends:
            time.sleep(wire.PAUSE)
            found = send(uploads.progress(library, upload.id), patience=wire.FOLLOWING).uploaded
        if found is None:
            raise WrongAnswerError(f"{path} was taken in, and is not there any more")
        return found

    def upload_files(
        self,
        library: str,
        files: Iterable[tuple[str, Path]],
        *,
        treat: NewFiles = NewFiles.AT_ONCE,
        wait: float = 20.0,
        replaces: str | None = None,
        at_a_time: int = 4,
    ) -> Iterator[tuple[str, Uploaded | ClientError | OSError]]:
        """Uploads many files, each to the path that comes with it; yields each path with what became of it,
        in their order, also of those that were refused or could not be read."""
        from concurrent.futures import ThreadPoolExecutor  # dear to import, and seldom needed

        def one(path: str, file: Path) -> Uploaded | ClientError | OSError:
            try:
                with file.open("rb") as opened:
                    if file.stat().st_size > uploads.PIECE:
                        return self.upload_file(
                            library, path, opened, treat=treat, wait=wait, replaces=replaces
                        )
                    return self.upload(library, path, opened.read(), treat, wait, replaces)
            except (ClientError, OSError) as error:
                return error

        with ThreadPoolExecutor(at_a_time) as pool:
            under_way: deque[tuple[str, Future[Uploaded | ClientError | OSError]]] = deque()
            for path, file in files:
                under_way.append((path, pool.submit(one, path, file)))
                if len(under_way) > 2 * at_a_time:
                    path, answer = under_way.popleft()
                    yield path, answer.result()
            for path, answer in under_way:
                yield path, answer.result()


def _run(told: dict[str, Any] | None) -> Run:
    return Run.model_validate(told)


def _job(told: dict[str, Any] | None) -> Job:
    return Job.model_validate(told)
