"""The feeder and the counters, without any worker: what is queued when, and that the sums stay true."""

from datetime import UTC, datetime
from pathlib import Path

import pytest
from conftest import add_library
from sqlalchemy import func, select, text

from plumcrate.contract.pictures import FileRole, FileState
from plumcrate.contract.runs import ItemState, RunKind, RunRequest, RunState, Scope
from plumcrate.queue.tasks import SINGLE_REQUEST, Queue
from plumcrate.records.database import Database
from plumcrate.records.queries.runs import end_item, run_view
from plumcrate.records.queries.savings import savings
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.tables import Derived, File, Item, Journal, Library, Picture, Run, WorkerRow
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import change_state, create_run, retry_failed
from plumcrate.worker.feeding import feed

PICTURES, RENDITIONS = 30, 2


@pytest.fixture
def filled(database: Database) -> Database:
    add_library(database, Path("/l"))
    with database.begin() as session:
        for number in range(PICTURES):
            folder = str(number % 3)
            picture = Picture(library_id=1, path=f"{folder}/p{number:02d}.jpg", folder=folder, name="p")
            session.add(picture)
            session.flush()
            for size in range(1 + RENDITIONS):
                file = File(library_id=1, picture_id=picture.id, path=f"{folder}/p{number:02d}-{size}.jpg")
                file.role = FileRole.RENDITION if size else FileRole.ORIGINAL
                file.format, file.width, file.height = "jpeg", 1000, 1000
                file.size_before = file.size_now = 1000
                file.mtime_ns = file.mtime_ns_before = 1
                session.add(file)
        session.flush()
        refresh_pictures(session, list(range(1, PICTURES + 1)))
    return database


def start(database: Database, **options: object) -> int:
    with database.begin() as session:
        request = RunRequest(library="l", **options)
        return create_run(session, session.get_one(Library, 1), request).id


def counts(database: Database, run_id: int) -> dict[str, int]:
    with database.begin() as session:
        rows = session.execute(
            select(Item.state, func.count()).where(Item.run_id == run_id).group_by(Item.state)
        )
        return {str(state): count for state, count in rows}


def one_round(database: Database, children: int = 1) -> None:
    with database.begin() as session:
        feed(session, Queue(database.url), children)


def test_only_a_bounded_number_is_in_flight_and_pausing_takes_it_back(filled: Database) -> None:
    run_id = start(filled)
    files = PICTURES * (1 + RENDITIONS)
    assert counts(filled, run_id) == {"waiting": files}
    for _ in range(3):
        one_round(filled)
        assert counts(filled, run_id) == {"waiting": files - 4 * 3, "queued": 4 * 3}, (
            "four pictures of three files"
        )
    with filled.begin() as session:
        change_state(session, session.get_one(Run, run_id), "pause")
    assert counts(filled, run_id) == {"waiting": files}
    one_round(filled)
    assert counts(filled, run_id) == {"waiting": files}, "a paused run is not fed"
    with filled.begin() as session:
        change_state(session, session.get_one(Run, run_id), "resume")
    one_round(filled, children=2)
    assert counts(filled, run_id)["queued"] == 8 * 3


def test_what_a_vanished_job_left_goes_back_in_line(filled: Database) -> None:
    run_id = start(filled)
    one_round(filled)
    with filled.begin() as session:
        session.execute(text("UPDATE run_items SET state = 'working' WHERE state = 'queued'"))
        session.execute(text("DELETE FROM procrastinate_jobs"))
    one_round(filled)
    assert counts(filled, run_id) == {"waiting": 78, "queued": 12}


def test_counters_failures_and_another_try(filled: Database) -> None:
    run_id = start(filled, scope=Scope(folder="1"))
    with filled.begin() as session:
        items = list(session.scalars(select(Item).where(Item.run_id == run_id).order_by(Item.id)))
        assert len(items) == 30
        for number, item in enumerate(items):
            item.bytes_before, item.bytes_after, item.bytes_lightest = 1000, 600, 400
            state = (ItemState.FAILED, ItemState.PASSED, ItemState.DONE)[number % 3]
            end_item(session, item, state, datetime.now(UTC))
    one_round(filled)
    with filled.begin() as session:
        run = session.get_one(Run, run_id)
        view = run_view(session, run)
        assert (view.state, view.done, view.passed, view.failed, view.left) == (
            RunState.FINISHED,
            10,
            10,
            10,
            0,
        )
        assert view.bytes_before == 30_000
        assert retry_failed(session, run) == 10
    with filled.begin() as session:
        view = run_view(session, session.get_one(Run, run_id))
        assert (view.state, view.failed, view.left, view.bytes_before) == (RunState.RUNNING, 0, 10, 20_000)
        assert view.megapixels_done == pytest.approx(20.0)
        run = session.get_one(Run, run_id)
        waiting = select(Item).where(Item.run_id == run_id, Item.state == ItemState.WAITING).limit(1)
        item = session.scalars(waiting).one()
        end_item(session, item, ItemState.FAILED, datetime.now(UTC))
        change_state(session, run, "pause")
        assert retry_failed(session, run) == 1
        assert session.get_one(Run, run_id, populate_existing=True).state == RunState.PAUSED, (
            "it stays asleep"
        )
        change_state(session, run, "resume")
    everything = start(filled)
    with filled.begin() as session:
        assert session.get_one(Run, everything).elsewhere == 10, "what an open run has left stays with it"
    assert counts(filled, everything) == {"waiting": 80}


def test_scopes_and_kinds(filled: Database) -> None:
    assert counts(filled, start(filled, kind=RunKind.RESTORE)) == {}, (
        "nothing was treated, nothing to restore"
    )
    few = start(filled, scope=Scope(pictures=[1, 2]))
    assert counts(filled, few) == {"waiting": 6}
    with filled.begin() as session:
        assert session.get_one(Run, few).priority > 0, "a small request goes before bulk"
        change_state(session, session.get_one(Run, few), "stop")
        with pytest.raises(Refusal, match="start a new one"):
            change_state(session, session.get_one(Run, few), "resume")
    assert counts(filled, start(filled, scope=Scope(folder="nowhere"))) == {}


def test_sums_count_files_and_pictures_apart(filled: Database) -> None:
    with filled.begin() as session:
        file = session.get_one(File, 1)
        file.size_now, file.state, file.score, file.treated_at = 700, "lighter", 81.5, datetime.now(UTC)
        session.add(
            Derived(
                library_id=1, file_id=1, purpose="copy", format="avif", path="x.avif", size=300, sha256=b""
            )
        )
        session.get_one(File, 2).state = "gone"
        session.get_one(File, 6).state, session.get_one(File, 6).reason = "failed", "it hung"
        session.flush()
        refresh_pictures(session, [1, 2])
        session.expire_all()
        first, second = session.get_one(Picture, 1), session.get_one(Picture, 2)
        assert (first.files, first.bytes_before, first.bytes_now, first.bytes_lightest) == (
            2,
            2000,
            1700,
            1300,
        )
        assert (first.state, first.score) == ("new", 81.5), "one of its files is still new"
        assert (second.state, second.reason) == ("failed", "it hung")
        found = savings(session, session.get_one(Library, 1))
        assert (found.pictures, found.total.files, found.copies) == (PICTURES, 89, 1)
        assert found.total.bytes_now == 88_700
        assert (found.treated.files, found.treated.bytes_lightest) == (1, 300)
        assert {slat.name: slat.files for slat in found.by_role} == {"original": 30, "rendition": 59}
        assert sum(slat.files for slat in found.by_folder) == 89
        assert [slat.files for slat in found.by_month] == [1]


def test_a_bulk_run_says_by_what_it_is_held_back(filled: Database) -> None:
    run_id = start(filled)
    said = "other programs of this machine: it gets 0.2 of 2 processors"
    with filled.begin() as session:
        session.add(
            WorkerRow(
                id="ledge:1",
                host="ledge",
                pid=1,
                children=2,
                version="0",
                most_pixels=1,
                most_bytes=1,
                loops={},
                held_back=said,
            )
        )
        run = session.get_one(Run, run_id)
        assert run_view(session, run).held_back is None, "nothing is in hand"
        session.scalars(select(Item).limit(1)).one().state = ItemState.WORKING
        session.flush()
        assert run_view(session, run).held_back == said
        run.priority = SINGLE_REQUEST
        assert run_view(session, run).held_back is None, "what a person waits for is not"


def test_a_hand_back_stops_other_runs_and_waits_for_what_is_in_hand(filled: Database) -> None:
    treating = start(filled)
    with filled.begin() as session:
        item = session.scalars(select(Item).where(Item.run_id == treating).order_by(Item.id).limit(1)).one()
        item.state = ItemState.WORKING
        in_hand = item.file_id
    back = start(filled, kind=RunKind.HAND_BACK, confirm="l")
    with filled.begin() as session:
        assert session.get_one(Run, treating).state == RunState.STOPPED
        assert session.scalars(select(Item.file_id).where(Item.run_id == back)).all() == [in_hand]


def test_a_hand_back_takes_along_what_is_just_being_made_for_a_size(filled: Database) -> None:
    """A worker died between making a file and recording it, or makes one now, of a size that was removed."""
    treating, being_made = start(filled), []
    with filled.begin() as session:
        for name in ("left-by-a-dead-worker", "in-hand", "never-made"):
            file = File(
                library_id=1,
                picture_id=1,
                path=f"0/{name}.jpg",
                state=FileState.GONE,
                size_name="card",
                unwanted=True,
                size_before=0,
                size_now=0,
                mtime_ns=0,
                mtime_ns_before=0,
            )
            session.add(file)
            session.flush()
            being_made.append(file.id)
        dead, working, _ = being_made
        session.add(
            Journal(library_id=1, file_id=dead, action="size", path="0/left-by-a-dead-worker.jpg", staged="")
        )
        item = session.scalars(select(Item).where(Item.run_id == treating).order_by(Item.id).limit(1)).one()
        item.state, item.file_id = ItemState.WORKING, working
    start(filled)
    with filled.begin() as session:
        left = set(session.scalars(select(File.id).where(File.size_name == "card")))
        assert left == {dead, working}, "what is being made keeps its row; the other is forgotten"
    back = start(filled, kind=RunKind.HAND_BACK, confirm="l")
    with filled.begin() as session:
        assert set(session.scalars(select(Item.file_id).where(Item.run_id == back))) == {dead, working}
