"""The event stream: who was cut off is told what was missed, and nobody misses how something ended."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Callable
from typing import Any

import pytest
from conftest import add_library
from sqlalchemy import update
from sse_starlette import ServerSentEvent

from plumcrate.api import events
from plumcrate.api.events import Hub
from plumcrate.contract.people import Ability
from plumcrate.people.actor import Actor
from plumcrate.records.database import Database
from plumcrate.records.tables import Run

SEEING = Actor("person", 1, "Ann", everywhere=frozenset(Ability))
BLIND = Actor("person", 2, "Bob")


@pytest.fixture
def hub(database: Database, tmp_path: Any, monkeypatch: pytest.MonkeyPatch) -> Hub:
    monkeypatch.setattr(events, "_GATHER", 0.0)
    monkeypatch.setattr(events, "_ASK_EVERY", 0.2)
    number = add_library(database, tmp_path)
    with database.begin() as session:
        for _ in range(9):
            session.add(Run(library_id=number, kind="treat", state="running", settings=None))
    return Hub(database, lambda _: None)


def told(hub: Hub, number: int, **changed: object) -> None:
    """A run changes, and PostgreSQL tells of it."""
    if changed:
        with hub._database.begin() as session:
            session.execute(update(Run).where(Run.id == number).values(**changed))
    hub._heard(json.dumps({"run": number}))


async def read(stream: AsyncIterator[ServerSentEvent], count: int) -> list[tuple[str | None, Any, str]]:
    """So many events: their names, data and ids."""
    found = []
    for _ in range(count):
        event = await asyncio.wait_for(anext(stream), 20)
        found.append((event.event, json.loads(event.data) if event.data else None, event.id))
    return found


def listening(work: Callable[[], Any]) -> None:
    asyncio.run(work())


def test_who_was_cut_off_is_told_what_changed_meanwhile_as_it_is_now(hub: Hub) -> None:
    async def work() -> None:
        teller = asyncio.create_task(hub._tell())
        stream = hub.stream(SEEING, lambda: SEEING)
        ((_, nothing, first),) = await read(stream, 1)
        assert nothing is None
        told(hub, 1, done=1)
        ((name, run, seen),) = await read(stream, 1)
        assert (name, run["id"], run["done"]) == ("run", 1, 1)
        await stream.aclose()  # type: ignore[attr-defined]
        for done in (1, 2, 3):
            told(hub, 2, done=done)
            await asyncio.sleep(0.05)
        told(hub, 3, state="stopped")
        await asyncio.sleep(0.3)
        again = await read(hub.stream(SEEING, lambda: SEEING, seen), 2)
        assert [(name, run["id"], run["done"], run["state"]) for name, run, _ in again] == [
            ("run", 2, 3, "running"),
            ("run", 3, 0, "stopped"),
        ], "each once, and not what was seen before"
        whole = await read(hub.stream(SEEING, lambda: SEEING, first), 3)
        assert [run["id"] for _, run, _ in whole] == [1, 2, 3]
        # Who is told no more than they may see is told nothing here, and the stream goes on.
        blind = hub.stream(BLIND, lambda: BLIND, first)
        with pytest.raises(TimeoutError):
            await asyncio.wait_for(anext(blind), 1.0)
        teller.cancel()

    listening(work)


@pytest.mark.parametrize(
    "event_id",
    ["", "x", "-1", "1", "deadbeef-1", "²-²", "{start}-99", "{start}--1", "{start}-" + "9" * 90],
)
def test_an_id_that_is_not_known_says_that_something_was_missed(hub: Hub, event_id: str) -> None:
    async def work() -> None:
        start = hub._memory.latest.partition("-")[0]
        stream = hub.stream(SEEING, lambda: SEEING, event_id.format(start=start))
        ((name, data, _),) = await read(stream, 1)
        assert (name, data) == ("missed", {})

    listening(work)


def test_what_was_told_long_ago_is_not_remembered(hub: Hub, monkeypatch: pytest.MonkeyPatch) -> None:
    memory, now = events._Memory(), 1000.0
    monkeypatch.setattr(events.time, "monotonic", lambda: now)
    first = memory.add(("run", 1))
    assert memory.since(first) == []
    now += 599
    memory.add(("run", 2))
    assert memory.since(first) == [("run", 2)]
    now += 2
    memory.add(("job", 1))
    assert memory.since(first) == [("run", 2), ("job", 1)], "what it was is forgotten, what came after is not"
    now += 700
    memory.add(("job", 2))
    assert memory.since(first) is None
    for number in range(events._REMEMBERED + 5):
        memory.add(("item", number))
    assert len(memory._told) <= events._REMEMBERED


def test_a_reader_who_is_slow_misses_steps_and_never_an_end(hub: Hub) -> None:
    reader = events._Stream(SEEING)
    reader.put(("run", 7), ServerSentEvent("running"))
    for number in range(3 * events._BACKLOG):
        reader.put(("item", number), ServerSentEvent(str(number)))
    reader.put(("run", 7), ServerSentEvent("finished"))
    for number in range(3 * events._BACKLOG):
        reader.put(("item", number), ServerSentEvent(str(number)))

    async def work() -> list[str]:
        return [str((await reader.next()).data) for _ in range(len(reader._waiting))]

    got = asyncio.run(work())
    assert got.count("finished") == 1
    assert "running" not in got
    assert len(got) <= events._BACKLOG
    assert got[-1] == str(3 * events._BACKLOG - 1), "the newest comes"


def test_an_event_that_cannot_be_made_ends_nobodys_stream(hub: Hub, monkeypatch: pytest.MonkeyPatch) -> None:
    made = hub._view

    def view(noun: str, number: int) -> Any:
        if number == 1:
            raise ZeroDivisionError
        return made(noun, number)

    monkeypatch.setattr(hub, "_view", view)

    async def work() -> None:
        teller = asyncio.create_task(hub._tell())
        stream = hub.stream(SEEING, lambda: SEEING)
        await read(stream, 1)
        told(hub, 1)
        told(hub, 2)
        ((_, run, _),) = await read(stream, 1)
        assert run["id"] == 2
        teller.cancel()

    listening(work)


def test_when_listening_was_cut_off_everybody_looks_for_themselves(hub: Hub) -> None:
    async def work() -> None:
        stream = hub.stream(SEEING, lambda: SEEING)
        ((_, _, seen),) = await read(stream, 1)
        hub._forget()
        ((name, _, _),) = await read(stream, 1)
        assert name == "missed"
        assert (await read(hub.stream(SEEING, lambda: SEEING, seen), 1))[0][0] == "missed"

    listening(work)
