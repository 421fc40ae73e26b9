"""What a worker does again and again goes on after faults, more slowly, and the doctor is told."""

import asyncio
import threading
import time
from collections.abc import Callable
from pathlib import Path

import psycopg
from conftest import add_library, wait_for
from sqlalchemy import func

from plumcrate.contract.automation import Automation
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.diagnostics.machine import _loops
from plumcrate.intake.watching import Watcher
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.locks import WATCH_LOCK
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database, HeldLocks, notify
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import Library, WorkerRow
from plumcrate.worker.loops import Loop, listen


class Away(Exception):
    pass


def never(_: BaseException) -> bool:
    return False


def test_a_fault_of_one_round_costs_time_and_nothing_else() -> None:
    rounds: list[int] = []

    def work() -> None:
        rounds.append(len(rounds))
        if len(rounds) <= 3:
            raise ZeroDivisionError("in the third line")

    loop = Loop("feeding", work, 0.5, never)
    pauses = []
    for _ in range(5):
        asyncio.run(loop.turn())
        pauses.append(loop.pause)
    assert pauses == [1.0, 2.0, 4.0, 0.5, 0.5]
    assert (loop.failures, loop.said) == (0, None)
    loop.close()


def test_a_fault_that_lasts_is_told_and_never_waits_longer_than_a_minute() -> None:
    def work() -> None:
        raise ZeroDivisionError("still")

    loop = Loop("taking in", work, 0.5, never)
    for _ in range(12):
        asyncio.run(loop.turn())
    assert loop.pause == 60.0
    report = loop.report()
    assert (report["failures"], report["said"]) == (12, "ZeroDivisionError: still")
    assert report["since"] is not None
    loop.close()


def test_a_database_that_is_away_is_waited_for_and_is_no_fault() -> None:
    rounds: list[int] = []

    def work() -> None:
        rounds.append(len(rounds))
        if len(rounds) <= 20:
            raise Away

    loop = Loop("looking after", work, 60.0, lambda error: isinstance(error, Away))
    for _ in range(20):
        asyncio.run(loop.turn())
        assert (loop.failures, loop.pause) == (0, 1.0), "soon, however seldom it is done else"
    asyncio.run(loop.turn())
    assert loop.pause == 60.0
    loop.close()


def test_a_loop_with_nothing_to_do_waits_to_be_told() -> None:
    rounds: list[str] = []

    async def go() -> None:
        loop = Loop("feeding", lambda: rounds.append("turn") is not None, 0.01, never, idle=600.0)
        running = asyncio.create_task(loop.run())
        await until(lambda: len(rounds) == 1)
        assert loop.pause == 600.0
        for number in range(2, 5):
            loop.wake()
            await until(lambda number=number: len(rounds) == number)  # type: ignore[misc]
        running.cancel()
        await asyncio.gather(running, return_exceptions=True)
        loop.close()

    asyncio.run(go())
    assert len(rounds) == 4


async def until(condition: Callable[[], bool]) -> None:
    async with asyncio.timeout(100):
        while not condition():
            await asyncio.sleep(0.01)


def test_whatever_the_database_tells_of_wakes_loops(database: Database) -> None:
    async def go() -> None:
        loop = Loop("feeding", lambda: False, 0.01, never, idle=600.0)
        listening = asyncio.create_task(listen(database.url, [loop]))
        await until(loop._woken.is_set)  # whatever was told before it listened
        loop._woken.clear()
        with database.begin() as session:
            notify(session, run=1)
        await until(loop._woken.is_set)
        # A connection that is cut off is made anew, and what was told meanwhile is looked for.
        loop._woken.clear()
        with psycopg.connect(database.url, autocommit=True) as other:
            other.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                "WHERE datname = current_database() AND query LIKE 'LISTEN%'"
            )
        await until(loop._woken.is_set)
        listening.cancel()
        await asyncio.gather(listening, return_exceptions=True)
        loop.close()

    asyncio.run(go())


def test_loops_have_threads_of_their_own() -> None:
    """One that hangs, and jobs that use up all the others' threads, keep none from its turn."""
    names: set[str] = set()
    held = threading.Event()
    turns = {"hanging": 0, "feeding": 0}

    def hang() -> None:
        turns["hanging"] += 1
        held.wait(120)

    def feed() -> None:
        names.add(threading.current_thread().name.rpartition("_")[0])
        turns["feeding"] += 1

    async def go() -> None:
        hanging, feeding = Loop("hanging", hang, 0.01, never), Loop("feeding", feed, 0.01, never)
        busy = [asyncio.create_task(asyncio.to_thread(held.wait, 120)) for _ in range(64)]
        tasks = [asyncio.create_task(loop.run()) for loop in (hanging, feeding)]
        deadline = time.monotonic() + 100
        while turns["feeding"] < 5 and time.monotonic() < deadline:
            await asyncio.sleep(0.01)
        held.set()
        for task in tasks:
            task.cancel()
        await asyncio.gather(*busy, *tasks, return_exceptions=True)
        hanging.close()
        feeding.close()

    asyncio.run(go())
    assert turns["feeding"] >= 5
    assert turns["hanging"] == 1
    assert names == {"feeding"}


def test_the_doctor_tells_of_a_loop_that_fails(database: Database) -> None:
    report = {"failures": 7, "said": "OSError: the disk", "since": "2026-01-01T00:00:00"}
    with database.begin() as session:
        loops = {"feeding": report, "taking in": {"failures": 0, "said": None, "since": None}}
        session.add(
            WorkerRow(id="w", host="rock", pid=1, children=2, version="1", loops=loops, heard_at=func.now())
        )
    with database.begin() as session:
        (line,) = _loops(session)
    assert (line.verdict, line.what) == ("warning", "worker rock: feeding")
    assert "7 times in a row: OSError: the disk" in line.detail


def test_locks_that_are_held_long_need_one_connection(database: Database) -> None:
    ours, theirs = HeldLocks(database.url), HeldLocks(database.url)
    assert all(ours.take(WATCH_LOCK, number) for number in range(40))
    assert not any(theirs.take(WATCH_LOCK, number) for number in range(40))
    ours.give_back(WATCH_LOCK, 3)
    assert theirs.take(WATCH_LOCK, 3)
    assert ours.hold()
    ours.close()
    assert not ours.hold()
    wait_for(lambda: theirs.take(WATCH_LOCK, 4), 10)  # they die with the connection
    theirs.close()


def test_a_lock_whose_connection_was_cut_off_is_noticed(database: Database) -> None:
    locks = HeldLocks(database.url)
    assert locks.take(WATCH_LOCK, 1)
    with psycopg.connect(database.url, autocommit=True) as other:
        other.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND granted"
        )
    assert not locks.hold()
    assert locks.take(WATCH_LOCK, 1), "it is connected anew"
    locks.give_back(WATCH_LOCK, 1)
    locks.close()


def test_a_dozen_watched_libraries_leave_the_pool_to_others(database: Database, tmp_path: Path) -> None:
    add_library(database, tmp_path / "none")
    for number in range(12):
        root = tmp_path / f"site{number}"
        root.mkdir()
        with database.begin() as session:
            library = new_library(session, f"s{number}", "S", str(root), [], RecipeSettings(), "tests")
            library.automation = Automation(watch=True).model_dump(mode="json")
    narrow = Database(database.url, pool_size=2)
    state = StateFolder(narrow, tmp_path / "state")

    def keeper_of(library: Library) -> Keeper:
        return Keeper.of(narrow, library, state)

    async def go() -> tuple[int, int]:
        watcher = Watcher(narrow, Queue(narrow.url), keeper_of)
        await watcher.tend()
        await asyncio.sleep(1.5)
        watched, used = len(watcher._tasks), narrow.engine.pool.checkedout()  # type: ignore[attr-defined]
        with psycopg.connect(narrow.url) as other:
            held = other.execute("SELECT count(*) FROM pg_locks WHERE locktype = 'advisory'").fetchone()
        assert held == (12,)
        await watcher.close()
        return watched, used

    watched, used = asyncio.run(go())
    assert watched == 12
    assert used <= 2
    narrow.close()
