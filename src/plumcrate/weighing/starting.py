"""Weighings that begin by themselves: by a page's schedule, and when a run has finished."""

from __future__ import annotations

from datetime import datetime, timedelta

import structlog
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.jobs import JobKind
from plumcrate.contract.runs import RunKind, RunState
from plumcrate.contract.weighing import MOST_ADDRESSES, WeighingOrigin
from plumcrate.jobs.long_work import start
from plumcrate.jobs.schedules import due
from plumcrate.queue.tasks import Queue
from plumcrate.records.tables import Job, Library, Run, SitePage

from .job import WeighOrder

log = structlog.get_logger()

#: A run that finished longer ago is not weighed after.
_RECENT = timedelta(days=1)


def start_weighings(
    session: Session, queue: Queue, library: Library, automation: Automation, now: datetime
) -> None:
    """Starts those whose time has come, once each."""
    pages = session.scalars(select(SitePage).where(SitePage.library_id == library.id)).all()
    timely = []
    for page in pages:
        page.next_at, come = due(page.schedule, page.next_at, automation, now)
        if come:
            timely.append(page.address)
    _begin(session, queue, library, timely, WeighingOrigin.SCHEDULE, None)
    if any(page.after_runs_since for page in pages):
        run = _finished_run(session, library, now)
        if run is not None and run.finished_at is not None:
            following = [
                page.address
                for page in pages
                if page.after_runs_since and page.after_runs_since <= run.finished_at
            ]
            _begin(session, queue, library, following, WeighingOrigin.RUN, run.id)


def _finished_run(session: Session, library: Library, now: datetime) -> Run | None:
    """The latest run that changed something, unless it was weighed after, or another is under way."""
    ours = Run.library_id == library.id
    if session.scalar(select(Run.id).where(ours, Run.state == RunState.RUNNING).limit(1)) is not None:
        return None
    run = session.scalar(
        select(Run)
        .where(ours, Run.state == RunState.FINISHED, Run.done > 0, Run.kind != RunKind.HAND_BACK)
        .order_by(Run.finished_at.desc())
        .limit(1)
    )
    if run is None or run.finished_at is None or run.finished_at < now - _RECENT:
        return None
    begun = select(func.count()).where(
        Job.library_id == library.id,
        Job.kind == JobKind.WEIGHING,
        Job.request["run_id"].as_integer() == run.id,
    )
    return None if session.scalar(begun) else run


def _begin(
    session: Session,
    queue: Queue,
    library: Library,
    addresses: list[str],
    origin: WeighingOrigin,
    run_id: int | None,
) -> None:
    for at in range(0, len(addresses), MOST_ADDRESSES):
        order = WeighOrder(addresses=addresses[at : at + MOST_ADDRESSES], origin=origin, run_id=run_id)
        row = start(session, queue, library, JobKind.WEIGHING, order)
        log.info("pages are weighed", library=library.slug, job=row.id, pages=len(order.addresses))
