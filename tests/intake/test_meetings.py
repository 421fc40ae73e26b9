"""Two at once: what meets in the records must leave them as if one had come after the other."""

from __future__ import annotations

import os
import tempfile
import threading
import time
from collections.abc import Iterator
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import pytest
from conftest import add_library, photograph, surveyed
from sqlalchemy import select, text
from walk import Walk

from plumcrate.contract.jobs import JobState
from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import ItemState, RunRequest, RunState, Scope
from plumcrate.intake.reconciling import Reconciler
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.locks import PICTURE_LOCK
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Item, Library, Run
from plumcrate.runs.runs import create_run
from plumcrate.worker.feeding import feed

NOBODY = 65534


@pytest.fixture
def walk(database: Database, tmp_path: Path) -> Walk:
    return Walk(database, tmp_path)


def wait_until_one_waits_for_a_lock(database: Database) -> None:
    query = text(
        "SELECT count(*) FROM pg_stat_activity "
        "WHERE datname = current_database() AND wait_event_type = 'Lock'"
    )
    deadline = time.monotonic() + 120
    while time.monotonic() < deadline:
        with database.begin() as session:
            if session.scalar(query):
                return
        time.sleep(0.01)
    raise AssertionError("nobody waits")


def test_an_item_put_back_while_another_run_takes_it_over_stays_taken(walk: Walk) -> None:
    database = walk.database
    walk.arrive()
    with database.begin() as session:
        feed(session, Queue(database.url), 1)
    item = walk.item()
    assert item.state == ItemState.QUEUED
    with database.begin() as session:
        request = RunRequest(library="l", scope=Scope(pictures=[item.picture_id]))
        second = create_run(session, session.get_one(Library, 1), request)
        putting = threading.Thread(target=walk.engine.items.put_back, args=(item.id,))
        putting.start()
        wait_until_one_waits_for_a_lock(database)
    putting.join(20)
    with database.begin() as session:
        former = session.get_one(Item, item.id)
        assert (former.state, former.code) == (ItemState.PASSED, "taken-over")
        assert former.finished_at is not None
        run = session.get_one(Run, former.run_id)
        assert (run.passed, run.files) == (1, 1)
    with database.begin() as session:
        feed(session, Queue(database.url), 1)
    with database.begin() as session:
        assert session.get_one(Run, former.run_id).state == RunState.FINISHED, "the run ends"
        states = set(session.scalars(select(Item.state).where(Item.run_id == second.id)))
        assert states == {ItemState.QUEUED}


def treated(walk: Walk) -> dict[str, bytes]:
    """The library's files once its JPEG is light and has its copies."""
    walk.arrive()
    walk.turn()
    assert walk.turn().state == ItemState.DONE
    return {path.name: path.read_bytes() for path in walk.root.glob("a.jpg*")}


def reconciler(walk: Walk) -> Reconciler:
    return Reconciler(walk.database, walk.keeper, walk.library)


def test_a_file_that_came_after_the_folder_was_listed_is_not_gone(walk: Walk) -> None:
    before = treated(walk)
    assert len(before) == 3
    found = reconciler(walk).look({}, [""])  # a listing from before the upload, compared with today's records
    assert (found.gone, found.busy) == (0, [])
    assert {path.name: path.read_bytes() for path in walk.root.glob("a.jpg*")} == before
    assert walk.file().state == FileState.LIGHTER


def test_a_file_that_was_deleted_and_put_back_keeps_its_copies(walk: Walk) -> None:
    before = treated(walk)
    (walk.root / "a.jpg").unlink()
    assert reconciler(walk).look({}, [""]).gone == 1
    assert [path.name for path in walk.root.glob("a.jpg*")] == []
    (walk.root / "a.jpg").write_bytes(before["a.jpg"])
    listing = {entry.path: entry for entry in walk.keeper.store.list("").files}
    reconciler(walk).look(listing, [""])
    assert walk.file().state != FileState.GONE
    with walk.database.begin() as session:
        run = create_run(session, session.get_one(Library, 1), RunRequest(library="l"))
        assert run.files == 1, "its copies come back with the next run"
        session.execute(text("DELETE FROM run_items WHERE run_id != :run"), {"run": run.id})
    walk.turn()
    walk.turn()
    assert {path.name: path.read_bytes() for path in walk.root.glob("a.jpg*")} == before


def test_a_file_whose_picture_is_in_hand_is_looked_at_later(walk: Walk) -> None:
    treated(walk)
    (walk.root / "a.jpg").unlink()
    with walk.database.advisory_lock(PICTURE_LOCK, walk.file().picture_id) as free:
        assert free
        found = reconciler(walk).look({}, [""])
    assert (found.gone, found.busy) == (0, ["a.jpg"])
    assert reconciler(walk).look({}, [""]).gone == 1


def test_an_upload_while_a_survey_lists_is_recorded_once(walk: Walk) -> None:
    listing = {entry.path: entry for entry in walk.keeper.store.list("").files}
    walk.arrive()
    walk.keeper.upload("b.jpg", walk.data + b"\0", ChangeNote(detail={"by": "tests"}))
    reconciler(walk).look(listing, [""])
    reconciler(walk).look({"b.jpg": None, "a.jpg": None})
    with walk.database.begin() as session:
        assert sorted(session.scalars(select(File.path))) == ["a.jpg", "b.jpg"]


# -- a service that may not read everything ------------------------------------------------------


@pytest.fixture
def open_to_all() -> Iterator[Path]:
    """A folder below which another user may go."""
    with tempfile.TemporaryDirectory() as name:
        Path(name).chmod(0o777)
        yield Path(name)


def _survey_as_nobody(url: str, state: str, answer: Any) -> None:
    """In a process of its own, since there is no way back to root."""
    if os.geteuid() == 0:
        os.setgroups([])
        os.setgid(NOBODY)
        os.setuid(NOBODY)
    database = Database(url)
    with database.begin() as session:
        library = session.get_one(Library, 1)
    report = surveyed(database, Keeper.of(database, library, StateFolder(database, Path(state))))
    answer.put((str(report.state), report.files_new, report.files_gone, list(report.notes)))
    database.close()


def test_what_may_not_be_read_is_told_and_never_taken_for_gone(database: Database, open_to_all: Path) -> None:
    root = open_to_all / "library"
    for name in ("open.jpg", "shut.jpg", "below/inside.jpg"):
        photograph(root / name)
    for folder in (root, root / "below"):
        folder.chmod(0o755)
    add_library(database, root)
    with database.begin() as session:
        library = session.get_one(Library, 1)
    first = surveyed(database, Keeper.of(database, library, StateFolder(database, open_to_all / "state")))
    assert (first.state, first.files_new) == (JobState.FINISHED, 3)

    photograph(root / "later.jpg", seed=4)
    for path in (root / "shut.jpg", root / "later.jpg", root / "below"):
        path.chmod(0)
    forked = get_context("fork")
    answer = forked.Queue()
    child = forked.Process(target=_survey_as_nobody, args=(database.url, str(open_to_all / "state"), answer))
    child.start()
    state, _, gone, notes = answer.get(timeout=240)
    child.join(20)
    assert (state, gone) == ("finished", 0)
    with database.begin() as session:
        files = {file.path: file.state for file in session.scalars(select(File))}
    assert {files[name] for name in ("open.jpg", "shut.jpg", "below/inside.jpg")} == {FileState.NEW}
    said = " ".join(notes)
    assert "below" in said
    assert "later.jpg" in said or files.get("later.jpg") == FileState.UNREADABLE
    (root / "below").chmod(0o755)
    for path in (root / "shut.jpg", root / "later.jpg"):
        path.chmod(0o644)
    last = surveyed(database, Keeper.of(database, library, StateFolder(database, open_to_all / "state")))
    assert last.files_gone == 0
    with database.begin() as session:
        assert len(session.scalars(select(File)).all()) == 4
