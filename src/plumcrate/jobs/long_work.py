"""Long work on a library: one way to start it unless it is open, to follow, stop, fail, restart and expire
it.

What each kind does is in modules of its own; they get a :class:`Follow` to tell how far they are.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import structlog
from pydantic import BaseModel
from sqlalchemy import delete, func, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from plumcrate.contract.jobs import JOB_ENDS, JobKind, JobState
from plumcrate.queue.tasks import QUIET, RUN_JOB, SINGLE_REQUEST, Queue, without_a_place
from plumcrate.records.database import Database, lost_connection, notify
from plumcrate.records.tables import Job, Library
from plumcrate.refusal import Refusal
from plumcrate.sandbox.children import SandboxError
from plumcrate.storage.errors import NotThere, StorageError

log = structlog.get_logger()

OPEN = (JobState.WAITING, JobState.RUNNING)
#: Kinds that a person mostly waits for.
_WAITED_FOR = frozenset((JobKind.SURVEY, JobKind.FORECAST, JobKind.WEIGHING))
#: Of each kind a library keeps so many that have ended, however old.
_ALWAYS_KEPT = 3


class Stopped(Exception):
    """Somebody stopped the work."""


def open_job(session: Session, library_id: int, kind: JobKind) -> int | None:
    """The number of the job of a kind that waits or runs."""
    ours = Job.library_id == library_id, Job.kind == kind, Job.state.in_(OPEN)
    return session.scalar(select(Job.id).where(*ours).limit(1))


def start(
    session: Session,
    queue: Queue,
    library: Library,
    kind: JobKind,
    request: BaseModel | None = None,
    by: str = "",
) -> Job:
    """Puts a job in the queue. Raises :class:`Refusal` ``job-open`` when one of its kind is open."""
    row = Job(
        library_id=library.id,
        kind=kind,
        by=by,
        request=request.model_dump(mode="json") if request is not None else {},
    )
    try:
        with session.begin_nested():
            session.add(row)
            session.flush()
    except IntegrityError:
        number = open_job(session, library.id, kind) or 0
        raise Refusal(
            "job-open", f"{kind} {number} is under way; follow it, or stop it", number=number
        ) from None
    _queue(session, queue, row)
    session.refresh(row)
    notify(session, job=row.id)
    return row


def start_unless_open(
    session: Session, queue: Queue, library: Library, kind: JobKind, request: BaseModel | None = None
) -> Job | None:
    """The job that was started; None when one of its kind is open already."""
    if open_job(session, library.id, kind) is not None:
        return None
    try:
        return start(session, queue, library, kind, request)
    except Refusal:
        return None


def _queue(session: Session, queue: Queue, row: Job) -> None:
    priority = SINGLE_REQUEST if row.kind in _WAITED_FOR else QUIET
    # A page is weighed while no other is: the browser's times would be the machine's.
    lock = "weighing" if row.kind == JobKind.WEIGHING else None
    (row.queued_id,) = queue.add(session, RUN_JOB, [{"job_id": row.id}], priority, lock)
    session.flush()


def stop(session: Session, row: Job) -> None:
    """Stops a job for good; what it did so far stays. Raises :class:`Refusal` ``ended``."""
    session.refresh(row, with_for_update=True)
    if row.state in JOB_ENDS:
        raise Refusal("ended", f"{row.kind} {row.id} has already {row.state}", number=row.id)
    if row.kind == JobKind.PRUNING and row.state == JobState.RUNNING:
        raise Refusal(
            "cannot-stop", "what is to go was selected and is being deleted: wait for its end", number=row.id
        )
    row.state, row.finished_at = JobState.STOPPED, func.now()
    session.flush()
    session.refresh(row)
    notify(session, job=row.id)


def restart_lost(session: Session, queue: Queue) -> None:
    """Jobs whose place in the queue a dead worker took with it begin again."""
    for number in without_a_place(session, "jobs", "queued_id", "state IN ('waiting', 'running')"):
        _queue(session, queue, session.get_one(Job, number))


def expire(session: Session, days: int) -> int:
    """Forgets jobs that ended so many days ago, but the latest few of each kind; how many."""
    rank = func.row_number().over(partition_by=(Job.library_id, Job.kind), order_by=Job.id.desc())
    ranked = select(Job.id, rank.label("rank")).subquery()
    old = select(ranked.c.id).where(ranked.c.rank > _ALWAYS_KEPT)
    gone = session.execute(
        delete(Job)
        .where(Job.id.in_(old), Job.finished_at < func.now() - timedelta(days=days))
        .returning(Job.id)
    ).all()
    return len(gone)


class Follow:
    """Tells of a job that runs. ``request`` is what was asked for, ``by`` whom."""

    def __init__(self, database: Database, row: Job) -> None:
        self._database = database
        self.number, self.request, self.by = row.id, row.request, row.by

    def report(self, report: BaseModel) -> None:
        """How far it is. Raises :class:`Stopped` when somebody stopped it."""
        with self._database.begin() as session:
            row = session.get_one(Job, self.number, with_for_update=True)
            if row.state != JobState.RUNNING:
                raise Stopped
            row.report = report.model_dump(mode="json")
            notify(session, job=self.number)

    def stopped(self) -> bool:
        """Whether somebody stopped it."""
        with self._database.begin() as session:
            return session.scalar(select(Job.state).where(Job.id == self.number)) != JobState.RUNNING


Work = Callable[[Library, Follow], BaseModel]


def carry_out(database: Database, number: int, works: dict[JobKind, Work]) -> None:
    """Does a job that waits, unless it has ended already. What goes wrong ends up in its row, in plain words.

    A proof whose folder is away stays open and begins again. A lost database is raised.
    """
    with database.begin() as session:
        row = session.get(Job, number, with_for_update=True)
        if row is None or row.state in JOB_ENDS:
            return
        library = session.get_one(Library, row.library_id)
        row.state, row.started_at = JobState.RUNNING, row.started_at or func.now()
        notify(session, job=number)
    follow = Follow(database, row)
    try:
        report = works[JobKind(row.kind)](library, follow)
        follow.report(report)
        _end(database, number, JobState.FINISHED)
    except Stopped:
        return  # by a person; or the worker is ending, and it begins again elsewhere
    except NotThere as error:
        if row.kind != JobKind.PROOF:
            _end(database, number, JobState.FAILED, str(error))
    except (StorageError, SandboxError) as error:
        _end(database, number, JobState.FAILED, str(error))
    except Exception as error:
        if lost_connection(error):
            raise
        log.exception("a job failed", job=number, kind=row.kind)
        said = f"an internal error ({type(error).__name__}); the worker's log says more"
        _end(database, number, JobState.FAILED, said)


def _end(database: Database, number: int, state: JobState, reason: str | None = None) -> None:
    with database.begin() as session:
        row = session.get_one(Job, number, with_for_update=True)
        if row.state in JOB_ENDS:
            return
        row.state, row.reason, row.finished_at = state, reason, func.now()
        notify(session, job=number)
