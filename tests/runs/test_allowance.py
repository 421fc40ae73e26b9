"""A library's allowance: counted once a file and month, no picture half done, nothing beyond it begun."""

from collections import defaultdict
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest
from conftest import add_library
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import func, select, text

from plumcrate.contract.allowance import AllowanceSettings
from plumcrate.contract.automation import Automation
from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import ItemState, RunKind, RunRequest, RunState, Scope
from plumcrate.contract.webhooks import USUAL_EVENTS, EventType
from plumcrate.queue.tasks import BULK, SINGLE_REQUEST, Queue
from plumcrate.records.database import Database
from plumcrate.records.tables import AllowanceUse, File, Item, Library, OutgoingMessage, Picture, Run, Webhook
from plumcrate.runs.allowance import allowance_view, month_of
from plumcrate.runs.runs import change_state, create_run, retry_failed
from plumcrate.runs.steps import Ended
from plumcrate.runs.treating import ItemOutcome
from plumcrate.settings import Settings
from plumcrate.worker.engine import Engine
from plumcrate.worker.feeding import feed

JUNE = datetime(2026, 6, 10, 12, 0, tzinfo=UTC)
DONE = ItemOutcome(ItemState.DONE, FileState.LIGHTER, outputs=({"size": 1},), score=80.0)
KEPT = ItemOutcome(ItemState.PASSED, FileState.KEPT, "nothing-smaller", "", outputs=({"size": 1},))
FAILED = ItemOutcome(ItemState.FAILED, FileState.FAILED, "disk-error", "it failed")
LEFT = ItemOutcome(ItemState.PASSED, FileState.LEFT_ALONE, "too-large", "it is left alone")


@dataclass
class Site:
    """A library on record only, and one who works as a worker does, without bytes."""

    database: Database
    engine: Engine
    now: datetime = JUNE
    files: dict[int, int] = field(default_factory=dict)  # pixels
    #: What was treated, by month, as whoever works knows it.
    treated: dict[date, set[int]] = field(default_factory=lambda: defaultdict(set))
    in_hand: dict[int, date] = field(default_factory=dict)
    #: Runs and pictures of which files had failed and were asked for again: these wait as new work does.
    retried: set[tuple[int, int]] = field(default_factory=set)

    @classmethod
    def of(cls, database: Database, state: Path, pictures: list[list[float]]) -> "Site":
        """A picture for each list, a file for each number of megapixels."""
        add_library(database, Path("/l"))
        made = Settings(database_url=database.url, state_dir=state)
        site = cls(database, Engine(made, database, None))  # type: ignore[arg-type]
        with database.begin() as session:
            for number, sizes in enumerate(pictures):
                picture = Picture(library_id=1, path=f"p{number}.jpg", folder="", name=f"p{number}.jpg")
                session.add(picture)
                session.flush()
                for part, megapixels in enumerate(sizes):
                    path = f"p{number}-{part}.jpg"
                    file = File(
                        library_id=1,
                        picture_id=picture.id,
                        path=path,
                        format="jpeg",
                        size_before=9,
                        width=round(megapixels * 1000),
                        height=1000,
                        size_now=9,
                        mtime_ns=1,
                        mtime_ns_before=1,
                    )
                    session.add(file)
                    session.flush()
                    site.files[file.id] = file.width * file.height
        return site

    @property
    def month(self) -> date:
        return month_of(Automation(), self.now)

    def allow(self, amount: int | None, unit: str = "megapixels", **automation: Any) -> None:
        with self.database.begin() as session:
            library = session.get_one(Library, 1)
            library.allowance = AllowanceSettings(unit=unit, amount=amount).model_dump(mode="json")
            library.automation = Automation(**automation).model_dump(mode="json")

    def run(self, *, priority: int = BULK, **request: Any) -> int:
        with self.database.begin() as session:
            library = session.get_one(Library, 1)
            return create_run(session, library, RunRequest(library="l", **request), priority=priority).id

    def feed(self, children: int = 2) -> None:
        with self.database.begin() as session:
            feed(session, Queue(self.database.url), children, self.now)
            for item in session.scalars(select(Item).where(Item.state == ItemState.QUEUED)):
                self.in_hand.setdefault(item.id, self.month)

    def queued(self) -> list[tuple[int, int]]:
        """Runs and pictures that wait in the queue."""
        with self.database.begin() as session:
            query = select(Item.run_id, Item.picture_id).where(Item.state == ItemState.QUEUED).distinct()
            return [(row[0], row[1]) for row in session.execute(query.order_by(Item.run_id, Item.picture_id))]

    def work(self, run_id: int, picture_id: int, outcomes: list[ItemOutcome], *, dies: bool = False) -> None:
        """As a worker does a picture: each of its items to an outcome; then it may die with one in hand."""
        job = None
        for number, item_id in enumerate(self.engine.items.queued(run_id, picture_id)):
            begun = self.engine.items.begin(item_id)
            if begun is None:
                self.engine.items.put_back(item_id)
                continue
            job = begun.item.job_id
            if number >= len(outcomes):
                if dies:
                    break
                self.engine.items.put_back(item_id)
                continue
            outcome = outcomes[number]
            treating = begun.order is not None
            self.engine.items.record(begun, Ended(outcome))
            if treating and outcome.outputs:
                self.treated[self.in_hand.get(item_id, self.month)].add(begun.item.file_id)
        if job is not None:
            with self.database.begin() as session:
                session.execute(text("DELETE FROM procrastinate_jobs WHERE id = :job"), {"job": job})

    def work_all(self, outcome: ItemOutcome = DONE) -> int:
        """Feeds and works until nothing is queued; how many pictures."""
        count = 0
        for _ in range(200):
            self.feed()
            queued = self.queued()
            if not queued:
                return count
            for run_id, picture_id in queued:
                self.work(run_id, picture_id, [outcome] * 9)
                count += 1
        raise AssertionError("it never ends")

    def used(self, month: date | None = None) -> tuple[set[int], float]:
        """Files that count in a month, and their megapixels."""
        with self.database.begin() as session:
            rows = session.execute(
                select(AllowanceUse.file_id, AllowanceUse.pixels).where(
                    AllowanceUse.month == (month or self.month)
                )
            ).all()
        return {row.file_id for row in rows}, sum(row.pixels for row in rows) / 1e6

    def view(self) -> Any:
        with self.database.begin() as session:
            library = session.get_one(Library, 1)
            return allowance_view(session, library, Automation.model_validate(library.automation), self.now)

    def waits_for(self, run_id: int) -> str | None:
        with self.database.begin() as session:
            return session.get_one(Run, run_id).waits_for

    def state(self, run_id: int) -> str:
        with self.database.begin() as session:
            return session.get_one(Run, run_id).state

    def half_done(self) -> list[int]:
        """Pictures of which a run has done a part and holds another back."""
        with self.database.begin() as session:
            rows = session.execute(
                text(
                    "SELECT run_id, picture_id FROM run_items i JOIN runs r ON r.id = i.run_id "
                    "WHERE r.state IN ('running', 'paused') AND r.kind = 'treat' GROUP BY run_id, picture_id "
                    "HAVING bool_or(i.finished_at IS NOT NULL AND (i.code IS NULL OR i.code NOT IN "
                    "('taken-over', 'disk-error', 'too-large'))) "
                    "AND bool_or(i.state = 'waiting' AND NOT i.admitted)"
                )
            )
            return [row[1] for row in rows if (row[0], row[1]) not in self.retried]


@pytest.fixture
def state(tmp_path: Path) -> Path:
    return tmp_path / "state"


def test_a_run_stops_where_the_allowance_ends_and_goes_on_next_month(database: Database, state: Path) -> None:
    site = Site.of(database, state, [[3.0, 1.0]] * 6)
    site.allow(10)
    run = site.run()
    # The third picture begins while two are left, and is done whole.
    assert site.work_all() == 3
    assert site.used()[1] == pytest.approx(12)
    assert site.waits_for(run) == (
        "its allowance: the 10 megapixels of June 2026 are used up; it goes on by itself on 1 July"
    )
    view = site.view()
    assert (view.used, view.left, view.files_waiting, view.month) == (12, 0, 6, "2026-06")
    assert view.notice == (
        "The allowance of 10 megapixels for June 2026 is used up; new work waits for 1 July."
    )
    assert (view.resets_at.month, view.resets_at.day, view.resets_at.hour) == (7, 1, 0)
    assert site.half_done() == []
    site.now = datetime(2026, 7, 1, 0, 1, tzinfo=UTC)
    assert site.work_all() == 3
    site.feed()
    assert site.state(run) == RunState.FINISHED
    assert site.waits_for(run) is None
    assert [(one.month, one.files) for one in site.view().months] == [("2026-07", 6), ("2026-06", 6)]


def test_by_files_and_without_a_limit(database: Database, state: Path) -> None:
    site = Site.of(database, state, [[1.0, 1.0]] * 5)
    site.allow(3, "files")
    site.run()
    assert site.work_all() == 2
    assert site.view().used == 4
    site.allow(None)
    assert site.work_all() == 3
    assert (site.view().used, site.view().left, site.view().notice) == (10, None, None)


@pytest.mark.parametrize(
    ("zone", "now", "month"),
    [
        ("UTC", datetime(2026, 6, 30, 23, 30, tzinfo=UTC), "2026-06"),
        ("Europe/Berlin", datetime(2026, 6, 30, 22, 30, tzinfo=UTC), "2026-07"),
        ("America/Los_Angeles", datetime(2026, 7, 1, 6, 59, tzinfo=UTC), "2026-06"),
        ("Pacific/Kiritimati", datetime(2026, 12, 31, 10, 0, tzinfo=UTC), "2027-01"),
    ],
)
def test_months_are_those_of_the_librarys_time_zone(
    database: Database, state: Path, zone: str, now: datetime, month: str
) -> None:
    site = Site.of(database, state, [[1.0]] * 3)
    site.allow(1, "files", time_zone=zone)
    site.now = now
    site.run()
    assert site.work_all() == 1
    view = site.view()
    assert view.month == month
    assert view.resets_at.utcoffset() is not None
    site.now = view.resets_at - timedelta(seconds=1)
    assert site.work_all() == 0
    site.now = view.resets_at
    assert site.work_all() == 1


def test_what_counted_this_month_may_be_treated_again_though_nothing_is_left(
    database: Database, state: Path
) -> None:
    site = Site.of(database, state, [[1.0]] * 40)
    site.allow(20, "files")
    first = site.run(scope=Scope(pictures=list(range(21, 41))))
    assert site.work_all() == 20
    assert site.state(first) == RunState.FINISHED
    # Behind twenty that may not begin there are twenty that have counted.
    again = site.run(force=True)
    assert site.work_all() == 20
    assert site.waits_for(again) is not None
    assert site.view().used == 20
    assert site.view().files_waiting == 20


def test_putting_back_never_waits(database: Database, state: Path) -> None:
    site = Site.of(database, state, [[5.0]] * 3)
    site.allow(1)
    site.run()
    assert site.work_all() == 1
    with site.database.begin() as session:
        for file in session.scalars(select(File)):
            file.before_sha256 = b"1"
    run = site.run(kind=RunKind.RESTORE)
    assert site.work_all() == 3
    site.feed()
    assert site.state(run) == RunState.FINISHED
    assert site.view().used == 5, "restoring counts nothing"


@pytest.mark.parametrize(("outcome", "counts"), [(DONE, 1), (KEPT, 1), (FAILED, 0), (LEFT, 0)])
def test_only_what_was_treated_counts(
    database: Database, state: Path, outcome: ItemOutcome, counts: int
) -> None:
    site = Site.of(database, state, [[1.0]])
    site.allow(10)
    site.run()
    assert site.work_all(outcome) == 1
    site.run(force=True)
    site.feed()
    # The one in the queue counts already; what came to nothing before does not.
    assert len(site.used()[0]) == 1
    site.work(*site.queued()[0], [FAILED])
    site.run(force=True, priority=SINGLE_REQUEST)
    with site.database.begin() as session:
        session.execute(text("DELETE FROM run_items WHERE finished_at IS NULL"))
    site.feed()
    assert len(site.used()[0]) == counts


def test_a_failed_file_that_is_tried_again_counts_once_and_waits_where_nothing_is_left(
    database: Database, state: Path
) -> None:
    site = Site.of(database, state, [[1.0]] * 3)
    site.allow(2, "files")
    run = site.run()
    site.feed()
    first, second = site.queued()
    site.work(*first, [FAILED])
    site.work(*second, [DONE])
    # What failed was given back: the third has room.
    assert site.work_all() == 1
    with site.database.begin() as session:
        assert retry_failed(session, session.get_one(Run, run)) == 1
    assert site.work_all() == 0
    assert site.waits_for(run) is not None
    site.now = datetime(2026, 7, 1, tzinfo=UTC)
    assert site.work_all() == 1
    assert len(site.used(date(2026, 6, 1))[0]) == 2


def test_a_failed_file_does_not_slip_through_with_the_rest_of_its_picture(
    database: Database, state: Path
) -> None:
    site = Site.of(database, state, [[1.0, 1.0], [1.0]])
    site.allow(2, "files")
    run = site.run()
    site.feed()
    (picture, *_) = site.queued()
    # The first file fails, the worker dies on the second, and somebody asks for the failed one again.
    site.work(*picture, [FAILED], dies=True)
    with site.database.begin() as session:
        retry_failed(session, session.get_one(Run, run))
    site.now = JUNE + timedelta(days=1)
    site.work_all()
    used, _ = site.used()
    assert site.treated[site.month] <= used
    assert len(used) <= 3


def test_pausing_keeps_what_was_let_through_and_stopping_gives_it_back(
    database: Database, state: Path
) -> None:
    site = Site.of(database, state, [[1.0]] * 4)
    site.allow(4, "files")
    run = site.run()
    site.feed()
    assert len(site.used()[0]) == 4
    with site.database.begin() as session:
        change_state(session, session.get_one(Run, run), "pause")
    site.feed()
    assert len(site.used()[0]) == 4
    with site.database.begin() as session:
        change_state(session, session.get_one(Run, run), "resume")
        change_state(session, session.get_one(Run, run), "stop")
    other = site.run(scope=Scope(pictures=[1]))
    site.feed()
    assert len(site.used()[0]) == 1
    assert site.work_all() == 1
    assert site.state(other) == RunState.FINISHED


def test_a_run_that_is_stopped_with_a_file_in_hand_counts_what_was_done(
    database: Database, state: Path
) -> None:
    site = Site.of(database, state, [[1.0]])
    site.now = datetime.now(UTC)
    site.allow(4, "files")
    run = site.run()
    site.feed()
    ((run_id, picture_id),) = site.queued()
    (item,) = site.engine.items.queued(run_id, picture_id)
    begun = site.engine.items.begin(item)
    assert begun is not None
    assert begun.order is not None
    with site.database.begin() as session:
        change_state(session, session.get_one(Run, run), "stop")
    site.feed()
    assert site.used()[0] == set()
    site.engine.items.record(begun, Ended(DONE))
    assert site.used()[0] == {begun.item.file_id}


def test_a_notice_at_four_fifths_and_at_the_end_each_once(database: Database, state: Path) -> None:
    site = Site.of(database, state, [[1.0]] * 12)
    site.allow(10, "files")
    with database.begin() as session:
        session.add(Webhook(library_id=1, address="https://x.example/", events=USUAL_EVENTS))

    def told() -> list[tuple[str, int, float]]:
        with database.begin() as session:
            rows = session.scalars(select(OutgoingMessage).order_by(OutgoingMessage.id))
            return [(row.type, row.data["amount"], row.data["used"]) for row in rows]

    site.run()
    site.feed(1)
    assert told() == []
    for run_id, picture_id in site.queued():
        site.work(run_id, picture_id, [DONE])
    site.feed(1)
    assert [row[0] for row in told()] == [EventType.ALLOWANCE_NEARLY_USED]
    notice = site.view().notice
    assert notice == "80% of the allowance of 10 files for June 2026 is used."
    site.work_all()
    site.work_all()
    assert [row[0] for row in told()] == [EventType.ALLOWANCE_NEARLY_USED, EventType.ALLOWANCE_USED]
    site.allow(11, "files")
    site.feed()
    assert [row[1] for row in told()] == [10, 10, 11, 11], "another amount is another notice"
    site.now = datetime(2026, 7, 2, tzinfo=UTC)
    site.work_all()
    assert len(told()) == 4, "a new month begins without one"


# -- any order of events -----------------------------------------------------------------------------


def one_month_after(now: datetime) -> datetime:
    return (now.replace(day=1) + timedelta(days=32)).replace(day=10)


@settings(
    max_examples=settings().max_examples // 3,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(st.integers(0, 10**9))
def test_whatever_happens_nothing_counts_twice_and_no_picture_stays_half_done(
    database: Database, state: Path, seed: int
) -> None:
    with database.begin() as session:
        tables = "libraries, runs, run_items, files, pictures, procrastinate_jobs"
        session.execute(text(f"TRUNCATE {tables} RESTART IDENTITY CASCADE"))
    chance = Random(seed)
    pictures = [
        [chance.choice((0.2, 1.0, 2.5)) for _ in range(chance.randint(1, 3))]
        for _ in range(chance.randint(3, 12))
    ]
    site = Site.of(database, state, pictures)
    by_files = chance.random() < 0.5
    largest = max(len(one) if by_files else sum(one) for one in pictures)
    most = len(site.files) if by_files else int(sum(map(sum, pictures)))
    amount = chance.randint(1, max(1, most))
    site.allow(amount, "files" if by_files else "megapixels")

    def check() -> None:
        used, megapixels = site.used()
        assert (len(used) if by_files else megapixels) < amount + largest + 1e-6
        assert site.half_done() == []
        for month, files in site.treated.items():
            assert files <= site.used(month)[0], f"all that was treated counts, seed {seed}"

    for _ in range(30):
        deed = chance.random()
        if deed < 0.12:
            few = chance.sample(range(1, len(pictures) + 1), chance.randint(1, len(pictures)))
            scope = Scope(pictures=few) if chance.random() < 0.6 else Scope()
            site.run(scope=scope, force=True, priority=chance.choice((BULK, SINGLE_REQUEST)))
        elif deed < 0.2:
            with site.database.begin() as session:
                rows = session.scalars(select(Run).where(Run.state.in_(["running", "paused"]))).all()
                if rows:
                    run = chance.choice(list(rows))
                    action = "resume" if run.state == "paused" else chance.choice(("pause", "pause", "stop"))
                    change_state(session, run, action)
        elif deed < 0.25:
            with site.database.begin() as session:
                rows = session.scalars(select(Run).where(Run.state != "stopped", Run.failed > 0)).all()
                if rows:
                    run = chance.choice(list(rows))
                    for item in session.scalars(
                        select(Item).where(Item.run_id == run.id, Item.state == "failed")
                    ):
                        site.retried.add((run.id, item.picture_id))
                        site.in_hand.pop(item.id, None)
                    retry_failed(session, run)
        elif deed < 0.3:
            site.now = one_month_after(site.now)
        elif deed < 0.6 and site.queued():
            outcomes = [chance.choice((DONE, DONE, KEPT, FAILED, LEFT)) for _ in range(3)]
            told = chance.randint(0, 3)
            site.work(*chance.choice(site.queued()), outcomes[:told], dies=chance.random() < 0.5)
        else:
            site.feed(chance.randint(1, 2))
        check()
    with site.database.begin() as session:
        for run in session.scalars(select(Run).where(Run.state == "paused")):
            change_state(session, run, "resume")
    for _ in range(60):
        site.work_all()
        check()
        with site.database.begin() as session:
            if not session.scalar(select(func.count()).where(Run.state == RunState.RUNNING)):
                break
        site.now = one_month_after(site.now)
    with site.database.begin() as session:
        assert session.scalar(select(func.count()).where(Run.state == RunState.RUNNING)) == 0
    site.feed()
    with site.database.begin() as session:
        assert session.scalar(select(func.count()).where(~AllowanceUse.counted)) == 0, "all is settled"
