"""Every request of the API as data: the one list from which both clients have their methods."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from plumcrate import contract
from plumcrate.contract import Job, JobKind, NewFiles, Page

T = TypeVar("T")
Params = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Call(Generic[T]):
    """One request and how its answer is read; None: as bytes. ``seconds``: how long to wait when it is not
    the usual."""

    method: str
    path: str
    answer: TypeAdapter[T] | None
    params: Params | None = None
    body: BaseModel | None = None
    content: bytes | None = None
    headers: Mapping[str, str] | None = None
    seconds: float | None = None


def _get(path: str, answer: type[T], /, **params: Any) -> Call[T]:
    given = {name: value for name, value in params.items() if value is not None}
    return Call("GET", path, TypeAdapter(answer), given)


def _post(path: str, answer: type[T], body: BaseModel | None = None) -> Call[T]:
    return Call("POST", path, TypeAdapter(answer), body=body)


def health() -> Call[contract.Health]:
    return _get("/health", contract.Health)


def who() -> Call[contract.Person | None]:
    """Whose the key is; a key that is not known is refused."""
    return Call("GET", "/session", TypeAdapter(contract.Person | None))


def machine() -> Call[contract.Machine]:
    """Whether everything is there that treating needs."""
    return _get("/machine", contract.Machine)


def formats() -> Call[list[contract.Format]]:
    """The picture formats known to the service."""
    return _get("/formats", list[contract.Format])


def make_key(request: contract.KeyRequest) -> Call[contract.NewKey]:
    return _post("/keys", contract.NewKey, request)


def libraries() -> Call[list[contract.Library]]:
    return _get("/libraries", list[contract.Library])


def library(slug: str) -> Call[contract.Library]:
    return _get(f"/libraries/{slug}", contract.Library)


def connect(request: contract.LibraryRequest) -> Call[contract.Library]:
    return _post("/libraries", contract.Library, request)


def server_rules(slug: str, server: contract.ServerKind) -> Call[bytes]:
    """Configuration for the site's own server."""
    return Call("GET", f"/libraries/{slug}/server-rules/{server}", None)


def ask(slug: str, request: contract.AskRequest) -> Call[contract.AskReport]:
    """What each browser gets of a file, or of the pictures of a page."""
    body = TypeAdapter(contract.AskReport)
    return Call("POST", f"/libraries/{slug}/asking", body, body=request, seconds=300)


def purges(slug: str) -> Call[contract.Purges]:
    """What caches have yet to be told."""
    return _get(f"/libraries/{slug}/purges", contract.Purges)


def traffic(slug: str, days: int = 30) -> Call[contract.Traffic]:
    """What visitors were sent, over so many days."""
    return _get(f"/libraries/{slug}/traffic", contract.Traffic, days=days)


def log_position(slug: str, log: str) -> Call[contract.LogPosition]:
    """How far an access log was counted."""
    return _get(f"/libraries/{slug}/traffic/log", contract.LogPosition, log=log)


def count_log(slug: str, counts: contract.Counts) -> Call[contract.LogPosition]:
    """Counts a stretch of an access log."""
    return _post(f"/libraries/{slug}/traffic/log", contract.LogPosition, counts)


def page_files(slug: str, request: contract.PageFiles) -> Call[list[contract.PageFile]]:
    """What pages need to know of files, by their paths."""
    return _post(f"/libraries/{slug}/page-files", list[contract.PageFile], request)


def page(slug: str, content: bytes, address: str = "/", kind: str = "text/html") -> Call[bytes]:
    """A page of the site with the right markup; ``address``: where it is there."""
    params, headers = {"address": address}, {"Content-Type": kind}
    return Call(
        "POST", f"/libraries/{slug}/page", None, params, content=content, headers=headers, seconds=300
    )


def change_library(slug: str, change: contract.LibraryChange) -> Call[contract.Library]:
    return Call("PATCH", f"/libraries/{slug}", TypeAdapter(contract.Library), body=change)


def disconnect(slug: str) -> Call[None]:
    return Call("DELETE", f"/libraries/{slug}", TypeAdapter(None))


def savings(slug: str) -> Call[contract.Savings]:
    return _get(f"/libraries/{slug}/savings", contract.Savings)


def pictures(slug: str, **filters: Any) -> Call[Page[contract.Picture]]:
    """Filters: state, folder, search, path, format, sort, offset, limit."""
    return _get(f"/libraries/{slug}/pictures", Page[contract.Picture], **filters)


def picture(picture_id: int) -> Call[contract.PictureDetail]:
    return _get(f"/pictures/{picture_id}", contract.PictureDetail)


def set_own(picture_id: int, request: contract.OwnRequest) -> Call[contract.PictureDetail]:
    return Call("PUT", f"/pictures/{picture_id}/own", TypeAdapter(contract.PictureDetail), body=request)


def plan(picture_id: int) -> Call[list[contract.Plan]]:
    """What a run would do to each file of a picture."""
    return _get(f"/pictures/{picture_id}/plan", list[contract.Plan])


def content(file_id: int, version: str = "now") -> Call[bytes]:
    """The bytes of a file: ``now``, ``before``, or the format of what was made beside it."""
    return Call("GET", f"/files/{file_id}/content", None, {"version": version})


def recipe(slug: str) -> Call[contract.Recipe]:
    """The recipe in use."""
    return _get(f"/libraries/{slug}/recipe", contract.Recipe)


def recipes(slug: str) -> Call[list[contract.Recipe]]:
    """All versions of the recipe, the latest first."""
    return _get(f"/libraries/{slug}/recipes", list[contract.Recipe])


def save_recipe(slug: str, settings: contract.RecipeSettings) -> Call[contract.Recipe]:
    return Call("PUT", f"/libraries/{slug}/recipe", TypeAdapter(contract.Recipe), body=settings)


def effect(slug: str, settings: contract.RecipeSettings) -> Call[contract.Effect]:
    """How many files these settings would treat, make again and leave alone."""
    return _post(f"/libraries/{slug}/recipe/effect", contract.Effect, settings)


def start_run(request: contract.RunRequest) -> Call[contract.Run]:
    return _post("/runs", contract.Run, request)


def runs(library: str | None = None, limit: int = 30) -> Call[list[contract.Run]]:
    return _get("/runs", list[contract.Run], library=library, limit=limit)


def run(run_id: int) -> Call[contract.Run]:
    return _get(f"/runs/{run_id}", contract.Run)


def items(run_id: int, **filters: Any) -> Call[Page[contract.Item]]:
    """Filters: state, offset, limit."""
    return _get(f"/runs/{run_id}/items", Page[contract.Item], **filters)


def pause(run_id: int) -> Call[contract.Run]:
    return _post(f"/runs/{run_id}/pause", contract.Run)


def resume(run_id: int) -> Call[contract.Run]:
    return _post(f"/runs/{run_id}/resume", contract.Run)


def stop(run_id: int) -> Call[contract.Run]:
    return _post(f"/runs/{run_id}/stop", contract.Run)


def retry(run_id: int) -> Call[contract.Run]:
    """Tries a run's failed files again."""
    return _post(f"/runs/{run_id}/retry", contract.Run)


def start_survey(slug: str) -> Call[Job]:
    return _post(f"/libraries/{slug}/surveys", Job)


def start_check(slug: str, request: contract.CheckRequest) -> Call[Job]:
    return _post(f"/libraries/{slug}/checks", Job, request)


def start_forecast(slug: str, request: contract.ForecastRequest) -> Call[Job]:
    return _post(f"/libraries/{slug}/forecasts", Job, request)


def prune(slug: str, request: contract.PruneRequest) -> Call[Job]:
    """Begins to delete backups."""
    return _post(f"/libraries/{slug}/prunings", Job, request)


def jobs(slug: str, kind: JobKind | None = None, limit: int = 10) -> Call[list[Job]]:
    """The latest first."""
    return _get(f"/libraries/{slug}/jobs", list[Job], kind=kind, limit=limit)


def job(job_id: int) -> Call[Job]:
    return _get(f"/jobs/{job_id}", Job)


def stop_job(job_id: int) -> Call[Job]:
    return _post(f"/jobs/{job_id}/stop", Job)


def backups(slug: str) -> Call[contract.Backups]:
    return _get(f"/libraries/{slug}/backups", contract.Backups)


def orphans(slug: str, *, offset: int = 0, limit: int = 60) -> Call[Page[contract.Orphan]]:
    """Backups whose file was deleted, moved away or overwritten, the latest first."""
    return _get(f"/libraries/{slug}/orphans", Page[contract.Orphan], offset=offset, limit=limit)


def rescue(slug: str, backup_id: int, request: contract.PutBackRequest) -> Call[contract.Orphan]:
    """Puts such a backup into the library again."""
    return _post(f"/libraries/{slug}/orphans/{backup_id}/restore", contract.Orphan, request)


def recognise(slug: str, request: contract.RecogniseRequest) -> Call[contract.Recognised]:
    """Says that a library's folder is the right one, as it is."""
    return _post(f"/libraries/{slug}/recognise", contract.Recognised, request)


def hook_secret(slug: str) -> Call[contract.HookSecret]:
    """Makes a secret for webhooks; a former one is worth nothing then."""
    return _post(f"/libraries/{slug}/hook-secret", contract.HookSecret)


def upload(
    slug: str, path: str, data: bytes, treat: NewFiles = NewFiles.AT_ONCE, wait: float = 20.0
) -> Call[contract.Uploaded]:
    """Puts a new picture into a library; waits up to ``wait`` seconds for its light form."""
    params = {"treat": str(treat), "wait": wait}
    address = f"/libraries/{slug}/files/{quote(path)}"
    return Call("PUT", address, TypeAdapter(contract.Uploaded), params, content=data, seconds=wait + 60)
