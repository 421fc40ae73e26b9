"""What only grows gets a term: items of old runs, and backups of libraries that were disconnected."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

import pytest
from conftest import add_library, add_pictures
from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from plumcrate.contract.runs import RunRequest
from plumcrate.intake.connecting import disconnect
from plumcrate.jobs.maintenance import Retention, forget_items
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Item, LeftStore, Library, Run
from plumcrate.runs.runs import create_run
from plumcrate.settings import Settings
from plumcrate.storage.errors import NotThere


@pytest.fixture
def state(database: Database, tmp_path: Path) -> StateFolder:
    found = StateFolder(database, tmp_path / "state")
    (tmp_path / "state").mkdir()
    found.check()
    return found


@pytest.fixture
def retention(database: Database, state: StateFolder) -> Retention:
    return Retention(database, state, Settings(database_url=database.url, state_dir=state.path))


def items_of_runs(session: Session) -> dict[int, int]:
    """How many items each run has."""
    query = select(Item.run_id, func.count()).group_by(Item.run_id)
    return dict(session.execute(query).all())


def test_items_of_runs_that_ended_long_ago_are_forgotten_and_their_sums_stay(database: Database) -> None:
    add_library(database, Path("/l"))
    add_pictures(database, 3)
    with database.begin() as session:
        library = session.get_one(Library, 1)
        request = RunRequest(library="l", force=True)
        old, fresh, going = (create_run(session, library, request) for _ in range(3))
        session.execute(update(Item).where(Item.run_id != going.id).values(finished_at=func.now()))
        for run, days in ((old, 181), (fresh, 179)):
            run.state, run.finished_at, run.done = "finished", func.now() - timedelta(days=days), 3
    with database.begin() as session:
        counted = items_of_runs(session)
        assert forget_items(session, 180) == counted.get(old.id, 0) > 0
    with database.begin() as session:
        assert items_of_runs(session) == {run: count for run, count in counted.items() if run != old.id}
        assert session.get_one(Run, old.id).done == 3


def left_store(database: Database, state: StateFolder, slug: str, days: int) -> Path:
    """The store of a disconnected library."""
    folder = state.backups_of(slug)
    (folder / "ab").mkdir(parents=True)
    (folder / "ab" / "abcd").write_bytes(b"an original")
    with database.begin() as session:
        session.add(LeftStore(slug=slug, left_at=func.now() - timedelta(days=days)))
    return folder


def slugs(database: Database) -> set[str]:
    with database.begin() as session:
        return set(session.scalars(select(LeftStore.slug)))


def test_backups_of_a_library_that_was_disconnected_go_after_their_term(
    database: Database, state: StateFolder, retention: Retention
) -> None:
    old, fresh = (left_store(database, state, slug, days) for slug, days in (("old", 91), ("fresh", 89)))
    assert retention.clear_left_stores(reporting=True) == 0
    assert old.exists(), "the first look after a start only tells"
    assert retention.clear_left_stores(reporting=False) == 1
    assert not old.exists()
    assert (fresh / "ab" / "abcd").read_bytes() == b"an original"
    assert slugs(database) == {"fresh"}


def test_a_store_that_a_library_uses_again_stays(
    database: Database, state: StateFolder, retention: Retention
) -> None:
    add_library(database, Path("/l"))
    folder = left_store(database, state, "l", 1000)
    assert retention.clear_left_stores(reporting=False) == 0
    assert folder.exists()


def test_nothing_is_cleared_while_the_state_folder_is_away(
    database: Database, state: StateFolder, retention: Retention, tmp_path: Path
) -> None:
    left_store(database, state, "old", 91)
    (tmp_path / "state").rename(tmp_path / "elsewhere")
    (tmp_path / "state").mkdir()
    with pytest.raises(NotThere):
        retention.clear_left_stores(reporting=False)
    assert slugs(database) == {"old"}
    assert (tmp_path / "elsewhere/backups/old/ab/abcd").exists()


def test_disconnecting_begins_the_term_and_connecting_again_ends_it(
    database: Database, state: StateFolder, tmp_path: Path
) -> None:
    (tmp_path / "l").mkdir()
    add_library(database, tmp_path / "l")
    with database.begin() as session:
        session.add(Backup(library_id=1, sha256=b"x" * 32, size=1, path="a.jpg"))
    with database.begin() as session:
        disconnect(session, session.get_one(Library, 1), state)
    assert slugs(database) == {"l"}
    add_library(database, tmp_path / "l")
    with database.begin() as session:
        assert session.scalar(select(func.count()).select_from(LeftStore)) == 0


def test_a_look_is_taken_once_an_hour(database: Database, state: StateFolder, retention: Retention) -> None:
    folder = left_store(database, state, "old", 91)
    looked: list[str] = []

    def keeper_of(library: Library) -> Keeper:
        looked.append(library.slug)
        return Keeper.of(database, library, state)

    add_library(database, Path("/l"))
    with database.begin() as session:
        libraries = list(session.scalars(select(Library)))
    for _ in range(3):
        retention.tend(keeper_of, libraries)
    assert looked == ["l"]
    assert folder.exists()
