"""All other long work."""

from __future__ import annotations

from plumcrate.contract.common import Page
from plumcrate.contract.jobs import CheckRequest, ForecastRequest, Job, JobKind, PruneRequest

from . import base
from .base import Call


def survey(library: str) -> Call[Job]:
    return base.post(f"{base.within(library)}/surveys", Job)


def check(library: str, request: CheckRequest) -> Call[Job]:
    return base.post(f"{base.within(library)}/checks", Job, request)


def forecast(library: str, request: ForecastRequest) -> Call[Job]:
    return base.post(f"{base.within(library)}/forecasts", Job, request)


def prune(library: str, request: PruneRequest) -> Call[Job]:
    """Begins to delete backups."""
    return base.post(f"{base.within(library)}/prunings", Job, request)


def page(
    library: str, kind: JobKind | None = None, *, after: str | None = None, limit: int = 10
) -> Call[Page[Job]]:
    """The latest first."""
    return base.get(f"{base.within(library)}/jobs", Page[Job], kind=kind, after=after, limit=limit)


def get(job_id: int) -> Call[Job]:
    return base.get(f"/jobs/{base.part(job_id)}", Job)


def stop(job_id: int) -> Call[Job]:
    return base.post(f"/jobs/{base.part(job_id)}/stop", Job)


def read_words(library: str) -> Call[Job]:
    """Reads what the pictures' own metadata says, for suggestions."""
    return base.post(f"{base.within(library)}/word-readings", Job)


def compare_renditions(library: str) -> Call[Job]:
    """Looks for renditions by what pictures show; what it finds is proposed."""
    return base.post(f"{base.within(library)}/resemblances", Job)


def search_near_duplicates(library: str) -> Call[Job]:
    """Looks at what is new, and groups pictures that show the same; a job."""
    return base.post(f"{base.within(library)}/near-duplicate-searches", Job)
