"""A made-up service for the tests of programs that use the client: no network, no database, no picture is
decoded.

It keeps libraries, pictures and runs in memory and answers as the service does: what was uploaded is listed,
a run is over when it was started, what was treated weighs half, and can be put back. Whatever else is asked
has to be given to it with :meth:`FakeService.answer`::

    fake = FakeService("gannet-ledge")
    with fake.client() as client:
        client.pictures.upload("gannet-ledge", "2026/kite.jpg", data)
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar
from urllib.parse import unquote

import httpx
from pydantic import BaseModel

from plumcrate.client import AsyncClient, Client
from plumcrate.contract.automation import Automation, Uploaded, UploadProgress
from plumcrate.contract.common import CopyFormat, Level, Problem
from plumcrate.contract.jobs import Job, JobKind, JobState, SurveyReport
from plumcrate.contract.libraries import Library
from plumcrate.contract.pictures import (
    Derived,
    File,
    FileRole,
    FileState,
    Picture,
    PictureDetail,
    Purpose,
)
from plumcrate.contract.runs import Run, RunKind, RunOrigin, RunRequest, RunState

Row = TypeVar("Row")
#: When everything happens.
NOW = datetime(2026, 1, 1, tzinfo=UTC)
_TITLES = {
    "changed-meanwhile": (412, "Somebody else changed it meanwhile"),
    "name-taken": (409, "The name is taken"),
    "not-found": (404, "There is no such thing"),
    "no-version": (404, "There is no such version of the file"),
}


class Unanswered(AssertionError):
    """The program asked for what the made-up service knows nothing of."""


@dataclass
class _MadePicture:
    """A picture with one file, whose number is the picture's."""

    number: int
    library: str
    path: str
    data: bytes
    version: int = 1
    treated: bool = False

    def form(self, name: str) -> bytes | None:
        """Its bytes under the name of a version: a treatment leaves half, each copy is lighter by a third."""
        half = self.data[: max(1, len(self.data) // 2)]
        if name == "before" or (name == "now" and not self.treated):
            return self.data
        lighter = {"now": 1.0, "webp": 0.67, "avif": 0.45}
        if not self.treated or name not in lighter:
            return None
        return half[: max(1, round(len(half) * lighter[name]))]

    @property
    def original_version(self) -> str:
        return f"{self.number:012x}{self.version:012x}"


@dataclass
class _Piecewise:
    path: str
    treat: bool
    length: int
    replaces: str | None
    came: bytes = b""
    uploaded: Uploaded | None = None


@dataclass(frozen=True)
class _Refused(Exception):
    problem: Problem


@dataclass
class FakeService:
    """The service. ``libraries``: the short names of those that are connected; ``asked``: what was asked, as
    pairs of method and path. Of a path only what follows ``/api/v1`` is meant."""

    libraries: Sequence[str] = ("library",)
    asked: list[tuple[str, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        if isinstance(self.libraries, str):
            self.libraries = (self.libraries,)
        self._pictures: dict[int, _MadePicture] = {}
        self._runs: list[Run] = []
        self._jobs: list[Job] = []
        self._uploads: dict[str, _Piecewise] = {}
        self._answers: dict[tuple[str, str], list[httpx.Response]] = {}

    def client(self, **options: Any) -> Client:
        """A client of it; ``options`` as those of the client."""
        return Client("http://plumcrate.invalid", "key", transport=self.transport(), **options)

    def async_client(self, **options: Any) -> AsyncClient:
        """The same for asyncio."""
        return AsyncClient("http://plumcrate.invalid", "key", transport=self.transport(), **options)

    def transport(self) -> httpx.MockTransport:
        """What stands in for the network: ``Client(url, key, transport=fake.transport())``."""
        return httpx.MockTransport(self._answer)

    def answer(
        self, method: str, path: str, value: BaseModel | dict[str, Any] | bytes, *, times: int = 1
    ) -> None:
        """Answers a request so, the next ``times`` that it comes, before anything else."""
        if isinstance(value, bytes):
            made = [httpx.Response(200, content=value) for _ in range(times)]
        else:
            data = value.model_dump(mode="json") if isinstance(value, BaseModel) else value
            made = [httpx.Response(200, json=data) for _ in range(times)]
        self._answers.setdefault((method, path), []).extend(made)

    def refuse(
        self, method: str, path: str, code: str, *, status: int = 409, detail: str = "", times: int = 1
    ) -> None:
        """Answers a request with a problem, the next ``times`` that it comes."""
        made = [_refusal(_problem(code, detail, status)) for _ in range(times)]
        self._answers.setdefault((method, path), []).extend(made)

    def add(self, library: str, path: str, data: bytes, *, treated: bool = False) -> int:
        """Puts a picture into a library; its number."""
        number = len(self._pictures) + 1
        self._pictures[number] = _MadePicture(number, library, path, data, treated=treated)
        return number

    # -- answering ---------------------------------------------------------------------------------

    def _answer(self, request: httpx.Request) -> httpx.Response:
        path = unquote(request.url.path).removeprefix("/api/v1")
        self.asked.append((request.method, path))
        if given := self._answers.get((request.method, path)):
            return given.pop(0)
        for method, pattern, answer in _ROUTES:
            match = re.fullmatch(pattern, path)
            if method == request.method and match is not None:
                try:
                    made = answer(self, request, *match.groups())
                except _Refused as refused:
                    return _refusal(refused.problem)
                return made if isinstance(made, httpx.Response) else _json(made)
        raise Unanswered(f"the made-up service knows no {request.method} {path}: give it an answer first")

    def _all_libraries(self, _: httpx.Request) -> list[Library]:
        return [self._library(slug) for slug in self.libraries]

    def _one_library(self, _: httpx.Request, slug: str) -> Library:
        return self._library(slug)

    def _library(self, slug: str) -> Library:
        self._connected(slug)
        mine = self._of(slug)
        return Library(
            slug=slug,
            name=slug,
            root=f"/srv/{slug}",
            recipe_version=1,
            level=Level.EVERYDAY,
            copy_formats=list(CopyFormat),
            patterns=[],
            automation=Automation(),
            created_at=NOW,
            pictures=len(mine),
            files=len(mine),
            files_new=sum(not one.treated for one in mine),
            files_treated=sum(one.treated for one in mine),
            bytes_before=sum(len(one.data) for one in mine),
            bytes_now=sum(len(one.form("now") or b"") for one in mine),
        )

    def _connected(self, slug: str) -> None:
        if slug not in self.libraries:
            raise _Refused(_problem("not-found", f"there is no library called {slug}"))

    def _of(self, slug: str) -> list[_MadePicture]:
        return [one for one in self._pictures.values() if one.library == slug]

    def _picture(self, number: str) -> _MadePicture:
        found = self._pictures.get(int(number))
        if found is None:
            raise _Refused(_problem("not-found", f"there is no picture {number}"))
        return found

    def _page_of_pictures(self, request: httpx.Request, slug: str) -> dict[str, Any]:
        self._connected(slug)
        asked = request.url.params
        found = sorted(self._of(slug), key=lambda one: one.path)
        if "path" in asked:
            found = [one for one in found if one.path == asked["path"]]
        found = [one for one in found if asked.get("search", "") in one.path]
        first, limit = int(asked.get("after", 0)), int(asked.get("limit", 60))
        rows = [_row(one).model_dump(mode="json") for one in found[first : first + limit]]
        more = str(first + limit) if first + limit < len(found) else None
        return {"rows": rows, "total": len(found), "cursor": more}

    def _one_picture(self, _: httpx.Request, number: str) -> PictureDetail:
        one = self._picture(number)
        return PictureDetail(**_row(one).model_dump(), all_files=[_file(one)], history=[])

    def _content(self, request: httpx.Request, number: str) -> httpx.Response:
        one, version = self._picture(number), request.url.params.get("version", "now")
        data = one.form(version)
        if data is None:
            raise _Refused(_problem("no-version", f"{one.path} has no version {version}"))
        tag = one.original_version
        if version != "before":
            tag += f"-{version}-{one.treated}"
        return httpx.Response(200, content=data, headers={"ETag": f'"{tag}"'})

    def _upload(self, request: httpx.Request, slug: str, path: str) -> httpx.Response:
        at_once = request.url.params.get("treat", "at-once") == "at-once"
        uploaded = self._take(slug, path, request.content, request.headers.get("if-match"), at_once)
        return _json(uploaded, 201)

    def _take(self, slug: str, path: str, data: bytes, replaces: str | None, treat: bool) -> Uploaded:
        self._connected(slug)
        known = next((one for one in self._of(slug) if one.path == path), None)
        if replaces is not None and known is None:
            raise _Refused(_problem("changed-meanwhile", f"there is no {path} whose place it could take"))
        if known is None:
            known = self._pictures[self.add(slug, path, data)]
        elif replaces is not None:
            if replaces not in ("*", f'"{known.original_version}"') and known.data != data:
                raise _Refused(_problem("changed-meanwhile", f"another file has the name {path} by now"))
            known.data, known.version, known.treated = data, known.version + 1, False
        elif known.data != data:
            raise _Refused(_problem("name-taken", f"{path} is there already; nothing was written"))
        known.treated = known.treated or treat
        return Uploaded(
            path=path,
            picture_id=known.number,
            file_id=known.number,
            run_id=None,
            state="done" if treat else "not-treated",
            size_before=len(data),
            size_now=len(known.form("now") or b""),
        )

    def _begin(self, request: httpx.Request, slug: str) -> httpx.Response:
        self._connected(slug)
        said = dict(pair.split(" ", 1) for pair in request.headers["upload-metadata"].split(","))
        path, treat = (base64.b64decode(said[name]).decode() for name in ("path", "treat"))
        number = f"upload{len(self._uploads) + 1}"
        length = int(request.headers["upload-length"])
        self._uploads[number] = _Piecewise(path, treat == "at-once", length, request.headers.get("if-match"))
        return _json(self._progress(request, slug, number), 201)

    def _progress(self, _: httpx.Request, slug: str, number: str) -> UploadProgress:
        one = self._uploads[number]
        return UploadProgress(
            id=number,
            path=one.path,
            length=one.length,
            offset=len(one.came),
            expires_at=NOW + timedelta(days=1),
            uploaded=one.uploaded,
        )

    def _piece(self, request: httpx.Request, slug: str, number: str) -> httpx.Response:
        one = self._uploads[number]
        one.came += request.content
        if len(one.came) == one.length and one.uploaded is None:
            one.uploaded = self._take(slug, one.path, one.came, one.replaces, one.treat)
        return httpx.Response(204, headers={"Upload-Offset": str(len(one.came))})

    def _start(self, request: httpx.Request) -> httpx.Response:
        wanted = RunRequest.model_validate_json(request.content)
        self._connected(wanted.library)
        treats = wanted.kind is RunKind.TREAT
        folder, chosen = wanted.scope.folder, wanted.scope.pictures
        concerned = [
            one
            for one in self._of(wanted.library)
            if (chosen is None or one.number in chosen)
            and (not folder or one.path.startswith(f"{folder}/"))
            and (one.treated is not treats or wanted.force)
        ]
        before = sum(len(one.form("now") or b"") for one in concerned)
        for one in concerned:
            one.treated = treats
        after = sum(len(one.form("now") or b"") for one in concerned)
        run = Run(
            id=len(self._runs) + 1,
            library=wanted.library,
            kind=wanted.kind,
            origin=RunOrigin.PERSON,
            state=RunState.FINISHED,
            recipe_version=1,
            level=wanted.level or Level.EVERYDAY,
            copies=list(CopyFormat) if wanted.copies is None else wanted.copies,
            scope=wanted.scope,
            files=len(concerned),
            done=len(concerned),
            passed=0,
            failed=0,
            left=0,
            bytes_before=before,
            bytes_after=after,
            bytes_lightest=after,
            created_at=NOW,
            finished_at=NOW,
        )
        self._runs.append(run)
        return _json(run, 202)

    def _page_of_runs(self, _: httpx.Request) -> dict[str, Any]:
        rows = [run.model_dump(mode="json") for run in reversed(self._runs)]
        return {"rows": rows, "total": len(rows), "cursor": None}

    def _one_run(self, _: httpx.Request, number: str) -> Run:
        return self._numbered(self._runs, number, "run")

    def _survey(self, _: httpx.Request, slug: str) -> httpx.Response:
        report = SurveyReport(files_seen=len(self._of(slug)), pictures=len(self._of(slug)))
        job = Job(
            id=len(self._jobs) + 1,
            library=slug,
            kind=JobKind.SURVEY,
            state=JobState.FINISHED,
            survey=report,
            created_at=NOW,
            started_at=NOW,
            finished_at=NOW,
        )
        self._jobs.append(job)
        return _json(job, 202)

    def _one_job(self, _: httpx.Request, number: str) -> Job:
        return self._numbered(self._jobs, number, "job")

    def _numbered(self, rows: list[Row], number: str, noun: str) -> Row:
        if not 0 < int(number) <= len(rows):
            raise _Refused(_problem("not-found", f"there is no {noun} {number}"))
        return rows[int(number) - 1]

    def _events(self, _: httpx.Request) -> httpx.Response:
        return httpx.Response(200, headers={"Content-Type": "text/event-stream"}, content=b": quiet\n\n")


_ROUTES: list[tuple[str, str, Callable[..., Any]]] = [
    ("GET", r"/libraries", FakeService._all_libraries),
    ("GET", r"/libraries/([^/]+)", FakeService._one_library),
    ("GET", r"/libraries/([^/]+)/pictures", FakeService._page_of_pictures),
    ("POST", r"/libraries/([^/]+)/surveys", FakeService._survey),
    ("PUT", r"/libraries/([^/]+)/files/(.+)", FakeService._upload),
    ("POST", r"/libraries/([^/]+)/uploads", FakeService._begin),
    ("GET", r"/libraries/([^/]+)/uploads/([^/]+)", FakeService._progress),
    ("PATCH", r"/libraries/([^/]+)/uploads/([^/]+)", FakeService._piece),
    ("GET", r"/pictures/(\d+)", FakeService._one_picture),
    ("GET", r"/files/(\d+)/content", FakeService._content),
    ("POST", r"/runs", FakeService._start),
    ("GET", r"/runs", FakeService._page_of_runs),
    ("GET", r"/runs/(\d+)", FakeService._one_run),
    ("GET", r"/jobs/(\d+)", FakeService._one_job),
    ("GET", r"/events", FakeService._events),
]


def _row(one: _MadePicture) -> Picture:
    folder, _, name = one.path.rpartition("/")
    forms = [one.form(name) for name in ("now", "webp", "avif")]
    return Picture(
        id=one.number,
        library=one.library,
        path=one.path,
        name=name,
        folder=folder,
        format=_format(name),
        width=640,
        height=480,
        state=FileState.LIGHTER if one.treated else FileState.NEW,
        files=1,
        bytes_before=len(one.data),
        bytes_now=len(one.form("now") or b""),
        bytes_lightest=min(len(form) for form in forms if form is not None),
        original_id=one.number,
    )


def _file(one: _MadePicture) -> File:
    copies = {name: one.form(name) for name in ("webp", "avif")}
    return File(
        id=one.number,
        path=one.path,
        role=FileRole.ORIGINAL,
        state=FileState.LIGHTER if one.treated else FileState.NEW,
        format=_format(one.path),
        width=640,
        height=480,
        size_before=len(one.data),
        size_now=len(one.form("now") or b""),
        level=Level.EVERYDAY if one.treated else None,
        has_backup=one.treated,
        original_version=one.original_version,
        derived=[
            Derived(
                purpose=Purpose.COPY,
                format=name,
                width=0,
                height=0,
                stands_in=True,
                path=f"{one.path}.{name}",
                size=len(data),
                score=80.0,
                how="made up",
            )
            for name, data in copies.items()
            if data is not None
        ],
    )


def _format(name: str) -> str:
    ending = name.rpartition(".")[2].lower()
    return "jpeg" if ending in ("jpg", "jpeg") else ending


def _problem(code: str, detail: str, status: int = 409) -> Problem:
    status, title = _TITLES.get(code, (status, code.replace("-", " ").capitalize()))
    return Problem(type=f"urn:plumcrate:problem:{code}", title=title, status=status, detail=detail)


def _refusal(problem: Problem) -> httpx.Response:
    return httpx.Response(
        problem.status,
        content=problem.model_dump_json(exclude_none=True),
        headers={"Content-Type": "application/problem+json"},
    )


def _json(value: BaseModel | Sequence[BaseModel] | dict[str, Any], status: int = 200) -> httpx.Response:
    if isinstance(value, BaseModel):
        return httpx.Response(status, content=value.model_dump_json(), headers=_JSON)
    data = value if isinstance(value, dict) else [one.model_dump(mode="json") for one in value]
    return httpx.Response(status, content=json.dumps(data), headers=_JSON)


_JSON = {"Content-Type": "application/json"}
