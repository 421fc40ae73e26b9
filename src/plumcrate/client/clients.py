"""The two clients. Both have the same methods; those of :class:`AsyncClient` are awaited."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator, Iterator
from types import TracebackType
from typing import Any, Self, TypeVar

import httpx
from pydantic import ValidationError

from plumcrate.contract import (
    Backups,
    Check,
    CheckRequest,
    Effect,
    Forecast,
    ForecastRequest,
    Health,
    HookSecret,
    Item,
    JobState,
    KeyRequest,
    Library,
    LibraryChange,
    LibraryRequest,
    Machine,
    NewFiles,
    NewKey,
    Orphan,
    OwnRequest,
    Page,
    Person,
    Picture,
    PictureDetail,
    Plan,
    Problem,
    Pruned,
    PruneRequest,
    PutBackRequest,
    Recipe,
    RecipeSettings,
    Recognised,
    RecogniseRequest,
    Run,
    RunRequest,
    RunState,
    Savings,
    Survey,
    SurveyState,
    Uploaded,
)

from . import calls
from .calls import Call
from .errors import ProblemError, UnreachableError

T = TypeVar("T")

_ENDED = (RunState.FINISHED, RunState.STOPPED)
_JOB_ENDED = (JobState.FINISHED, JobState.FAILED, JobState.STOPPED)
_SURVEYED = (SurveyState.FINISHED, SurveyState.FAILED)
_POLL = 0.5


def _options(url: str, key: str, timeout: float) -> dict[str, Any]:
    headers = {"Authorization": f"Bearer {key}"}
    return {"base_url": url.rstrip("/") + "/api/v1", "headers": headers, "timeout": timeout}


def _request(call: Call[Any]) -> dict[str, Any]:
    body = call.body.model_dump(mode="json", exclude_unset=True) if call.body is not None else None
    request: dict[str, Any] = {"method": call.method, "url": call.path, "params": call.params}
    if call.seconds is not None:
        request["timeout"] = call.seconds
    return request | ({"content": call.content} if call.content is not None else {"json": body})


def _read(call: Call[T], response: httpx.Response) -> T:
    _check(response)
    return call.answer.validate_python(response.json() if response.content else None)


def _check(response: httpx.Response) -> None:
    if response.is_success:
        return
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:
        title = f"The service answered {response.status_code} {response.reason_phrase}"
        problem = Problem(type="about:blank", title=title, status=response.status_code)
    raise ProblemError(problem)


def _unreachable(url: httpx.URL, error: httpx.TransportError) -> UnreachableError:
    return UnreachableError(f"the service does not answer at {url}: {error or type(error).__name__}")


class Client:
    """Talks to a service at ``url`` with a key. Raises the errors of :mod:`plumcrate.client.errors`.

    Also a context manager that closes the connection at the end.
    """

    def __init__(self, url: str, key: str, *, timeout: float = 30.0) -> None:
        self._http = httpx.Client(**_options(url, key, timeout))

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def _send(self, call: Call[T]) -> T:
        try:
            return _read(call, self._http.request(**_request(call)))
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error

    def health(self) -> Health:
        return self._send(calls.health())

    def who(self) -> Person:
        return self._send(calls.who())

    def libraries(self) -> list[Library]:
        return self._send(calls.libraries())

    def library(self, slug: str) -> Library:
        return self._send(calls.library(slug))

    def connect(self, request: LibraryRequest) -> Library:
        return self._send(calls.connect(request))

    def change_library(self, slug: str, change: LibraryChange) -> Library:
        return self._send(calls.change_library(slug, change))

    def disconnect(self, slug: str) -> None:
        return self._send(calls.disconnect(slug))

    def start_survey(self, slug: str) -> Survey:
        return self._send(calls.start_survey(slug))

    def survey(self, survey_id: int) -> Survey:
        return self._send(calls.survey(survey_id))

    def wait_for_survey(self, survey_id: int) -> Survey:
        """Returns when the survey has ended."""
        while (survey := self.survey(survey_id)).state not in _SURVEYED:
            time.sleep(_POLL)
        return survey

    def savings(self, slug: str) -> Savings:
        return self._send(calls.savings(slug))

    def pictures(self, slug: str, **filters: Any) -> Page[Picture]:
        """Filters: state, folder, search, format, sort, offset, limit."""
        return self._send(calls.pictures(slug, **filters))

    def all_pictures(self, slug: str, **filters: Any) -> Iterator[Picture]:
        """Every picture that matches, page by page."""
        offset: int | None = 0
        while offset is not None:
            page = self.pictures(slug, offset=offset, limit=500, **filters)
            yield from page.rows
            offset = page.next

    def picture(self, picture_id: int) -> PictureDetail:
        return self._send(calls.picture(picture_id))

    def content(self, file_id: int, version: str = "now") -> bytes:
        """The bytes of a file: ``now``, ``before``, ``webp`` or ``avif``."""
        try:
            response = self._http.get(f"/files/{file_id}/content", params={"version": version})
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error
        _check(response)
        return response.content

    def start_run(self, request: RunRequest) -> Run:
        return self._send(calls.start_run(request))

    def runs(self, library: str | None = None, limit: int = 30) -> list[Run]:
        return self._send(calls.runs(library, limit))

    def run(self, run_id: int) -> Run:
        return self._send(calls.run(run_id))

    def items(self, run_id: int, **filters: Any) -> Page[Item]:
        """Filters: state, offset, limit."""
        return self._send(calls.items(run_id, **filters))

    def pause(self, run_id: int) -> Run:
        return self._send(calls.change_run(run_id, "pause"))

    def resume(self, run_id: int) -> Run:
        return self._send(calls.change_run(run_id, "resume"))

    def stop(self, run_id: int) -> Run:
        return self._send(calls.change_run(run_id, "stop"))

    def retry(self, run_id: int) -> Run:
        return self._send(calls.change_run(run_id, "retry"))

    def wait_for_run(self, run_id: int) -> Run:
        """Returns when the run has finished or was stopped."""
        while (run := self.run(run_id)).state not in _ENDED:
            time.sleep(_POLL)
        return run

    def make_key(self, request: KeyRequest) -> NewKey:
        return self._send(calls.make_key(request))

    def recipe(self, slug: str) -> Recipe:
        """The recipe in use."""
        return self._send(calls.recipe(slug))

    def recipes(self, slug: str) -> list[Recipe]:
        """All versions of the recipe, the latest first."""
        return self._send(calls.recipes(slug))

    def save_recipe(self, slug: str, settings: RecipeSettings) -> Recipe:
        return self._send(calls.save_recipe(slug, settings))

    def effect(self, slug: str, settings: RecipeSettings) -> Effect:
        """How many files these settings would treat, make again and leave alone."""
        return self._send(calls.effect(slug, settings))

    def set_own(self, picture_id: int, request: OwnRequest) -> PictureDetail:
        return self._send(calls.set_own(picture_id, request))

    def plan(self, picture_id: int) -> list[Plan]:
        """What a run would do to each file of a picture."""
        return self._send(calls.plan(picture_id))

    def backups(self, slug: str) -> Backups:
        return self._send(calls.backups(slug))

    def orphans(self, slug: str, *, offset: int = 0, limit: int = 60) -> Page[Orphan]:
        """Backups whose file was deleted, moved away or overwritten, the latest first."""
        return self._send(calls.orphans(slug, offset=offset, limit=limit))

    def rescue(self, slug: str, backup_id: int, request: PutBackRequest) -> Orphan:
        """Puts such a backup into the library again."""
        return self._send(calls.rescue(slug, backup_id, request))

    def recognise(self, slug: str, request: RecogniseRequest) -> Recognised:
        """Says that a library's folder is the right one, as it is."""
        return self._send(calls.recognise(slug, request))

    def stop_check(self, check_id: int) -> Check:
        return self._send(calls.stop_check(check_id))

    def stop_forecast(self, forecast_id: int) -> Forecast:
        return self._send(calls.stop_forecast(forecast_id))

    def prune(self, slug: str, request: PruneRequest) -> Pruned:
        return self._send(calls.prune(slug, request))

    def start_check(self, slug: str, request: CheckRequest) -> Check:
        return self._send(calls.start_check(slug, request))

    def check(self, check_id: int) -> Check:
        return self._send(calls.check(check_id))

    def start_forecast(self, slug: str, request: ForecastRequest) -> Forecast:
        return self._send(calls.start_forecast(slug, request))

    def forecast(self, forecast_id: int) -> Forecast:
        return self._send(calls.forecast(forecast_id))

    def forecasts(self, slug: str) -> list[Forecast]:
        return self._send(calls.forecasts(slug))

    def machine(self) -> Machine:
        return self._send(calls.machine())

    def hook_secret(self, slug: str) -> HookSecret:
        """Makes a secret for webhooks; a former one is worth nothing then."""
        return self._send(calls.hook_secret(slug))

    def upload(
        self, slug: str, path: str, data: bytes, treat: NewFiles = NewFiles.AT_ONCE, wait: float = 20.0
    ) -> Uploaded:
        """Puts a new picture into a library; waits up to ``wait`` seconds for its light form."""
        return self._send(calls.upload(slug, path, data, str(treat), wait))

    def wait_for_check(self, check_id: int) -> Check:
        while (check := self.check(check_id)).state not in _JOB_ENDED:
            time.sleep(_POLL)
        return check

    def wait_for_forecast(self, forecast_id: int) -> Forecast:
        while (forecast := self.forecast(forecast_id)).state not in _JOB_ENDED:
            time.sleep(_POLL)
        return forecast

    def events(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """The event stream: pairs of ``run``, ``survey`` or ``item`` and its data, until closed."""
        try:
            with self._http.stream("GET", "/events", timeout=httpx.Timeout(30.0, read=60.0)) as response:
                if not response.is_success:
                    response.read()
                _check(response)
                yield from _events(response.iter_lines())
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error


class AsyncClient:
    """:class:`Client` for asyncio."""

    def __init__(self, url: str, key: str, *, timeout: float = 30.0) -> None:
        self._http = httpx.AsyncClient(**_options(url, key, timeout))

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._http.aclose()

    async def _send(self, call: Call[T]) -> T:
        try:
            return _read(call, await self._http.request(**_request(call)))
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error

    async def health(self) -> Health:
        return await self._send(calls.health())

    async def who(self) -> Person:
        return await self._send(calls.who())

    async def libraries(self) -> list[Library]:
        return await self._send(calls.libraries())

    async def library(self, slug: str) -> Library:
        return await self._send(calls.library(slug))

    async def connect(self, request: LibraryRequest) -> Library:
        return await self._send(calls.connect(request))

    async def change_library(self, slug: str, change: LibraryChange) -> Library:
        return await self._send(calls.change_library(slug, change))

    async def disconnect(self, slug: str) -> None:
        return await self._send(calls.disconnect(slug))

    async def start_survey(self, slug: str) -> Survey:
        return await self._send(calls.start_survey(slug))

    async def survey(self, survey_id: int) -> Survey:
        return await self._send(calls.survey(survey_id))

    async def wait_for_survey(self, survey_id: int) -> Survey:
        while (survey := await self.survey(survey_id)).state not in _SURVEYED:
            await asyncio.sleep(_POLL)
        return survey

    async def savings(self, slug: str) -> Savings:
        return await self._send(calls.savings(slug))

    async def pictures(self, slug: str, **filters: Any) -> Page[Picture]:
        return await self._send(calls.pictures(slug, **filters))

    async def all_pictures(self, slug: str, **filters: Any) -> AsyncIterator[Picture]:
        offset: int | None = 0
        while offset is not None:
            page = await self.pictures(slug, offset=offset, limit=500, **filters)
            for picture in page.rows:
                yield picture
            offset = page.next

    async def picture(self, picture_id: int) -> PictureDetail:
        return await self._send(calls.picture(picture_id))

    async def content(self, file_id: int, version: str = "now") -> bytes:
        try:
            response = await self._http.get(f"/files/{file_id}/content", params={"version": version})
        except httpx.TransportError as error:
            raise _unreachable(self._http.base_url, error) from error
        _check(response)
        return response.content

    async def start_run(self, request: RunRequest) -> Run:
        return await self._send(calls.start_run(request))

    async def runs(self, library: str | None = None, limit: int = 30) -> list[Run]:
        return await self._send(calls.runs(library, limit))

    async def run(self, run_id: int) -> Run:
        return await self._send(calls.run(run_id))

    async def items(self, run_id: int, **filters: Any) -> Page[Item]:
        return await self._send(calls.items(run_id, **filters))

    async def pause(self, run_id: int) -> Run:
        return await self._send(calls.change_run(run_id, "pause"))

    async def resume(self, run_id: int) -> Run:
        return await self._send(calls.change_run(run_id, "resume"))

    async def stop(self, run_id: int) -> Run:
        return await self._send(calls.change_run(run_id, "stop"))

    async def retry(self, run_id: int) -> Run:
        return await self._send(calls.change_run(run_id, "retry"))

    async def wait_for_run(self, run_id: int) -> Run:
        while (run := await self.run(run_id)).state not in _ENDED:
            await asyncio.sleep(_POLL)
        return run

    async def make_key(self, request: KeyRequest) -> NewKey:
        return await self._send(calls.make_key(request))

    async def recipe(self, slug: str) -> Recipe:
        return await self._send(calls.recipe(slug))

    async def recipes(self, slug: str) -> list[Recipe]:
        return await self._send(calls.recipes(slug))

    async def save_recipe(self, slug: str, settings: RecipeSettings) -> Recipe:
        return await self._send(calls.save_recipe(slug, settings))

    async def effect(self, slug: str, settings: RecipeSettings) -> Effect:
        return await self._send(calls.effect(slug, settings))

    async def set_own(self, picture_id: int, request: OwnRequest) -> PictureDetail:
        return await self._send(calls.set_own(picture_id, request))

    async def plan(self, picture_id: int) -> list[Plan]:
        return await self._send(calls.plan(picture_id))

    async def backups(self, slug: str) -> Backups:
        return await self._send(calls.backups(slug))

    async def orphans(self, slug: str, *, offset: int = 0, limit: int = 60) -> Page[Orphan]:
        """Backups whose file was deleted, moved away or overwritten, the latest first."""
        return await self._send(calls.orphans(slug, offset=offset, limit=limit))

    async def rescue(self, slug: str, backup_id: int, request: PutBackRequest) -> Orphan:
        """Puts such a backup into the library again."""
        return await self._send(calls.rescue(slug, backup_id, request))

    async def recognise(self, slug: str, request: RecogniseRequest) -> Recognised:
        """Says that a library's folder is the right one, as it is."""
        return await self._send(calls.recognise(slug, request))

    async def stop_check(self, check_id: int) -> Check:
        return await self._send(calls.stop_check(check_id))

    async def stop_forecast(self, forecast_id: int) -> Forecast:
        return await self._send(calls.stop_forecast(forecast_id))

    async def prune(self, slug: str, request: PruneRequest) -> Pruned:
        return await self._send(calls.prune(slug, request))

    async def start_check(self, slug: str, request: CheckRequest) -> Check:
        return await self._send(calls.start_check(slug, request))

    async def check(self, check_id: int) -> Check:
        return await self._send(calls.check(check_id))

    async def start_forecast(self, slug: str, request: ForecastRequest) -> Forecast:
        return await self._send(calls.start_forecast(slug, request))

    async def forecast(self, forecast_id: int) -> Forecast:
        return await self._send(calls.forecast(forecast_id))

    async def forecasts(self, slug: str) -> list[Forecast]:
        return await self._send(calls.forecasts(slug))

    async def machine(self) -> Machine:
        return await self._send(calls.machine())

    async def hook_secret(self, slug: str) -> HookSecret:
        return await self._send(calls.hook_secret(slug))

    async def upload(
        self, slug: str, path: str, data: bytes, treat: NewFiles = NewFiles.AT_ONCE, wait: float = 20.0
    ) -> Uploaded:
        return await self._send(calls.upload(slug, path, data, str(treat), wait))

    async def wait_for_check(self, check_id: int) -> Check:
        while (check := await self.check(check_id)).state not in _JOB_ENDED:
            await asyncio.sleep(_POLL)
        return check

    async def wait_for_forecast(self, forecast_id: int) -> Forecast:
        while (forecast := await self.forecast(forecast_id)).state not in _JOB_ENDED:
            await asyncio.sleep(_POLL)
        return forecast


def _events(lines: Iterator[str]) -> Iterator[tuple[str, dict[str, Any]]]:
    """Server-sent events (WHATWG HTML, 9.2) as pairs of name and data."""
    name, data = "message", ""
    for line in lines:
        if line.startswith("event:"):
            name = line[6:].strip()
        elif line.startswith("data:"):
            data += line[5:].strip()
        elif not line and data:
            yield name, json.loads(data)
            name, data = "message", ""
