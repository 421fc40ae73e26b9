"""What is too large for one machine: told, left alone, and taken by a machine that takes larger ones."""

from __future__ import annotations

from pathlib import Path

import pytest
from sqlalchemy import delete
from walk import Box, Walk, pools

from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import ItemState, RunRequest
from plumcrate.deciding.decision import key_of
from plumcrate.deciding.planning import effect
from plumcrate.imaging import Limits, Recipe
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Item, Library, WorkerRow
from plumcrate.runs.runs import create_run
from plumcrate.settings import Settings
from plumcrate.worker.engine import Engine


@pytest.fixture
def walk(database: Database, tmp_path: Path) -> Walk:
    return Walk(database, tmp_path)


def small_machine(walk: Walk) -> Engine:
    """An engine for pictures of at most 0.1 megapixels; the walk's has 0.27."""
    settings = Settings(
        database_url=walk.database.url, state_dir=walk.engine.settings.state_dir, max_megapixels=0.1
    )
    box = Box(settings.most_pixels)
    return Engine(settings, walk.database, pools(box))


def worker(walk: Walk, engine: Engine) -> None:
    """The record of a worker with an engine's limits, the only one."""
    with walk.database.begin() as session:
        session.execute(delete(WorkerRow))
        session.add(
            WorkerRow(
                id="w",
                host="h",
                pid=1,
                children=1,
                version="0",
                most_pixels=engine.settings.most_pixels,
                most_bytes=engine.settings.most_bytes,
            )
        )


def untreated(walk: Walk) -> int:
    """How many files a run would take in."""
    with walk.database.begin() as session:
        outlook = effect(session, session.get_one(Library, 1), RecipeSettings())
        return outlook.new + outlook.again


def test_a_picture_too_large_for_one_machine_is_taken_by_a_larger_one(walk: Walk) -> None:
    large, walk.engine = walk.engine, small_machine(walk)
    worker(walk, walk.engine)
    walk.arrive()
    ended = walk.turn()
    assert (ended.state, ended.code) == (ItemState.FAILED, "too-large")
    assert walk.file().state == FileState.UNREADABLE
    assert (walk.root / "a.jpg").read_bytes() == walk.data
    assert untreated(walk) == 0, "the same machine does not try it again and again"

    worker(walk, large)
    assert untreated(walk) == 1
    with walk.database.begin() as session:
        session.execute(delete(Item))
        create_run(session, session.get_one(Library, 1), RunRequest(library="l"))
    walk.engine = large
    assert walk.turn().state == ItemState.DONE
    assert walk.file().state == FileState.LIGHTER
    assert untreated(walk) == 0


def test_a_file_of_too_many_bytes_is_left_alone_until_a_machine_takes_it(walk: Walk) -> None:
    large = walk.engine
    small = Settings(database_url=walk.database.url, state_dir=large.settings.state_dir, max_file_mb=1)
    walk.engine = Engine(small, walk.database, pools(walk.box))
    worker(walk, walk.engine)
    walk.data += bytes(1_000_001)
    walk.arrive()
    ended = walk.turn()
    assert (ended.state, walk.file().state) == (ItemState.PASSED, FileState.LEFT_ALONE)
    assert "treated here" in str(ended.reason)
    assert walk.box.asked == [], "and was not read"
    assert untreated(walk) == 0
    worker(walk, large)
    assert untreated(walk) == 1


def test_a_changed_limit_treats_nothing_again(walk: Walk) -> None:
    worker(walk, walk.engine)
    walk.arrive()
    walk.turn()
    assert walk.turn().state == ItemState.DONE
    for engine in (walk.engine, small_machine(walk)):
        worker(walk, engine)
        assert untreated(walk) == 0
    assert not {"limits", "pixels"} & set(walk.file().recipe or {})
    assert "limits" not in key_of(Recipe())


@pytest.mark.parametrize("most", [1_000_000, 400_000_000])
def test_the_limit_of_a_treatment_holds_for_its_verifications_too(walk: Walk, most: int) -> None:
    box = Box(most)
    assert box.treat(walk.data, Recipe(), 0.3).main.size < len(walk.data)
    assert box.limits == Limits(most)


def test_what_is_known_of_files_says_nothing_of_machines(walk: Walk) -> None:
    walk.engine = small_machine(walk)
    walk.arrive()
    walk.turn()
    with walk.database.begin() as session:
        file = session.get_one(File, 1)
        assert file.recipe == key_of(Recipe()) | {"beyond": {"pixels": 100_000}}
