"""Caches are told whatever changes a file, batched, again and again, and never in the way of anything."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import httpx
import pytest
from conftest import add_library, add_pictures
from sqlalchemy import delete, func, select, text, update

from plumcrate.contract.delivery import Delivery
from plumcrate.delivery.purging import Purger, addresses_of, said_by
from plumcrate.outgoing import Outgoing
from plumcrate.records.database import Database
from plumcrate.records.queries.purges import waiting
from plumcrate.records.tables import Derived, File, Library, Purge, Webhook

CACHE = "http://cache:6081"
SETTINGS = {"address": "https://ledge.example/media", "caches": {"purge": [CACHE]}}


class Caches:
    """Caches that are made up: what they were asked, and how they answer."""

    def __init__(self, database: Database) -> None:
        self.asked: list[httpx.Request] = []
        self.answer: Callable[[httpx.Request], httpx.Response] = lambda _: httpx.Response(200)
        self.now = 0.0
        out = Outgoing(None, transport=httpx.MockTransport(self._taken))
        self.changed: list[str] = []
        self.purger = Purger(
            database, out, lambda _, library, paths: self.changed.extend(paths), clock=lambda: self.now
        )

    def _taken(self, request: httpx.Request) -> httpx.Response:
        self.asked.append(request)
        return self.answer(request)

    @property
    def told(self) -> list[str]:
        return sorted(request.url.raw_path.decode() for request in self.asked)


@pytest.fixture
def caches(database: Database) -> Caches:
    add_library(database, Path("/l"))
    add_pictures(database, 3)
    setting(database, **SETTINGS)
    return Caches(database)


def setting(database: Database, **delivery: object) -> None:
    with database.begin() as session:
        session.execute(update(Library).values(delivery=delivery))


def touch(database: Database, of: str = "p01.jpg", **values: object) -> None:
    with database.begin() as session:
        session.execute(
            update(File).where(File.path == of).values(**(values or {"mtime_ns": File.mtime_ns + 1}))
        )


def copy_of(database: Database) -> None:
    with database.begin() as session:
        session.add(
            Derived(
                library_id=1,
                file_id=1,
                purpose="copy",
                format="webp",
                path="p01.jpg.webp",
                size=1,
                sha256=b"1",
            )
        )


def noted(database: Database) -> list[str]:
    with database.begin() as session:
        return sorted(session.scalars(select(Purge.path)))


@pytest.mark.parametrize(
    ("values", "paths"),
    [
        ({"sha256": b"new"}, ["p01.jpg"]),
        ({"mtime_ns": 2}, ["p01.jpg"]),
        ({"state": "gone"}, ["p01.jpg"]),
        ({"path": "moved.jpg"}, ["moved.jpg", "p01.jpg"]),
        ({"seen_at": func.now(), "held": True, "score": 1.0}, []),
    ],
)
def test_a_change_of_a_file_is_noted_whoever_makes_it(
    database: Database, caches: Caches, values: dict[str, object], paths: list[str]
) -> None:
    touch(database, **values)
    assert noted(database) == paths


def test_copies_that_come_and_go_are_noted_with_their_file(database: Database, caches: Caches) -> None:
    copy_of(database)
    assert noted(database) == ["p01.jpg", "p01.jpg.webp"]
    caches.purger.turn()
    assert noted(database) == []
    with database.begin() as session:
        session.execute(delete(Derived))
    assert noted(database) == ["p01.jpg", "p01.jpg.webp"]


def test_without_caches_nothing_is_noted(database: Database, caches: Caches) -> None:
    setting(database, address=SETTINGS["address"])
    touch(database)
    assert noted(database) == []


def test_each_address_is_told_once_to_each_cache(database: Database, caches: Caches) -> None:
    other = "http://other:80/edge"
    setting(database, **SETTINGS | {"base": "https://cdn.example/x", "caches": {"purge": [CACHE, other]}})
    for _ in range(5):
        touch(database)
    touch(database, "p02.jpg")
    caches.purger.turn()
    assert all(request.method == "PURGE" for request in caches.asked)
    told = sorted((request.url.host, request.headers["host"], request.url.path) for request in caches.asked)
    assert told == sorted(
        (cache, host, f"{prefix}/{path}")
        for cache, before in (("cache", ""), ("other", "/edge"))
        for host, prefix in (("ledge.example", f"{before}/media"), ("cdn.example", f"{before}/x"))
        for path in ("p01.jpg", "p02.jpg")
    )
    caches.purger.turn()
    assert len(caches.asked) == 8


def test_tags_are_told_where_there_is_a_header_for_them(database: Database, caches: Caches) -> None:
    setting(database, **SETTINGS | {"caches": {"purge": [CACHE], "tag_header": "Surrogates"}})
    touch(database)
    touch(database, "p02.jpg")
    caches.purger.turn()
    (tagged,) = [request for request in caches.asked if "surrogates" in request.headers]
    assert tagged.headers["surrogates"] == "l-1, l-2"
    assert len(caches.asked) == 3


@pytest.mark.parametrize("status", [200, 204, 404])
def test_what_a_cache_does_not_hold_is_told_too(database: Database, caches: Caches, status: int) -> None:
    caches.answer = lambda _: httpx.Response(status)
    touch(database)
    caches.purger.turn()
    assert noted(database) == []


@pytest.mark.parametrize("status", [301, 403, 405, 500, 503])
def test_a_cache_that_refuses_is_told_again_and_it_is_said(
    database: Database, caches: Caches, status: int
) -> None:
    caches.answer = lambda _: httpx.Response(status)
    touch(database)
    caches.purger.turn()
    with database.begin() as session:
        state = waiting(session, 1)
    assert (state.waiting, state.failing) == (1, 1)
    assert str(status) in (state.said or "")
    caches.purger.turn()
    assert len(caches.asked) == 1, "it is left alone for a while"
    hurry(database, caches)
    caches.answer = lambda _: httpx.Response(200)
    caches.purger.turn()
    assert noted(database) == []


def hurry(database: Database, caches: Caches) -> None:
    """All that waits is due, and whoever was silent may be asked."""
    caches.now += 1_000
    with database.begin() as session:
        session.execute(text("UPDATE purges SET due_at = now() - interval '1 second'"))


def test_a_silent_cache_is_asked_once_a_turn_and_pauses_grow(database: Database, caches: Caches) -> None:
    def silent(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectTimeout("no answer", request=request)

    caches.answer = silent
    for path in ("p01.jpg", "p02.jpg", "p03.jpg"):
        touch(database, path)
    pauses = []
    for _ in range(4):
        caches.purger.turn()
        with database.begin() as session:
            left = func.extract("epoch", func.max(Purge.due_at) - func.now())
            pauses.append(float(session.scalar(select(left)) or 0))
        hurry(database, caches)
    assert len(caches.asked) == 4
    assert all(1.8 < after / before < 2.2 for before, after in pairwise(pauses))


DEAD = "http://dead:6081"


def test_a_dead_cache_takes_nothing_from_a_healthy_one(database: Database, caches: Caches) -> None:
    """The healthy cache hears of each address at once, and once; the dead one is asked once a pause."""

    def answer(request: httpx.Request) -> httpx.Response:
        if request.url.host == "dead":
            caches.now += 3  # its patience
            raise httpx.ConnectTimeout("no answer", request=request)
        return httpx.Response(200)

    caches.answer = answer
    setting(database, **SETTINGS | {"caches": {"purge": [DEAD, CACHE], "tag_header": "Surrogates"}})
    add_pictures(database, 197, start=4)
    touch_all(database)
    for _ in range(3):
        caches.purger.turn()
        with database.begin() as session:
            session.execute(text("UPDATE purges SET due_at = now() - interval '1 second'"))
    healthy = [request for request in caches.asked if request.url.host == "cache"]
    addresses = [request for request in healthy if "surrogates" not in request.headers]
    assert len(addresses) == len(noted(database)) == 200
    assert len({request.url.path for request in addresses}) == 200
    assert sum(request.url.host == "dead" for request in caches.asked) <= 2
    hurry(database, caches)
    caches.answer = lambda _: httpx.Response(200)
    caches.purger.turn()
    assert noted(database) == []
    assert sum(request.url.host == "cache" for request in caches.asked) == len(healthy) + 4, "its tags only"


def touch_all(database: Database) -> None:
    with database.begin() as session:
        session.execute(update(File).values(mtime_ns=File.mtime_ns + 1))


def test_a_slow_cache_is_told_for_a_while_and_goes_on_in_the_next_turn(
    database: Database, caches: Caches
) -> None:
    def slow(_: httpx.Request) -> httpx.Response:
        caches.now += 2.9
        return httpx.Response(200)

    caches.answer = slow
    add_pictures(database, 27, start=4)
    touch_all(database)
    caches.purger.turn()
    assert len(caches.asked) == 7, "twenty seconds' worth; what is held is held for longer"
    for _ in range(4):
        caches.purger.turn()
    assert (len(caches.asked), noted(database)) == (30, [])


def test_what_no_day_of_attempts_brought_to_a_cache_is_given_up(database: Database, caches: Caches) -> None:
    caches.answer = lambda _: httpx.Response(500)
    touch(database)
    with database.begin() as session:
        session.execute(update(Purge).values(attempts=99))
    caches.purger.turn()
    assert noted(database) == []


def test_a_change_while_caches_are_told_is_told_too(database: Database, caches: Caches) -> None:
    def changing(request: httpx.Request) -> httpx.Response:
        if len(caches.asked) == 1:
            touch(database)
        return httpx.Response(200)

    caches.answer = changing
    touch(database)
    caches.purger.turn()
    assert noted(database) == ["p01.jpg"]
    caches.purger.turn()
    assert noted(database) == []
    assert len(caches.asked) == 2


def test_a_library_that_lost_its_caches_forgets_what_waits(database: Database, caches: Caches) -> None:
    touch(database)
    setting(database, address=SETTINGS["address"], caches={"purge": []})
    caches.purger.turn()
    assert noted(database) == []
    assert caches.asked == []


def test_a_site_hears_of_each_change_once_however_often_a_cache_is_tried(
    database: Database, caches: Caches
) -> None:
    caches.answer = lambda _: httpx.Response(503)
    touch(database)
    caches.purger.turn()
    hurry(database, caches)
    caches.purger.turn()
    assert len(caches.asked) == 2  # the cache was asked twice
    assert caches.changed == ["p01.jpg"]
    touch(database)
    hurry(database, caches)
    caches.purger.turn()
    assert caches.changed == ["p01.jpg", "p01.jpg"]


def test_a_site_hears_of_changes_without_any_cache(database: Database, caches: Caches) -> None:
    setting(database, address=SETTINGS["address"])
    touch(database)
    assert noted(database) == []  # it does not want to hear
    with database.begin() as session:
        session.add(Webhook(library_id=1, address="http://site/in", events=["files.changed"]))
    copy_of(database)
    assert len(noted(database)) == 2
    assert caches.purger.turn()
    assert sorted(caches.changed) == sorted(["p01.jpg", "p01.jpg.webp"])
    assert noted(database) == []
    assert caches.asked == []


def test_addresses_are_written_safely() -> None:
    settings = Delivery(address="https://ledge.example/media/")
    assert addresses_of(["a b/Ü?#%.jpg"], settings) == [
        "https://ledge.example/media/a%20b/%C3%9C%3F%23%25.jpg"
    ]


@pytest.mark.parametrize(
    ("status", "said"),
    [
        ("edge; hit; ttl=9", "edge: from its store, 9 s left"),
        (
            '"a, b; c"; fwd=uri-miss; stored, far;hit',
            "a, b; c: fetched anew (not held), kept; far: from its store",
        ),
        ("edge; fwd=stale; fwd-status=304", "edge: fetched anew (too old)"),
        ("edge; fwd=something-new", "edge: fetched anew (something-new)"),
        ("edge", "edge: nothing said"),
        ("", ""),
        ('edge; hit, "open', "its Cache-Status cannot be read"),
    ],
)
def test_what_caches_say_is_read(status: str, said: str) -> None:
    assert said_by(status) == said


def test_a_host_s_name_may_be_in_any_script(database: Database, caches: Caches) -> None:
    setting(database, **SETTINGS | {"address": "https://bücher.example/media"})
    touch(database)
    caches.purger.turn()
    assert [request.headers["host"] for request in caches.asked] == ["xn--bcher-kva.example"]
