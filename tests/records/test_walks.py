"""Lists that are walked through while rows come and go: each row that stood through the walk is seen once."""

from __future__ import annotations

import contextlib
import itertools
import random
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from functools import partial

import pytest
from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.pictures import PictureFilter, PictureSort
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import ItemSort, ItemState, RunState
from plumcrate.people import audit
from plumcrate.people.actor import Actor
from plumcrate.people.keys import keys_page
from plumcrate.people.members import people_page
from plumcrate.records.database import Database
from plumcrate.records.queries import cursors
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.queries.pictures import pictures_page
from plumcrate.records.queries.runs import items_page, runs_page
from plumcrate.records.tables import AuditRow, File, Item, Library, Picture, Run
from plumcrate.refusal import Refusal

MANY = 300


ENDED, OPEN = ("done", "failed", "passed"), ("waiting", "queued", "working")


def picture_called(library: Library, path: str, size: int) -> Picture:
    return Picture(
        library_id=library.id,
        path=path,
        folder="",
        name=path,
        format="jpeg",
        state="new",
        bytes_now=size,
        original_id=1,
    )


@pytest.fixture
def shelf(database: Database) -> Database:
    """A library with pictures, and a run over them that is half through."""
    with database.begin() as session:
        library = new_library(session, "l", "L", "/nowhere", [], RecipeSettings(), "tests")
        run = Run(library_id=library.id, kind="treat", state="running", files=MANY, settings=None)
        session.add(run)
        session.flush()
        begin = datetime(2026, 6, 1, tzinfo=UTC)
        for n in range(MANY):
            picture = picture_called(library, f"{n:04}.jpg", n % 7)
            session.add(picture)
            session.flush()
            file = File(library_id=library.id, picture_id=picture.id, path=picture.path)
            file.size_before = file.size_now = file.mtime_ns = file.mtime_ns_before = 1
            session.add(file)
            session.flush()
            item = Item(run_id=run.id, picture_id=picture.id, file_id=file.id, path=file.path)
            if n < MANY // 2:
                item.state, item.finished_at = ENDED[n % 3], begin + timedelta(seconds=n // 3)
            else:
                item.state = OPEN[n % 3]
            session.add(item)
    return database


def walk(
    session: Session, ask: Callable[[str | None], Page[object]], between: Callable[[], None]
) -> list[object]:
    """Every row, page by page; ``between`` happens after each page."""
    seen: list[object] = []
    page = ask(None)
    while True:
        assert page.rows or not seen, "a cursor leads to something"
        seen += page.rows
        if page.cursor is None:
            return seen
        between()
        session.flush()
        page = ask(page.cursor)


def test_pictures_while_others_come_go_and_move(shelf: Database) -> None:
    chance = random.Random(20260601)
    with shelf.begin() as session:
        library = session.scalars(select(Library)).one()
        stood = set(session.scalars(select(Picture.id)))
        fresh = iter(range(10**6))

        def between() -> None:
            number = next(fresh)
            session.add(picture_called(library, f"new-{number}.jpg", 3))
            gone = chance.choice(sorted(stood))
            stood.discard(gone)
            session.execute(delete(Picture).where(Picture.id == gone))
            for moved in chance.sample(sorted(stood), 5):
                place = {"path": f"{chance.random()}.jpg", "bytes_now": chance.randrange(9)}
                session.execute(update(Picture).where(Picture.id == moved).values(place))

        def ask(after: str | None) -> Page[object]:
            return pictures_page(session, library, PictureFilter(), PictureSort.FOUND, limit=13, after=after)  # type: ignore[return-value]

        seen = [picture.id for picture in walk(session, ask, between)]  # type: ignore[attr-defined]
    assert len(seen) == len(set(seen))
    assert stood <= set(seen)


@pytest.mark.parametrize("sort", [PictureSort.PATH, PictureSort.SIZE])
def test_pictures_by_what_stays_as_it_is(shelf: Database, sort: PictureSort) -> None:
    """Others come and go; those that stay where they are in the order are seen once."""
    with shelf.begin() as session:
        library = session.scalars(select(Library)).one()
        stood = set(session.scalars(select(Picture.id).where(Picture.id % 5 != 0)))
        doomed = iter(session.scalars(select(Picture.id).where(Picture.id % 5 == 0)).all())

        def between() -> None:
            session.execute(delete(Picture).where(Picture.id == next(doomed)))

        def ask(after: str | None) -> Page[object]:
            return pictures_page(session, library, PictureFilter(), sort, limit=17, after=after)  # type: ignore[return-value]

        seen = [picture.id for picture in walk(session, ask, between)]  # type: ignore[attr-defined]
    assert len(seen) == len(set(seen))
    assert stood <= set(seen)


def test_items_read_in_pages_are_those_read_at_once(shelf: Database) -> None:
    choices: list[list[ItemState]] = [
        [],
        [ItemState.FAILED],
        [ItemState.WAITING, ItemState.DONE],
        [ItemState.QUEUED],
    ]
    with shelf.begin() as session:
        run = session.scalars(select(Run)).one()

        def page(states: list[ItemState], sort: ItemSort, limit: int, after: str | None) -> Page[object]:
            return items_page(session, run, states, sort=sort, after=after, limit=limit)  # type: ignore[return-value]

        for states, sort, limit in itertools.product(choices, ItemSort, (7, 50, 149, 150, 151, 400)):
            whole = [item.id for item in page(states, sort, MANY, None)]  # type: ignore[attr-defined]
            read = walk(session, partial(page, states, sort, limit), lambda: None)
            assert [item.id for item in read] == whole  # type: ignore[attr-defined]
            wanted = select(func.count()).select_from(Item)
            if states:
                wanted = wanted.where(Item.state.in_(states))
            assert len(whole) == len(set(whole)) == session.scalar(wanted)


def test_items_that_end_meanwhile_are_seen_once_by_their_numbers(shelf: Database) -> None:
    with shelf.begin() as session:
        run = session.scalars(select(Run)).one()

        def between() -> None:
            waiting = select(Item.id).where(Item.finished_at.is_(None)).order_by(Item.id).limit(9)
            session.execute(
                update(Item).where(Item.id.in_(waiting)).values(state="done", finished_at=func.now())
            )

        def ask(after: str | None) -> Page[object]:
            return items_page(session, run, [], sort=ItemSort.NUMBER, after=after, limit=11)  # type: ignore[return-value]

        seen = [item.id for item in walk(session, ask, between)]  # type: ignore[attr-defined]
    assert len(seen) == len(set(seen)) == MANY


def test_the_latest_first_while_new_ones_come(shelf: Database) -> None:
    with shelf.begin() as session:
        actor = Actor("person", 1, "Ann")
        for number in range(30):
            audit.record(session, actor, f"act {number}", target="x", library=None, address="-")
        session.flush()
        stood = set(session.scalars(select(AuditRow.id)))

        def between() -> None:
            audit.record(session, actor, "meanwhile", target="x", library=None, address="-")

        def ask(after: str | None) -> Page[object]:
            return audit.entries(
                session, None, search=None, outcome=None, since=None, until=None, after=after, limit=7
            )  # type: ignore[return-value]

        seen = [entry.id for entry in walk(session, ask, between)]  # type: ignore[attr-defined]
    assert set(seen) == stood
    assert seen == sorted(seen, reverse=True)


def test_runs_are_chosen_by_kind_and_state(shelf: Database) -> None:
    with shelf.begin() as session:
        library = session.scalars(select(Library)).one()
        session.add(Run(library_id=library.id, kind="restore", state="finished", settings=None))
        session.flush()
        everything = Run.id > 0
        ended = runs_page(session, None, everything, states=[RunState.FINISHED], after=None, limit=9)
        assert [run.kind for run in ended] == ["restore"]
        assert runs_page(session, library.id, everything, after=None, limit=1).total == 2


def _lists(session: Session, library: Library, run: Run) -> Iterator[Callable[[str], object]]:
    everything = PictureFilter()
    yield lambda after: pictures_page(session, library, everything, PictureSort.PATH, limit=5, after=after)
    yield lambda after: items_page(session, run, [], sort=ItemSort.LATEST, after=after, limit=5)
    yield lambda after: items_page(session, run, [], sort=ItemSort.NUMBER, after=after, limit=5)
    yield lambda after: runs_page(session, None, Run.id > 0, after=after, limit=5)
    yield lambda after: keys_page(session, None, after=after, limit=5)
    yield lambda after: people_page(session, after=after, limit=5)


def test_a_cursor_that_is_none_of_the_list_is_refused(shelf: Database) -> None:
    with shelf.begin() as session:
        library, run = session.scalars(select(Library)).one(), session.scalars(select(Run)).one()
        forged = [
            cursors.written(of, values)
            for of in (
                "runs of all",
                f"runs of {library.id}",
                f"pictures of {library.id + 1} by path",
                f"pictures of {library.id} by size",
                f"items of {run.id} by latest",
                "keys of all",
                "nothing",
            )
            for values in ([], ["a"], [0, "when", 1], [9, 9], [2**70, 1], [1, 2**70], [True, 1], [0, "\0", 1])
        ]
        for ask in _lists(session, library, run):
            refused = 0
            for cursor in [*forged, "", "!", "A" * 9000, "W10", "bnVsbA"]:
                with contextlib.suppress(Refusal):
                    ask(cursor)
                    continue
                refused += 1
            # Two that were made for this very list may fit it.
            assert refused >= len(forged) + 5 - 2


def test_cursors_are_good_for_a_month(monkeypatch: pytest.MonkeyPatch) -> None:
    cursor, now = cursors.written("runs of all", [1, 2]), time.time()
    for days, good in ((0, True), (29, True), (31, False), (365, False), (-1, False)):
        monkeypatch.setattr(cursors.time, "time", lambda days=days: now + days * 86_400)
        if good:
            assert cursors.read(cursor, "runs of all") == [1, 2]
        else:
            with pytest.raises(Refusal, match="too old"):
                cursors.read(cursor, "runs of all")
