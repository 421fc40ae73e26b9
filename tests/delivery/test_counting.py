"""What is sent is counted without a write per request, and an access log is counted once."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import pytest
from conftest import add_library, add_pictures, wait_for
from sqlalchemy import func, select, update

from plumcrate.contract.delivery import Count, Counts
from plumcrate.delivery import counting
from plumcrate.delivery.counting import SentCounter
from plumcrate.delivery.traffic import NotItsTurn, count_log
from plumcrate.records.database import Database
from plumcrate.records.queries.traffic import traffic
from plumcrate.records.tables import Derived, File, SentBytes

PERSON = "Mozilla/5.0 Firefox/140.0"


@pytest.fixture
def library(database: Database) -> int:
    found = add_library(database, Path("/l"))
    add_pictures(database, 2)
    with database.begin() as session:
        session.execute(update(File).values(size_before=1_000, size_now=600))
        session.add(
            Derived(
                library_id=1,
                file_id=1,
                purpose="copy",
                format="avif",
                path="p01.jpg.avif",
                size=200,
                sha256=b"1",
            )
        )
    return found


def rows(database: Database) -> dict[tuple[object, ...], tuple[int, int, int]]:
    with database.begin() as session:
        return {
            (row.day, row.picture_id, row.format, row.bot): (row.requests, row.bytes, row.bytes_before)
            for row in session.scalars(select(SentBytes))
        }


def today(database: Database) -> date:
    with database.begin() as session:
        found = session.scalar(select(func.current_date()))
    assert found is not None
    return found


def test_answers_are_summed_by_day_picture_format_and_kind_of_visitor(
    database: Database, library: int
) -> None:
    day = [date(2026, 10, 3)]
    counter = SentCounter(database, today=lambda: day[0])
    for _ in range(3):
        counter.count(library, 1, "avif", 200, 1_000, PERSON)
    counter.count(library, 1, "avif", 200, 1_000, "ExampleBot/1")
    assert rows(database) == {}, "nothing is written while requests are answered"
    counter.note()
    day[0] = date(2026, 10, 4)
    counter.count(library, 1, "avif", 200, 1_000, PERSON)
    counter.close()
    assert rows(database) == {
        (date(2026, 10, 3), 1, "avif", False): (3, 600, 3_000),
        (date(2026, 10, 3), 1, "avif", True): (1, 200, 1_000),
        (date(2026, 10, 4), 1, "avif", False): (1, 200, 1_000),
    }


def test_what_cannot_be_noted_is_kept_for_later(database: Database, library: int) -> None:
    counter = SentCounter(database, today=lambda: date(2026, 10, 3))
    counter.count(library, 1, "avif", 200, 1_000, PERSON)
    begin, database.begin = database.begin, None  # type: ignore[method-assign, assignment]
    counter.note()
    database.begin = begin  # type: ignore[method-assign]
    counter.count(library, 1, "avif", 200, 1_000, PERSON)
    counter.note()
    assert rows(database) == {(date(2026, 10, 3), 1, "avif", False): (2, 400, 2_000)}


def test_what_is_counted_is_noted_by_itself(
    database: Database, library: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(counting, "_MOST", 1)
    counter = SentCounter(database)
    counter.start()
    counter.count(library, 2, "jpeg", 600, 1_000, PERSON)
    wait_for(lambda: rows(database))
    counter.close()


def counted(database: Database, begin: int, end: int, *counts: Count) -> None:
    with database.begin() as session:
        count_log(session, 1, Counts(log="0" * 16, begin=begin, end=end, counts=list(counts)))


def of(path: str, size: int | None, requests: int = 1, total: int | None = None, bot: bool = False) -> Count:
    sent = total if total is not None else (size or 0) * requests
    return Count(day=date(2026, 10, 3), path=path, requests=requests, bytes=size, total=sent, bot=bot)


def test_a_log_is_matched_with_what_the_files_weigh(database: Database, library: int) -> None:
    counted(
        database,
        0,
        500,
        of("p01.jpg", 200, 5),
        of("p01.jpg", 600, 2),
        of("p01.jpg", 777),
        of("p01.jpg.avif", 200),
        of("p01.jpg", None, 2, 300),
        of("p02.jpg", 600, 3, bot=True),
        of("no-such.jpg", 50, 9),
    )
    day = date(2026, 10, 3)
    assert rows(database) == {
        (day, 1, "avif", False): (6, 1_200, 6_000),
        # A size that is none of today's saves nothing that could be shown.
        (day, 1, "jpeg", False): (2 + 1 + 2, 1_200 + 777 + 300, 2_000 + 777 + 500),
        (day, 2, "jpeg", True): (3, 1_800, 3_000),
    }


def test_a_stretch_is_counted_once_and_in_its_order(database: Database, library: int) -> None:
    counted(database, 0, 100, of("p01.jpg", 600))
    for begin, end in ((0, 100), (50, 150), (101, 200)):
        with pytest.raises(NotItsTurn):
            counted(database, begin, end, of("p01.jpg", 600))
    counted(database, 100, 200, of("p01.jpg", 600))
    assert rows(database) == {(date(2026, 10, 3), 1, "jpeg", False): (2, 1_200, 2_000)}


def test_traffic_sums_up_the_last_days(database: Database, library: int) -> None:
    day = today(database)
    counter = SentCounter(database, today=lambda: day)
    counter.count(1, 1, "avif", 200, 1_000, PERSON)
    counter.count(1, 2, "jpeg", 600, 1_000, PERSON)
    counter.count(1, 99, "jpeg", 5, 5, PERSON)
    counter.count(1, 2, "jpeg", 600, 1_000, "ExampleBot")
    counter.note()
    SentCounter(database, today=lambda: date(2020, 1, 1)).count(1, 1, "avif", 7, 7, PERSON)
    with database.begin() as session:
        found = traffic(session, 1, 7)
    assert (found.total.requests, found.total.bytes, found.total.bytes_before) == (3, 805, 2_005)
    assert found.bots.requests == 1
    assert [row.name for row in found.by_day] == [day.isoformat()]
    assert [(row.name, row.requests) for row in found.by_format] == [("avif", 1), ("jpeg", 2)]
    assert [row.name for row in found.by_picture] == ["p01.jpg", "p02.jpg", "not on record"]
