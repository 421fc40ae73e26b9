"""A full disk: it is said, nothing is lost or spent on it, and work goes on as soon as there is room."""

from __future__ import annotations

import os
from pathlib import Path
from types import SimpleNamespace

import pytest
import structlog
from sqlalchemy import func, select
from walk import Walk

from plumcrate.contract.runs import ItemState
from plumcrate.records.database import Database
from plumcrate.records.tables import Item, Library
from plumcrate.runs.faults import ROOM_SECONDS
from plumcrate.storage.errors import StorageError
from plumcrate.worker.disk_space import DiskSpace

LIBRARY = Library(id=1, slug="ledge", root="/ledge")


@pytest.fixture
def free(monkeypatch: pytest.MonkeyPatch) -> dict[str, int]:
    """What is free on each disk, in bytes."""
    found = {"/ledge": 10**9, "/state": 10**9}

    def statvfs(place: str) -> SimpleNamespace:
        return SimpleNamespace(f_bavail=found[place], f_frsize=1)

    monkeypatch.setattr(os, "statvfs", statvfs)
    return found


def test_a_library_waits_until_its_disk_has_room(free: dict[str, int]) -> None:
    now = 0.0
    room = DiskSpace(Path("/state"), clock=lambda: now)
    assert room.lacking(LIBRARY) is None
    free["/state"] = 1_000
    with structlog.testing.capture_logs() as said:
        for _ in range(3):
            room.ran_out(LIBRARY, 5_000_000)
    assert [(one["log_level"], one["library"]) for one in said] == [("warning", "ledge")], (
        "once, not for each"
    )
    now = 1_000.0
    assert "/state is full" in (room.lacking(LIBRARY) or "")
    free["/state"] = 30_000_000
    assert "free 36" in (room.lacking(LIBRARY) or ""), "not enough for that file and what is made of it"
    free["/state"] = 10**8
    assert room.lacking(LIBRARY) is None


def test_a_quota_that_nobody_tells_of_is_tried_again_after_a_while(free: dict[str, int]) -> None:
    now = 0.0
    room = DiskSpace(Path("/state"), clock=lambda: now)
    room.ran_out(LIBRARY, 1)
    assert room.lacking(LIBRARY) is not None
    now = ROOM_SECONDS + 1
    assert room.lacking(LIBRARY) is None
    assert ROOM_SECONDS < 15


def test_what_could_not_be_written_waits_however_often_and_is_done_then(
    database: Database, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    walk = Walk(database, tmp_path)
    walk.arrive()

    def full(*_: object, **__: object) -> None:
        raise StorageError("disk-full", "the disk is full; nothing was changed at a.jpg: free some space")

    with monkeypatch.context() as broken:
        broken.setattr("plumcrate.keeping.keeper.Keeper.replace", full)
        for _ in range(6):
            item = walk.turn()
            assert (item.state, item.tries, item.attempts) == (ItemState.WAITING, 0, 0)
            assert "the disk is full" in (item.reason or "")
            with database.begin() as session:
                left = func.extract("epoch", Item.not_before - func.now())
                assert float(session.scalar(select(left)) or 0) <= 15
                session.scalars(select(Item)).one().not_before = None
    assert walk.engine.why_away(walk.library) is not None
    assert (tmp_path / "library/a.jpg").read_bytes() == walk.data
    walk.turn()
    assert walk.turn().state == ItemState.DONE
