"""The parts of weighing that need no browser: whose picture an address is, what is sealed, what is predicted,
what is kept, and what begins by itself."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from conftest import add_library, photograph, surveyed
from sqlalchemy import func, select
from walk import Box

from plumcrate.contract.automation import Automation
from plumcrate.contract.common import CopyFormat, Level
from plumcrate.contract.delivery import Delivery
from plumcrate.contract.jobs import Job, JobKind, JobState
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import RunKind, RunState
from plumcrate.contract.weighing import (
    Device,
    HeaderLine,
    KindWeight,
    Line,
    Processor,
    Reading,
    Secrets,
    Spread,
    WeighingKind,
    WeighingOrigin,
    WeighRequest,
    WhatIf,
)
from plumcrate.imaging.identification import identify
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.originals import largest_of, original_bytes
from plumcrate.keeping.sealing import CannotUnseal, Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.tasks import Queue
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.records.queries.weighings import ends_of, needs_of, note_need, shot_bytes
from plumcrate.records.tables import File, Library, Run, Shot, SitePage, Weighing
from plumcrate.storage.grouping import USUAL_PATTERNS
from plumcrate.weighing.mapping import Mapper
from plumcrate.weighing.predicting import Predictor
from plumcrate.weighing.recording import PageResult, ShotTaken, page_of, record
from plumcrate.weighing.sealing import seal, unseal
from plumcrate.weighing.starting import start_weighings

SITE = "https://ledge.example"
EVERYWHERE = "image/avif,image/webp,image/apng,image/*,*/*;q=0.8"
OLD = "image/png,image/*;q=0.8,*/*;q=0.5"


class Ledge:
    """A library of three files, surveyed, nothing done to them."""

    def __init__(self, database: Database, tmp_path: Path) -> None:
        self.database, self.root, self.box = database, tmp_path / "library", Box()
        self.sizes = {"2026/kite.jpg": 640, "2026/kite-320w.jpg": 320, "2026/Möwe & 1.jpg": 200}
        for path, width in self.sizes.items():
            photograph(self.root / path, width, width * 3 // 4, seed=5 if "kite" in path else 9)
        add_library(database, self.root, USUAL_PATTERNS)
        self.state = StateFolder(database, tmp_path / "state")
        self.keeper = Keeper.of(database, self.library, self.state)
        surveyed(database, self.keeper)
        self.deliver(address=f"{SITE}/media")
        self.saved: dict[str, bytes] = {}

    @property
    def library(self) -> Library:
        with self.database.begin() as session:
            return session.get_one(Library, 1)

    def deliver(self, **settings: object) -> None:
        with self.database.begin() as session:
            row = session.get_one(Library, 1)
            row.delivery = Delivery.model_validate(settings).model_dump(mode="json")

    def file(self, path: str) -> File:
        with self.database.begin() as session:
            return session.scalars(select(File).where(File.path == path)).one()

    def mapper(self, page: str = f"{SITE}/visit") -> Mapper:
        return Mapper([self.library], page, "http://127.0.0.1:8020")

    def mapped(self, *addresses: str) -> dict[str, Any]:
        with self.database.begin() as session:
            return dict(self.mapper().of(session, addresses))

    def predictor(self, settings: RecipeSettings | None = None, **more: Any) -> Predictor:
        settings = settings or RecipeSettings(level=Level.LEAN)
        found = Predictor(
            self.database,
            self.keeper,
            self.library,
            self.box,
            settings,
            self.mapper(),
            save=self.save,
            **more,  # type: ignore[arg-type]
        )
        found.reads_with(self.saved.__getitem__)
        return found

    def save(self, data: bytes) -> str:
        name = str(len(self.saved))
        self.saved[name] = data
        return name


@pytest.fixture
def ledge(database: Database, tmp_path: Path) -> Ledge:
    return Ledge(database, tmp_path)


# -- whose picture -----------------------------------------------------------------------------------


def test_an_address_is_known_by_where_the_site_and_the_service_serve(ledge: Ledge) -> None:
    ledge.deliver(address=f"{SITE}/media", base="https://cdn.example/x")
    addresses = [
        f"{SITE}/media/2026/kite.jpg",
        "/media/2026/kite.jpg?v=3",
        "../media/2026/kite-320w.jpg",
        "https://cdn.example/x/2026/kite.jpg",
        "http://127.0.0.1:8020/media/l/2026/kite.jpg",
        f"{SITE}/media/2026/M%C3%B6we%20%26%201.jpg",
    ]
    found = ledge.mapped(*addresses)
    assert [found[address].file.path for address in addresses] == [
        "2026/kite.jpg",
        "2026/kite.jpg",
        "2026/kite-320w.jpg",
        "2026/kite.jpg",
        "2026/kite.jpg",
        "2026/Möwe & 1.jpg",
    ]
    foreign = [
        f"{SITE}/other/2026/kite.jpg",
        "https://elsewhere.example/media/2026/kite.jpg",
        f"{SITE}/media/none.jpg",
        f"{SITE}/media/../secret",
        "data:image/png;base64,AAAA",
        "http://[",
        f"{SITE}/media/",
    ]
    assert ledge.mapped(*foreign) == {}


def test_a_copy_is_known_before_it_is_made_and_after(ledge: Ledge) -> None:
    address = f"{SITE}/media/2026/kite.jpg.avif"
    one = ledge.mapped(address)[address]
    assert (one.file.path, one.form, one.format) == ("2026/kite.jpg", "copy", "avif")
    with ledge.database.begin() as session:
        file = session.scalars(select(File).where(File.path == "2026/kite.jpg")).one()
        session.add(
            tables.Derived(
                library_id=1,
                file_id=file.id,
                purpose="conversion",
                format="png",
                path="2026/kite.png",
                size=3,
                sha256=b"x" * 32,
                width=4,
                height=3,
            )
        )
    moved = f"{SITE}/media/2026/kite.png"
    one = ledge.mapped(moved)[moved]
    assert (one.file.path, one.form, one.format) == ("2026/kite.jpg", "conversion", "png")


def test_the_original_is_the_largest_of_its_picture(ledge: Ledge) -> None:
    small = ledge.file("2026/kite-320w.jpg")
    largest = largest_of(ledge.keeper, small)
    assert largest.path == "2026/kite.jpg"
    assert original_bytes(ledge.keeper, largest) == (ledge.root / "2026/kite.jpg").read_bytes()
    (ledge.root / "2026/kite.jpg").unlink()
    assert original_bytes(ledge.keeper, largest) is None


# -- what is predicted --------------------------------------------------------------------------------


def answered(ledge: Ledge, predictor: Predictor, address: str, accept: str = EVERYWHERE) -> tuple[str, bytes]:
    answer = predictor.answer({"ask": "picture", "address": address, "accept": accept})
    assert answer is not None
    return answer["headers"]["Content-Type"], ledge.saved[answer["file"]]


def test_each_browser_would_get_its_form_and_nothing_is_written(ledge: Ledge) -> None:
    before = {path: (ledge.root / path).read_bytes() for path in ledge.sizes}
    predictor = ledge.predictor()
    address = f"{SITE}/media/2026/kite.jpg"
    kinds = {}
    for name, accept in (("avif", EVERYWHERE), ("webp", "image/webp,*/*"), ("old", OLD)):
        kind, data = answered(ledge, predictor, address, accept)
        kinds[name] = len(data)
        assert identify(data).format == kind.partition("/")[2]
        assert identify(data).shown_size == (640, 480)
    assert kinds["avif"] < kinds["old"] < len(before["2026/kite.jpg"])
    assert len(ledge.box.asked) == 1, "treated once for all of them"
    assert predictor.fresh == 1
    assert {path: (ledge.root / path).read_bytes() for path in ledge.sizes} == before
    assert sorted(path.name for path in (ledge.root / "2026").iterdir()) == sorted(
        path.rpartition("/")[2] for path in ledge.sizes
    )
    with ledge.database.begin() as session:
        assert session.scalar(select(func.count()).select_from(tables.Ledger)) == 0
        assert session.scalar(select(func.count()).select_from(tables.Backup)) == 0


def test_a_host_that_does_not_negotiate_would_send_the_file_itself(ledge: Ledge) -> None:
    predictor = ledge.predictor(plain_hosts=frozenset({"ledge.example"}))
    assert answered(ledge, predictor, f"{SITE}/media/2026/kite.jpg")[0] == "image/jpeg"
    assert answered(ledge, predictor, f"{SITE}/media/2026/kite.jpg.avif")[0] == "image/avif", "by its name"


def test_a_copys_address_is_answered_by_that_copy(ledge: Ledge) -> None:
    predictor = ledge.predictor()
    assert answered(ledge, predictor, f"{SITE}/media/2026/kite.jpg.avif", OLD)[0] == "image/avif"
    only_webp = ledge.predictor(RecipeSettings(level=Level.LEAN, copies=[CopyFormat.WEBP]))
    question = {"ask": "picture", "address": f"{SITE}/media/2026/kite.jpg.avif", "accept": EVERYWHERE}
    assert only_webp.answer(question) is None, "there would be none"


def test_what_is_left_alone_or_foreign_goes_to_the_network(ledge: Ledge) -> None:
    with ledge.database.begin() as session:
        for picture in session.scalars(select(tables.Picture)):
            picture.override = "leave"
    predictor = ledge.predictor()
    for address in (
        f"{SITE}/media/2026/kite.jpg",
        "https://elsewhere.example/a.jpg",
        f"{SITE}/media/none.jpg",
    ):
        assert predictor.answer({"ask": "picture", "address": address, "accept": EVERYWHERE}) is None
    assert ledge.box.asked == []


def test_a_place_gets_its_own_size_where_that_is_worth_it(ledge: Ledge) -> None:
    file = ledge.file("2026/kite.jpg")
    fitted = ledge.predictor(needs={file.picture_id: (300, 225)})
    _, data = answered(ledge, fitted, f"{SITE}/media/2026/kite.jpg")
    assert identify(data).shown_size == (300, 225)
    _, data = answered(ledge, fitted, f"{SITE}/media/2026/kite-320w.jpg")
    assert identify(data).shown_size == (320, 240), "a few pixels more are no matter"


def test_a_file_that_cannot_be_treated_stays_and_is_told(ledge: Ledge) -> None:
    (ledge.root / "2026/kite.jpg").write_bytes(b"\xff\xd8 no picture")
    predictor = ledge.predictor()
    question = {"ask": "picture", "address": f"{SITE}/media/2026/kite.jpg", "accept": EVERYWHERE}
    assert predictor.answer(question) is None
    (note,) = predictor.notes
    assert "2026/kite.jpg stays as it is" in note


def test_the_markup_names_the_copies_that_there_would_be(ledge: Ledge) -> None:
    ledge.deliver(address=f"{SITE}/media", markup={"elements": True, "dimensions": True})
    predictor = ledge.predictor()
    ledge.saved["page"] = b'<!doctype html><img src="/media/2026/kite.jpg"><p>&auml;'
    question = {
        "ask": "markup",
        "address": f"{SITE}/visit",
        "file": "page",
        "type": "text/html; charset=utf-8",
    }

    def page() -> str:
        answer = predictor.answer(question)
        assert answer is not None
        return ledge.saved[answer["file"]].decode()

    assert 'type="image/avif"' in page()
    assert page().endswith("<p>&auml;")
    assert len(ledge.box.asked) == 2, "each file of the picture was tried out once"
    assert predictor.fresh == 2
    predictor.made(ledge.file("2026/kite.jpg"))
    facts = predictor.facts(["2026/kite.jpg"])["2026/kite.jpg"]
    treatment = max(ledge.box.answers, key=lambda answer: answer.size)  # of the larger file
    copies = {output.format: output.size for output in treatment.chosen if output.role == "copy"}
    assert {copy.path.rpartition(".")[2]: copy.bytes for copy in facts.copies} == copies
    assert [size.path for size in facts.sizes] == ["2026/kite-320w.jpg"]
    assert set(copies) == {kind for kind in ("webp", "avif") if f'type="image/{kind}"' in page()}


def test_pages_that_are_not_rewritten_yet_are_predicted_with_markup_all_the_same(ledge: Ledge) -> None:
    ledge.deliver(address=f"{SITE}/media", markup={"rewrite": False, "elements": True})
    ledge.saved["page"] = b'<img src="/media/2026/kite.jpg">'
    answer = ledge.predictor().answer(
        {"ask": "markup", "address": f"{SITE}/", "file": "page", "type": "text/html"}
    )
    assert answer is not None
    assert b"<picture" in ledge.saved[answer["file"]]
    ledge.deliver()
    unknown = {"ask": "markup", "address": f"{SITE}/", "file": "page", "type": "text/html"}
    assert ledge.predictor().answer(unknown) is None


# -- what is sealed ----------------------------------------------------------------------------------


def test_what_signs_in_is_sealed_with_a_key_of_the_state_folder(tmp_path: Path) -> None:
    secrets = Secrets(
        cookies=[HeaderLine(name="crew", value="ab=oard")], headers=[HeaderLine(name="X", value="y")]
    )
    sealed = seal(Seal(tmp_path), secrets)
    assert sealed is not None
    assert b"oard" not in sealed
    assert (tmp_path / "seal.key").stat().st_mode & 0o077 == 0
    assert unseal(Seal(tmp_path), sealed) == secrets
    assert seal(Seal(tmp_path), Secrets()) is None
    assert unseal(Seal(tmp_path), None) == Secrets()
    with pytest.raises(CannotUnseal, match="is not there"):
        unseal(Seal(tmp_path / "elsewhere"), sealed)
    assert not (tmp_path / "elsewhere").exists(), "no key is made where a volume may be away"
    (tmp_path / "other").mkdir()
    seal(Seal(tmp_path / "other"), secrets)
    with pytest.raises(CannotUnseal, match="another key"):
        unseal(Seal(tmp_path / "other"), sealed)
    with pytest.raises(CannotUnseal):
        unseal(Seal(tmp_path), sealed[:-5] + b"xxxxx")
    assert list(tmp_path.glob(".seal*")) == []


# -- what is kept --------------------------------------------------------------------------------------


def one_reading(size: int = 1_000, device: Device = Device.PHONE) -> Reading:
    spread = Spread(median=size, low=size, high=size)
    return Reading(
        device=device,
        line=Line.MOBILE,
        processor=Processor.SLOW,
        passes=1,
        landed=SITE,
        bytes=spread,
        first_bytes=spread,
        requests=spread,
        kinds=[KindWeight(name="pictures", requests=1, bytes=size)],
        pictures=[],
        width=1,
        height=1,
    )


def kept(ledge: Ledge, number: int, kind: WeighingKind = WeighingKind.REAL, **more: Any) -> int:
    result = PageResult(
        kind,
        readings=[one_reading(number)],
        shots=[[ShotTaken("whole", 3, 4, 1.0, b"shot%d" % number)]],
        **more,
    )
    with ledge.database.begin() as session:
        page = page_of(session, 1, f"{SITE}/")
        return record(
            session,
            session.get_one(Library, 1),
            page.id,
            result,
            origin=WeighingOrigin.PERSON,
            by="t",
            run_id=None,
            budget=None,
        )


def test_old_weighings_keep_their_figures_and_drop_their_shots(ledge: Ledge) -> None:
    numbers = [kept(ledge, count) for count in range(1, 31)]
    with ledge.database.begin() as session:
        with_shots = set(session.scalars(select(Shot.weighing_id)))
        assert with_shots == {numbers[0], *numbers[-20:]}, "the first and the latest twenty"
        assert session.scalar(select(func.count()).select_from(Weighing)) == 30
        shot = session.scalars(select(Shot).where(Shot.weighing_id == numbers[0])).one()
        assert shot_bytes(session, 1, shot.id) == b"shot1"
        assert shot_bytes(session, 2, shot.id) is None, "another library's"
        assert session.scalar(select(func.count()).select_from(SitePage)) == 1


def test_first_and_latest_are_those_for_real_and_a_fault_is_the_latest(ledge: Ledge) -> None:
    failed = kept(ledge, 1, code="no-answer", fault="it is silent")
    first = kept(ledge, 2)
    kept(ledge, 3, WeighingKind.PREDICTED, what_if=WhatIf(level=Level.LEAN))
    latest = kept(ledge, 4)
    with ledge.database.begin() as session:
        ((one, last, _),) = ends_of(session, 1).values()
        assert (one.id, last.id) == (first, latest)
    broken = kept(ledge, 5, code="too-large", fault="it goes on")
    with ledge.database.begin() as session:
        ((one, last, _),) = ends_of(session, 1).values()
        assert (one.id, last.id) == (first, broken)
    assert failed < first


def test_a_needed_size_is_noted_once(ledge: Ledge) -> None:
    file = ledge.file("2026/kite.jpg")
    with ledge.database.begin() as session:
        for size in ((300, 200), (300, 200), (520, 390)):
            note_need(session, 1, file.picture_id, size, f"{SITE}/")
        assert [(need.width, need.height) for need in needs_of(session, 1)] == [(520, 390), (300, 200)]


# -- what begins by itself -----------------------------------------------------------------------------


@pytest.fixture
def started(ledge: Ledge) -> Callable[[datetime], list[dict[str, Any]]]:
    """One round at a time; the orders that are open then, each ended for the next round."""

    def round_at(now: datetime) -> list[dict[str, Any]]:
        with ledge.database.begin() as session:
            start_weighings(
                session, Queue(ledge.database.url), session.get_one(Library, 1), Automation(), now
            )
        with ledge.database.begin() as session:
            rows = session.scalars(
                select(tables.Job).where(
                    tables.Job.kind == JobKind.WEIGHING, tables.Job.state == JobState.WAITING
                )
            ).all()
            for row in rows:
                row.state = JobState.FINISHED
            return [row.request for row in rows]

    return round_at


def add_page(ledge: Ledge, path: str, **values: Any) -> None:
    with ledge.database.begin() as session:
        page = page_of(session, 1, f"{SITE}{path}")
        for name, value in values.items():
            setattr(page, name, value)


def test_pages_are_weighed_at_their_times_once_each(ledge: Ledge, started: Any) -> None:
    add_page(ledge, "/a", schedule="0 6 * * *")
    add_page(ledge, "/b", schedule="0 6 * * *")
    add_page(ledge, "/c")
    early = datetime(2026, 6, 1, 5, 0, tzinfo=UTC)
    assert started(early) == []
    (order,) = started(early + timedelta(hours=2))
    assert sorted(order["addresses"]) == [f"{SITE}/a", f"{SITE}/b"]
    assert order["origin"] == "schedule"
    assert started(early + timedelta(hours=3)) == []
    assert len(started(early + timedelta(days=5))) == 1, "turns that were missed count once"


def test_pages_are_weighed_once_when_a_run_has_changed_something(ledge: Ledge, started: Any) -> None:
    now = datetime.now(UTC)
    add_page(ledge, "/a", after_runs_since=now - timedelta(hours=1))
    add_page(ledge, "/b", after_runs_since=now + timedelta(hours=1))
    assert started(now) == []

    def add_run(state: RunState, done: int, ago: timedelta = timedelta(minutes=1)) -> int:
        with ledge.database.begin() as session:
            row = Run(
                library_id=1,
                kind=RunKind.TREAT,
                state=state,
                done=done,
                files=3,
                settings=None,
                finished_at=now - ago if state is RunState.FINISHED else None,
            )
            session.add(row)
            session.flush()
            return row.id

    add_run(RunState.FINISHED, done=0)
    add_run(RunState.FINISHED, done=2, ago=timedelta(days=3))
    assert started(now) == []
    number = add_run(RunState.FINISHED, done=2)
    (order,) = started(now)
    assert (order["run_id"], order["origin"]) == (number, "run")
    assert [address.rpartition("/")[2] for address in order["addresses"]] == ["a"], "asked for after the run"
    assert started(now) == []
    add_run(RunState.FINISHED, done=1, ago=timedelta(seconds=1))
    add_run(RunState.RUNNING, done=1)
    assert started(now) == [], "while another run works, its times would not be the site's"


def test_several_weighings_may_wait_in_one_library(ledge: Ledge) -> None:
    from plumcrate.jobs.long_work import start

    with ledge.database.begin() as session:
        library = session.get_one(Library, 1)
        queue = Queue(ledge.database.url)
        for page in ("/a", "/b"):
            start(session, queue, library, JobKind.WEIGHING, WeighRequest(addresses=[page]))
        locks = session.scalars(
            select(func.count()).select_from(tables.Job).where(tables.Job.kind == JobKind.WEIGHING)
        ).one()
        assert locks == 2


def test_a_job_tells_of_its_pages(ledge: Ledge) -> None:
    from plumcrate.jobs.long_work import start
    from plumcrate.records.queries.jobs import job_view

    with ledge.database.begin() as session:
        row = start(
            session,
            Queue(ledge.database.url),
            session.get_one(Library, 1),
            JobKind.WEIGHING,
            WeighRequest(addresses=["/a"]),
        )
        view = job_view(session, row, "l")
    assert isinstance(view, Job)
    assert view.weighing is not None
    assert view.weighing.weighings == []
