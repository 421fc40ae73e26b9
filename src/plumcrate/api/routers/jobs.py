"""Long work on a library: started, followed, stopped."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from pydantic import BaseModel

from plumcrate.api.needs import Administering, Looking, Mending, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract.common import Page
from plumcrate.contract.jobs import CheckRequest, ForecastRequest, Job, JobKind, PruneRequest
from plumcrate.jobs import long_work as jobs
from plumcrate.jobs.forecast import forecast_order
from plumcrate.records import tables
from plumcrate.records.queries.jobs import job_view, jobs_page

from .deps import After, Id, Session, Slug, TheQueue, router_of, the, the_library

router = router_of("jobs")


@router.post("/libraries/{slug}/surveys", status_code=202, summary="Start a survey")
def survey(slug: Slug, actor: Treating, session: Session, queue: TheQueue) -> Job:
    """Looks through the library's folder. Nothing in it is touched."""
    return _started(session, queue, slug, JobKind.SURVEY, None, actor.name)


@router.post("/libraries/{slug}/checks", status_code=202, summary="Compare library, backups and records")
def check(slug: Slug, body: CheckRequest, actor: Treating, session: Session, queue: TheQueue) -> Job:
    """Reads every treated file, copy and backup, and mends differences when asked to."""
    return _started(session, queue, slug, JobKind.CHECK, body, actor.name)


@router.post(
    "/libraries/{slug}/word-readings", status_code=202, summary="Read what pictures say of themselves"
)
def read_words(slug: Slug, actor: Mending, session: Session, queue: TheQueue) -> Job:
    """Captions, headlines, titles and credits in IPTC and XMP, for suggestions. Nothing is changed."""
    return _started(session, queue, slug, JobKind.WORDS, None, actor.name)


@router.post(
    "/libraries/{slug}/resemblances", status_code=202, summary="Look for renditions by what pictures show"
)
def resemblance(slug: Slug, actor: Treating, session: Session, queue: TheQueue) -> Job:
    """Compares all files that count as originals, and proposes those that show the same as a larger one."""
    return _started(session, queue, slug, JobKind.RESEMBLANCE, None, actor.name)


@router.post("/libraries/{slug}/near-duplicate-searches", status_code=202, summary="Look for near duplicates")
def near_duplicates(slug: Slug, actor: Treating, session: Session, queue: TheQueue) -> Job:
    """Looks at every picture that is new or changed, compares it with all others, and groups those that show
    the same. No file is touched."""
    return _started(session, queue, slug, JobKind.NEAR_DUPLICATES, None, actor.name)


@router.post("/libraries/{slug}/forecasts", status_code=202, summary="Forecast the saving")
def forecast(slug: Slug, body: ForecastRequest, actor: Treating, session: Session, queue: TheQueue) -> Job:
    """Treats a sample in memory for a while and reckons the rest. Nothing is written to the library."""
    order = forecast_order(session, the_library(session, slug), body, actor.name)
    return _started(session, queue, slug, JobKind.FORECAST, order, actor.name)


@router.post("/libraries/{slug}/prunings", status_code=202, summary="Delete backups")
def pruning(slug: Slug, body: PruneRequest, actor: Administering, session: Session, queue: TheQueue) -> Job:
    """Deletes backups by age, or all. Those that are the only original of a treated file stay unless
    ``needed_too`` says otherwise, and orphaned ones unless ``orphans_too`` does; a file without a backup can
    never be put back."""
    if body.confirm != the_library(session, slug).slug:
        raise ApiError("not-confirmed", f"to delete backups, confirm with the library's short name, {slug}")
    return _started(session, queue, slug, JobKind.PRUNING, body, actor.name)


@router.get("/libraries/{slug}/jobs", summary="The latest jobs")
def latest(
    slug: Slug,
    actor: Looking,
    session: Session,
    kind: JobKind | None = None,
    after: After = None,
    limit: Annotated[int, Query(ge=1, le=100)] = 10,
) -> Page[Job]:
    return jobs_page(session, the_library(session, slug), kind, after=after, limit=limit)


@router.get("/jobs/{job_id}", summary="One job")
def job(job_id: Id, actor: Looking, session: Session) -> Job:
    return _view(session, the(session, tables.Job, job_id, "job"))


@router.post("/jobs/{job_id}/stop", summary="Stop a job")
def stop(job_id: Id, actor: Treating, session: Session) -> Job:
    """What it did so far stays."""
    row = the(session, tables.Job, job_id, "job")
    jobs.stop(session, row)
    return _view(session, row)


def _started(
    session: Session, queue: TheQueue, slug: str, kind: JobKind, request: BaseModel | None, by: str
) -> Job:
    row = jobs.start(session, queue, the_library(session, slug), kind, request, by)
    return job_view(session, row, slug)


def _view(session: Session, row: tables.Job) -> Job:
    return job_view(session, row, session.get_one(tables.Library, row.library_id).slug)
