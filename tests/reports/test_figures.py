"""What a report adds up: the files treated in its months, in the library's time zone, and nothing else."""

import csv
import io
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import pytest
from conftest import add_library
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.pictures import FileState
from plumcrate.contract.reports import ReportSettings, SavingsReport
from plumcrate.contract.savings import Slat
from plumcrate.contract.weighing import Device, KindWeight, Line, Processor, Reading, Spread
from plumcrate.records.database import Database
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.queries.traffic import TrafficCount, add_sent
from plumcrate.records.tables import Derived, File, Library, Picture, SitePage, Weighing
from plumcrate.reports.figures import FOLDERS, NoSuchMonths, report
from plumcrate.reports.table import COLUMNS, table

NOW = datetime(2026, 11, 26, tzinfo=UTC)


def add_file(
    session: Session,
    path: str,
    treated: datetime | None,
    before: int = 1000,
    now: int = 400,
    *,
    copy: int | None = None,
    worst: float | None = None,
    state: str = FileState.LIGHTER,
) -> None:
    folder, _, name = path.rpartition("/")
    picture = Picture(library_id=1, path=path, folder=folder, name=name)
    session.add(picture)
    session.flush()
    file = File(
        library_id=1,
        picture_id=picture.id,
        path=path,
        folder=folder,
        format=path.rpartition(".")[2],
        width=10,
        height=10,
        size_before=before,
        size_now=now,
        mtime_ns=1,
        mtime_ns_before=1,
        state=state,
        treated_at=treated,
        score=80.0,
        worst=worst,
    )
    session.add(file)
    session.flush()
    if copy is not None:
        session.add(
            Derived(
                library_id=1,
                file_id=file.id,
                purpose="copy",
                format="webp",
                path=f"{path}.webp",
                size=copy,
                sha256=b"1",
            )
        )
    session.flush()
    refresh_pictures(session, [picture.id])


@pytest.fixture
def filled(database: Database) -> Database:
    add_library(database, Path("/l"))
    with database.begin() as session:
        session.get_one(Library, 1).automation = Automation(time_zone="Europe/Berlin").model_dump(mode="json")
        add_file(session, "a/1.jpeg", datetime(2026, 1, 15, tzinfo=UTC), copy=300)
        add_file(session, "a/2.png", datetime(2026, 3, 31, 21, 59, tzinfo=UTC), 5000, 500, worst=61)
        # In Berlin it is April already.
        add_file(session, "b/3.jpeg", datetime(2026, 3, 31, 22, 1, tzinfo=UTC), 3000, 900, copy=200, worst=57)
        add_file(session, "b/4.jpeg", datetime(2026, 4, 10, tzinfo=UTC), 2000, 2000, state=FileState.KEPT)
        add_file(session, "c/5.jpeg", None, 9000, 9000)
        add_file(session, "c/6.jpeg", datetime(2026, 4, 11, tzinfo=UTC), 7000, 100, state=FileState.GONE)
    return database


def made(database: Database, begins: str, ends: str) -> SavingsReport:
    with database.begin() as session:
        return report(session, session.get_one(Library, 1), begins, ends, NOW)


def test_months_formats_and_folders_each_add_up_to_the_whole(filled: Database) -> None:
    whole = made(filled, "2026-01", "2026-12")
    assert (whole.treated.files, whole.pictures, whole.copies, whole.bytes_copies) == (4, 4, 2, 500)
    assert (whole.treated.bytes_before, whole.treated.bytes_now, whole.treated.bytes_lightest) == (
        11_000,
        3_800,
        3_000,
    )
    for slats in (whole.by_month, whole.by_format, whole.by_folder):
        for name in ("files", "bytes_before", "bytes_now", "bytes_lightest"):
            assert sum(getattr(slat, name) for slat in slats) == getattr(whole.treated, name)
    assert [(slat.name, slat.files) for slat in whole.by_month] == [
        ("2026-01", 1),
        ("2026-03", 1),
        ("2026-04", 2),
    ]
    assert [slat.name for slat in whole.by_format] == ["jpeg", "png"]
    assert whole.whole.files == 5, "the one that is gone is no file of the library"


@pytest.mark.parametrize(
    ("begins", "ends", "files"),
    [
        ("2026-03", "2026-03", 1),
        ("2026-04", "2026-04", 2),
        ("2026-02", "2026-02", 0),
        ("2025-01", "2026-01", 1),
    ],
)
def test_a_month_ends_at_midnight_in_the_librarys_time_zone(
    filled: Database, begins: str, ends: str, files: int
) -> None:
    found = made(filled, begins, ends)
    assert found.treated.files == files
    assert sum(slat.files for slat in found.by_month) == files


def test_months_that_make_no_period(filled: Database) -> None:
    with pytest.raises(NoSuchMonths, match="2026-01 is before 2026-02"):
        made(filled, "2026-02", "2026-01")
    leap = made(filled, "2028-02", "2028-02")
    assert (leap.first_day, leap.last_day) == (date(2028, 2, 1), date(2028, 2, 29))


def test_best_and_worst_pictures(filled: Database) -> None:
    found = made(filled, "2026-01", "2026-12")
    assert [one.path for one in found.best] == ["a/2.png", "b/3.jpeg", "a/1.jpeg"]
    assert [(one.path, one.worst) for one in found.worst] == [("b/3.jpeg", 57), ("a/2.png", 61)]
    assert [one.path for one in made(filled, "2026-04", "2026-04").best] == ["b/3.jpeg"]


def test_many_folders_are_summed_up(filled: Database) -> None:
    with filled.begin() as session:
        for number in range(30):
            add_file(session, f"many/{number}/x.jpeg", datetime(2026, 6, 1, tzinfo=UTC), 10 + number, 5)
    found = made(filled, "2026-06", "2026-06")
    assert len(found.by_folder) == FOLDERS
    assert found.by_folder[-1].name == "19 other folders"
    assert sum(slat.files for slat in found.by_folder) == 30


def test_what_visitors_were_sent_in_these_months_without_programs(filled: Database) -> None:
    with filled.begin() as session:
        add_sent(
            session,
            [
                TrafficCount(1, date(2026, 3, 31), 1, "webp", False, 2, 100, 500),
                TrafficCount(1, date(2026, 4, 1), 1, "webp", False, 3, 200, 900),
                TrafficCount(1, date(2026, 4, 30), 2, "jpeg", False, 1, 50, 50),
                TrafficCount(1, date(2026, 4, 30), 2, "jpeg", True, 9, 900, 900),
                TrafficCount(1, date(2026, 5, 1), 2, "jpeg", False, 1, 7, 7),
            ],
        )
    found = made(filled, "2026-03", "2026-04")
    assert (found.sent.requests, found.sent.bytes, found.sent.bytes_before) == (6, 350, 1450)
    assert [(one.name, one.requests) for one in found.sent_by_month] == [("2026-03", 2), ("2026-04", 4)]


def reading(device: Device, pictures: int, lcp: float | None) -> dict[str, Any]:
    spread = Spread(median=1, low=1, high=1)
    return Reading(
        device=device,
        line=Line.MOBILE,
        processor=Processor.SLOW,
        passes=1,
        landed="https://x.example/",
        bytes=spread,
        first_bytes=spread,
        requests=spread,
        pictures=[],
        width=1,
        height=1,
        kinds=[KindWeight(name="pictures", requests=1, bytes=pictures)],
        lcp=Spread(median=lcp, low=lcp, high=lcp) if lcp is not None else None,
    ).model_dump(mode="json")


def test_pages_stand_beside_their_first_weighing(filled: Database) -> None:
    with filled.begin() as session:
        for address in ("https://ledge.example/", "https://ledge.example/once"):
            session.add(SitePage(library_id=1, address=address))
        session.flush()

        def weighed(page: int, at: datetime, *readings: dict[str, Any], **more: Any) -> None:
            report = {"readings": list(readings)}
            values = {"kind": "real", "origin": "person"} | more
            session.add(Weighing(library_id=1, page_id=page, at=at, report=report, **values))
            session.flush()

        phone, desktop = Device.PHONE, Device.DESKTOP
        weighed(1, datetime(2026, 1, 1, tzinfo=UTC), reading(phone, 900, 2.0), reading(desktop, 800, 1.0))
        weighed(1, datetime(2026, 2, 1, tzinfo=UTC), reading(phone, 500, 1.5))
        weighed(1, datetime(2026, 3, 1, tzinfo=UTC), reading(phone, 1, 0.1), kind="what-if")
        weighed(1, datetime(2026, 3, 2, tzinfo=UTC), fault="it was away")
        weighed(1, datetime(2026, 5, 1, tzinfo=UTC), reading(phone, 100, None), reading(desktop, 90, 0.5))
        weighed(2, datetime(2026, 5, 1, tzinfo=UTC), reading(phone, 100, 1.0))
    found = made(filled, "2026-05", "2026-05").pages
    assert [(one.device, one.picture_bytes_first, one.picture_bytes_latest) for one in found] == [
        ("phone", 900, 100),
        ("desktop", 800, 90),
    ]
    assert [(one.lcp_first, one.lcp_latest) for one in found] == [(2.0, None), (1.0, 0.5)]
    assert [one.picture_bytes_latest for one in made(filled, "2026-02", "2026-02").pages] == [500]
    assert made(filled, "2026-06", "2026-06").pages == [], "it was not weighed in that month"


def test_whose_report_it_is(filled: Database) -> None:
    assert made(filled, "2026-01", "2026-01").client == "L"
    with filled.begin() as session:
        session.get_one(Library, 1).report = ReportSettings(client="The trust", sender="Us").model_dump(
            mode="json"
        )
    found = made(filled, "2026-01", "2026-01")
    assert (found.client, found.sender) == ("The trust", "Us")


def test_the_table_holds_every_figure(filled: Database) -> None:
    found = made(filled, "2026-01", "2026-12")
    rows = list(csv.DictReader(io.StringIO("".join(table(found)))))
    assert tuple(rows[0]) == COLUMNS

    def of(part: str) -> list[dict[str, str]]:
        return [row for row in rows if row["part"] == part]

    for part, slats in (("month", found.by_month), ("format", found.by_format), ("folder", found.by_folder)):
        assert [
            Slat(
                name=row["name"],
                files=int(row["files"]),
                bytes_before=int(row["bytes_before"]),
                bytes_now=int(row["bytes_now"]),
                bytes_lightest=int(row["bytes_lightest"]),
            )
            for row in of(part)
        ] == slats
    assert [row["name"] for row in of("best picture")] == [one.path for one in found.best]
    assert of("treated")[0]["saved_percent"] == "72.7"
