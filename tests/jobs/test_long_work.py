"""One way to start long work unless it is open, to follow it, to stop, fail, restart and forget it."""

from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import psycopg
import pytest
from conftest import add_library
from pydantic import BaseModel
from sqlalchemy import func, select, text, update
from sqlalchemy.exc import OperationalError

from plumcrate.contract.jobs import CheckReport, CheckRequest, JobKind, JobState, PruneRequest, SurveyReport
from plumcrate.jobs import long_work as jobs
from plumcrate.jobs.long_work import Follow, carry_out
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database
from plumcrate.records.queries.jobs import job_view, jobs_page, latest_jobs
from plumcrate.records.tables import Job, Library
from plumcrate.refusal import Refusal
from plumcrate.storage.errors import NotThere, StorageError

PRUNE = PruneRequest(confirm="l")


@pytest.fixture
def filled(database: Database) -> Database:
    add_library(database, Path("/l"))
    return database


def start(database: Database, kind: JobKind = JobKind.CHECK, request: BaseModel | None = None) -> int:
    with database.begin() as session:
        library = session.get_one(Library, 1)
        return jobs.start(session, Queue(database.url), library, kind, request, "keeper").id


def row(database: Database, number: int) -> Job:
    with database.begin() as session:
        return session.get_one(Job, number)


def done(database: Database, number: int, work: Callable[[Follow], BaseModel], kind: JobKind) -> Job:
    carry_out(database, number, {kind: lambda _, follow: work(follow)})
    return row(database, number)


def test_one_of_a_kind_is_open_at_a_time(filled: Database) -> None:
    number = start(filled, JobKind.CHECK, CheckRequest(mend=True))
    with pytest.raises(Refusal, match=f"check {number} is under way") as caught:
        start(filled)
    assert (caught.value.code, caught.value.more) == ("job-open", {"number": number})
    other = start(filled, JobKind.SURVEY)
    assert other != number
    with filled.begin() as session:
        library = session.get_one(Library, 1)
        assert jobs.start_unless_open(session, Queue(filled.url), library, JobKind.SURVEY) is None
        view = job_view(session, session.get_one(Job, number), "l")
    assert (view.kind, view.state, view.mend, view.by) == ("check", "waiting", True, "keeper")


def test_a_job_tells_how_far_it_is_and_ends_with_its_report(filled: Database) -> None:
    number = start(filled)
    seen: list[tuple[str, int]] = []

    def work(follow: Follow) -> CheckReport:
        for files in (1, 2):
            follow.report(CheckReport(files=files))
            now = row(filled, number)
            seen.append((now.state, now.report["files"]))
        return CheckReport(files=3)

    ended = done(filled, number, work, JobKind.CHECK)
    assert seen == [("running", 1), ("running", 2)]
    assert (ended.state, ended.report["files"]) == (JobState.FINISHED, 3)
    assert ended.started_at is not None
    assert ended.finished_at is not None
    carry_out(filled, number, {})  # what has ended is not done again
    start(filled)


@pytest.mark.parametrize(
    ("fault", "said"),
    [
        (StorageError("disk-full", "no room is left"), "no room is left"),
        (NotThere("the folder is not mounted"), "the folder is not mounted"),
        (ZeroDivisionError("secret"), "an internal error (ZeroDivisionError)"),
    ],
)
def test_what_goes_wrong_is_said_in_the_jobs_row(filled: Database, fault: Exception, said: str) -> None:
    number = start(filled, JobKind.SURVEY)

    def work(follow: Follow) -> BaseModel:
        follow.report(SurveyReport(files_seen=2))
        raise fault

    ended = done(filled, number, work, JobKind.SURVEY)
    assert ended.state == JobState.FAILED
    assert said in (ended.reason or "")
    assert "secret" not in (ended.reason or "")
    assert ended.report["files_seen"] == 2, "what it found so far stays"


def test_a_lost_database_ends_nothing(filled: Database) -> None:
    number = start(filled)

    def lost(_: Follow) -> BaseModel:
        raise OperationalError("x", {}, psycopg.OperationalError("server closed the connection"))

    with pytest.raises(OperationalError):
        done(filled, number, lost, JobKind.CHECK)
    assert row(filled, number).state == JobState.RUNNING


def test_a_proof_waits_for_its_folder(filled: Database) -> None:
    number = start(filled, JobKind.PROOF)

    def away(_: Follow) -> BaseModel:
        raise NotThere("the folder is not mounted")

    assert done(filled, number, away, JobKind.PROOF).state == JobState.RUNNING
    with filled.begin() as session:
        session.execute(text("DELETE FROM procrastinate_jobs"))
        jobs.restart_lost(session, Queue(filled.url))
        assert session.execute(text("SELECT count(*) FROM procrastinate_jobs")).scalar_one() == 1


def test_a_stopped_job_notices_and_stays_stopped(filled: Database) -> None:
    number = start(filled)

    def work(follow: Follow) -> BaseModel:
        follow.report(CheckReport(files=1))
        with filled.begin() as session:
            jobs.stop(session, session.get_one(Job, number))
        assert follow.stopped()
        follow.report(CheckReport(files=2))
        raise AssertionError("it went on")

    ended = done(filled, number, work, JobKind.CHECK)
    assert (ended.state, ended.report["files"]) == (JobState.STOPPED, 1)
    with filled.begin() as session, pytest.raises(Refusal, match="already stopped"):
        jobs.stop(session, session.get_one(Job, number))


def test_a_pruning_can_be_stopped_only_before_it_begins(filled: Database) -> None:
    number = start(filled, JobKind.PRUNING, PRUNE)
    with filled.begin() as session:
        jobs.stop(session, session.get_one(Job, number))
    number = start(filled, JobKind.PRUNING, PRUNE)
    with filled.begin() as session:
        session.get_one(Job, number).state = JobState.RUNNING
    with filled.begin() as session, pytest.raises(Refusal, match="wait for its end"):
        jobs.stop(session, session.get_one(Job, number))


def test_a_job_that_lost_its_place_in_the_queue_is_given_another_once(filled: Database) -> None:
    number = start(filled)
    first = row(filled, number).queued_id
    for _ in range(3):
        with filled.begin() as session:
            jobs.restart_lost(session, Queue(filled.url))
    assert row(filled, number).queued_id == first
    with filled.begin() as session:
        session.execute(text("DELETE FROM procrastinate_jobs"))
    with filled.begin() as session:
        jobs.restart_lost(session, Queue(filled.url))
    assert row(filled, number).queued_id != first


def test_old_jobs_are_forgotten_but_the_latest_of_each_kind(filled: Database) -> None:
    for kind, count in ((JobKind.SURVEY, 6), (JobKind.CHECK, 2)):
        for _ in range(count):
            with filled.begin() as session:
                session.add(Job(library_id=1, kind=kind, state=JobState.FINISHED, finished_at=func.now()))
    with filled.begin() as session:
        assert jobs.expire(session, 30) == 0, "none is old"
        session.execute(update(Job).values(finished_at=func.now() - timedelta(days=31)))
        assert jobs.expire(session, 30) == 3
        left = session.execute(select(Job.kind, func.count()).group_by(Job.kind)).all()
        assert dict(left) == {"survey": 3, "check": 2}  # type: ignore[arg-type]
        assert [
            job.kind
            for job in jobs_page(session, session.get_one(Library, 1), JobKind.CHECK, after=None, limit=1)
        ] == ["check"]
        latest = latest_jobs(session, [1], JobKind.SURVEY)[1]
        assert latest is not None
        assert latest.id == session.scalar(select(func.max(Job.id)).where(Job.kind == "survey"))
