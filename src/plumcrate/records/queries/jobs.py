"""Jobs as the wire shows them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.jobs import Job as JobView
from plumcrate.contract.jobs import JobKind, report_of
from plumcrate.records.tables import Derived, File, Item, Job, Library, Run

from . import cursors


def latest_jobs(session: Session, library_ids: Sequence[int], kind: JobKind) -> dict[int, Job]:
    """The latest of a kind, by the number of its library; of libraries that had one."""
    query = (
        select(Job)
        .ext(distinct_on(Job.library_id))
        .where(Job.library_id.in_(library_ids), Job.kind == kind)
        .order_by(Job.library_id, Job.id.desc())
    )
    return {job.library_id: job for job in session.scalars(query)}


def jobs_page(
    session: Session, library: Library, kind: JobKind | None, *, after: str | None, limit: int
) -> Page[JobView]:
    """The latest first. Raises Refusal for a cursor of another list."""
    query = select(Job).where(Job.library_id == library.id)
    return cursors.by_number(
        session,
        query if kind is None else query.where(Job.kind == kind),
        Job.id,
        lambda rows: [job_view(session, row, library.slug) for row in rows],
        of=f"jobs of {library.id}",
        after=after,
        limit=limit,
    )


def job_view(session: Session, row: Job, slug: str) -> JobView:
    """A job with its report; a forecast also with how right it has been so far."""
    report: dict[str, Any] = dict(row.report)
    if row.kind == JobKind.FORECAST:
        report.setdefault("recipe_version", row.request.get("recipe_version"))
        if report.get("outlook"):
            report["outlook"] = report["outlook"] | _what_came(session, row, report["recipe_version"])
    shared = ("id", "kind", "state", "reason", "by", "created_at", "started_at", "finished_at")
    return JobView.model_validate(
        {
            "library": slug,
            "mend": bool(row.request.get("mend")),
            "run_id": row.request.get("run_id"),
            report_of(JobKind(row.kind)): report,
            **{name: getattr(row, name) for name in shared},
        }
    )


def _what_came(session: Session, row: Job, version: int | None) -> dict[str, int]:
    """The files treated with a version of the recipe since, and their bytes."""
    if version is None:
        return {}
    lightest = select(func.min(Derived.size)).where(Derived.file_id == File.id, Derived.stands_in)
    treated = (
        select(Item.file_id)
        .join(Run, Run.id == Item.run_id)
        .where(Run.library_id == row.library_id, Run.recipe_version == version)
        .where(Item.state.in_(["done", "passed"]))
    )
    sums = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(File.size_before), 0),
            func.coalesce(func.sum(File.size_now), 0),
            func.coalesce(func.sum(func.least(File.size_now, lightest.scalar_subquery())), 0),
        ).where(File.id.in_(treated), File.treated_at.is_not(None))
    ).one()
    names = ("actual_files", "actual_before", "actual_after", "actual_lightest")
    return dict(zip(names, map(int, sums), strict=True))
