"""When runs work: hours, shares, schedules, retries, and who goes first."""

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from conftest import add_library, add_pictures
from sqlalchemy import func, select, text

from plumcrate.contract.automation import Automation
from plumcrate.contract.runs import RunOrigin, RunRequest, RunState
from plumcrate.queue.tasks import BULK, NEW_UPLOAD, Queue
from plumcrate.records.database import Database
from plumcrate.records.tables import Item, Job, Library, Run
from plumcrate.runs.runs import create_run
from plumcrate.worker.feeding import feed

PICTURES = 12


@pytest.fixture
def filled(database: Database) -> Database:
    add_library(database, Path("/l"))
    add_pictures(database, PICTURES)
    return database


def keep(database: Database, **automation: Any) -> None:
    with database.begin() as session:
        session.get_one(Library, 1).automation = Automation(**automation).model_dump(mode="json")


def bulk(database: Database, priority: int = BULK, **options: Any) -> int:
    with database.begin() as session:
        library = session.get_one(Library, 1)
        return create_run(session, library, RunRequest(library="l", **options), priority=priority).id


def one_round(database: Database, now: datetime, children: int = 2) -> None:
    with database.begin() as session:
        feed(session, Queue(database.url), children, now)


def queued(database: Database, run_id: int) -> int:
    with database.begin() as session:
        return session.scalar(select(func.count()).where(Item.run_id == run_id, Item.state == "queued")) or 0


AT_NOON = datetime(2026, 6, 1, 12, 0, tzinfo=UTC)


@pytest.mark.parametrize(
    ("hours", "zone", "now", "works"),
    [
        (["22:00-06:00"], "UTC", AT_NOON, False),
        (["22:00-06:00"], "UTC", AT_NOON.replace(hour=23), True),
        (["22:00-06:00"], "UTC", AT_NOON.replace(hour=5), True),
        (["13:30-14:30"], "Europe/Berlin", AT_NOON, True),
        (["01:00-02:00", "12:00-24:00"], "UTC", AT_NOON, True),
        ([], "UTC", AT_NOON, True),
    ],
)
def test_bulk_waits_for_its_hours_and_a_single_request_does_not(
    filled: Database, hours: list[str], zone: str, now: datetime, works: bool
) -> None:
    keep(filled, hours=hours, time_zone=zone)
    run_id = bulk(filled)
    one_round(filled, now)
    assert queued(filled, run_id) == (8 if works else 0)
    with filled.begin() as session:
        assert (session.get_one(Run, run_id).waits_for is None) is works
    if not works:
        urgent = bulk(filled, priority=NEW_UPLOAD)
        one_round(filled, now)
        assert queued(filled, urgent) == 8
        one_round(filled, now.replace(hour=23))
        with filled.begin() as session:
            assert session.get_one(Run, run_id).state == RunState.FINISHED, "its files were taken over"


def test_a_share_of_the_machine_is_kept(filled: Database) -> None:
    keep(filled, share=50)
    run_id = bulk(filled)
    one_round(filled, AT_NOON, children=4)
    assert queued(filled, run_id) == 2, "half of four children, none waiting behind"


def test_schedules_start_once_for_each_time_and_missed_times_count_once(filled: Database) -> None:
    keep(filled, run_schedule="30 2 * * *", survey_schedule="0 * * * *", time_zone="Europe/Berlin")
    one_round(filled, AT_NOON)
    with filled.begin() as session:
        library = session.get_one(Library, 1)
        assert library.next_run_at == datetime(2026, 6, 2, 0, 30, tzinfo=UTC), "half past two in Berlin"
        assert session.scalar(select(func.count()).select_from(Run)) == 0
    later = AT_NOON + timedelta(days=3)
    for _ in range(3):
        one_round(filled, later)
    with filled.begin() as session:
        runs = session.scalars(select(Run)).all()
        assert [run.origin for run in runs] == [RunOrigin.SCHEDULE]
        assert session.scalar(select(func.count()).select_from(Job)) == 1


def test_a_clock_that_was_far_ahead_does_not_stop_schedules_for_ever(filled: Database) -> None:
    keep(filled, run_schedule="0 3 * * *")
    one_round(filled, AT_NOON.replace(year=2096))
    one_round(filled, AT_NOON)
    with filled.begin() as session:
        following = session.get_one(Library, 1).next_run_at
        assert following is not None
        assert following < AT_NOON + timedelta(days=1)


def test_what_is_to_be_tried_again_waits_for_its_time(filled: Database) -> None:
    run_id = bulk(filled)
    with filled.begin() as session:
        session.execute(
            text("UPDATE run_items SET not_before = now() + interval '1 hour' WHERE picture_id <> 3")
        )
    one_round(filled, AT_NOON)
    assert queued(filled, run_id) == 1
    with filled.begin() as session:
        session.execute(text("UPDATE run_items SET state = 'done', finished_at = now() WHERE picture_id = 3"))
    one_round(filled, AT_NOON)
    with filled.begin() as session:
        assert session.get_one(Run, run_id).state == RunState.RUNNING, "it is not over while some wait"
        session.execute(text("UPDATE run_items SET not_before = now() - interval '1 second'"))
    one_round(filled, AT_NOON)
    assert queued(filled, run_id) == 8


def test_copies_of_an_upload_wait_behind_other_uploads(filled: Database) -> None:
    bulk(filled, priority=NEW_UPLOAD)
    with filled.begin() as session:
        session.execute(text("UPDATE run_items SET stage = 1 WHERE picture_id <= 2"))
    one_round(filled, AT_NOON)
    with filled.begin() as session:
        lanes = session.execute(
            text("SELECT queue_name, priority, count(*) FROM procrastinate_jobs GROUP BY 1, 2 ORDER BY 1")
        ).all()
    assert [tuple(row) for row in lanes] == [("default", 15, 2), ("express", NEW_UPLOAD, 6)]
