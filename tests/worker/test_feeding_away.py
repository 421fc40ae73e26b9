"""Runs wait for libraries that are away; one library's fault is not another's."""

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from conftest import add_library, add_pictures
from sqlalchemy import func, select, update

from plumcrate.contract.automation import Automation
from plumcrate.contract.jobs import CheckRequest, JobKind, JobState
from plumcrate.contract.runs import ItemState, RunRequest, RunState
from plumcrate.jobs import long_work as jobs
from plumcrate.queue.tasks import NEW_UPLOAD, Queue
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import Item, Job, Library, Run
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import change_state, create_run, retry_failed
from plumcrate.worker.feeding import feed

NOON = datetime(2026, 6, 1, 12, 0, tzinfo=UTC)


@pytest.fixture
def filled(database: Database) -> Database:
    add_library(database, Path("/l"))
    add_pictures(database, 4)
    return database


def start(database: Database, **options: Any) -> int:
    with database.begin() as session:
        library = session.get_one(Library, 1)
        return create_run(session, library, RunRequest(library="l"), **options).id


def one_round(database: Database, **options: Any) -> None:
    with database.begin() as session:
        feed(session, Queue(database.url), 2, NOON, **options)


def queued(database: Database, run_id: int) -> int:
    with database.begin() as session:
        return session.scalar(select(func.count()).where(Item.run_id == run_id, Item.state == "queued")) or 0


@pytest.mark.parametrize("options", [{}, {"priority": NEW_UPLOAD}])
def test_a_run_waits_while_the_folder_is_away_and_says_why(filled: Database, options: dict[str, int]) -> None:
    run_id = start(filled, **options)
    one_round(filled, away={1: "the folder /l is not there"})
    assert queued(filled, run_id) == 0
    with filled.begin() as session:
        assert session.get_one(Run, run_id).waits_for == "the folder /l is not there"
    one_round(filled)
    assert queued(filled, run_id) == 4
    with filled.begin() as session:
        assert session.get_one(Run, run_id).waits_for is None


def test_a_schedule_that_never_comes_stops_nobody(filled: Database) -> None:
    """As a former version took it."""
    with filled.begin() as session:
        session.get_one(Library, 1).automation = Automation().model_dump(mode="json") | {
            "run_schedule": "0 0 30 2 *",
            "survey_schedule": "nonsense",
        }
        from plumcrate.contract.recipes import RecipeSettings

        other = new_library(session, "other", "O", "/o", [], RecipeSettings(), "tests")
        other.automation = Automation(run_schedule="0 * * * *").model_dump(mode="json")
    one_round(filled)
    with filled.begin() as session:
        assert session.scalars(select(Library.next_run_at).where(Library.slug == "other")).one() is not None
    run_id = start(filled)
    one_round(filled)
    assert queued(filled, run_id) == 4


def test_a_check_knows_its_job_and_is_not_queued_twice(filled: Database) -> None:
    with filled.begin() as session:
        row = jobs.start(
            session, Queue(filled.url), session.get_one(Library, 1), JobKind.CHECK, CheckRequest()
        )
        assert row.queued_id is not None
    for _ in range(3):
        one_round(filled)
    with filled.begin() as session:
        from sqlalchemy import text

        assert session.execute(text("SELECT count(*) FROM procrastinate_jobs")).scalar_one() == 1
        session.execute(update(Job).values(state=JobState.STOPPED))
    one_round(filled)


def test_a_run_that_was_stopped_is_not_revived_and_a_proof_is_made_anew(filled: Database) -> None:
    run_id = start(filled)
    with filled.begin() as session:
        run = session.get_one(Run, run_id)
        session.execute(update(Item).values(state=ItemState.FAILED, finished_at=func.now()))
        run.failed, run.proof, run.state = 4, {"verdict": "complete"}, RunState.FINISHED
        assert retry_failed(session, run) == 4
        session.refresh(run)
        assert (run.state, run.proof) == (RunState.RUNNING, None)
        change_state(session, run, "stop")
        with pytest.raises(Refusal, match="stopped for good"):
            retry_failed(session, run)
