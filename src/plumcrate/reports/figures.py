"""What a report says: sums over the files that were treated in some months."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, func, select, text
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.pictures import FileState
from plumcrate.contract.reports import PageWeight, ReportPicture, ReportSettings, SavingsReport
from plumcrate.contract.savings import Slat
from plumcrate.contract.weighing import Reading, WeighingKind
from plumcrate.records.queries.descriptions import main_language, summary
from plumcrate.records.queries.savings import SLATS, slat_of
from plumcrate.records.queries.traffic import sent_between, sent_by_month
from plumcrate.records.tables import Derived, File, Library, Picture, SitePage, Weighing

#: So many folders have a line of their own, and so many pictures are shown.
FOLDERS, SHOWN = 12, 6
_MOST_PAGES = 40


class NoSuchMonths(ValueError):
    """The months make no period; the text says why."""


def first_day(month: str) -> date:
    """Of a month such as 2026-11."""
    year, number = month.split("-")
    return date(int(year), int(number), 1)


def day_after(month: str) -> date:
    """The first day of the following month."""
    return (first_day(month) + timedelta(days=31)).replace(day=1)


def report(session: Session, library: Library, begins: str, ends: str, now: datetime) -> SavingsReport:
    """The report of the months ``begins`` to ``ends``, both among them, in the library's time zone. Raises
    :class:`NoSuchMonths`."""
    if ends < begins:
        raise NoSuchMonths(f"{ends} is before {begins}")
    zone = Automation.model_validate(library.automation).time_zone
    settings = ReportSettings.model_validate(library.report)
    first, after = first_day(begins), day_after(ends)
    since, until = (datetime(d.year, d.month, 1, tzinfo=ZoneInfo(zone)) for d in (first, after))
    period = {"library": library.id, "since": since, "until": until, "zone": zone}
    within = "f.treated_at >= :since AND f.treated_at < :until"

    def slats(name: str, where: str = within, order: str = "1") -> list[Slat]:
        rows = session.execute(text(SLATS.format(name=name, where=where, order=order)), period)
        return [slat_of(row) for row in rows]

    def single(name: str, where: str) -> Slat:
        found = slats(f"'{name}'", where)
        return found[0] if found else Slat(name=name, files=0, bytes_before=0, bytes_now=0, bytes_lightest=0)

    treated = File.treated_at >= since, File.treated_at < until
    mine = File.library_id == library.id, File.state != FileState.GONE, *treated
    copies, bytes_copies = session.execute(
        select(func.count(), func.coalesce(func.sum(Derived.size), 0))
        .join(File, File.id == Derived.file_id)
        .where(*mine)
    ).one()
    sent = sent_between(session, library.id, first, after)
    described = summary(session, library, main_language(library), ())
    return SavingsReport(
        library=library.slug,
        name=library.name,
        client=settings.client or library.name,
        sender=settings.sender,
        begins=begins,
        ends=ends,
        first_day=first,
        last_day=after - timedelta(days=1),
        time_zone=zone,
        made_at=now.astimezone(UTC),
        pictures=session.scalar(select(func.count(File.picture_id.distinct())).where(*mine)) or 0,
        treated=single("treated files", within),
        whole=single("all files", "true"),
        copies=copies,
        bytes_copies=int(bytes_copies),
        by_month=slats("to_char(f.treated_at AT TIME ZONE :zone, 'YYYY-MM')"),
        by_format=slats("coalesce(f.format, 'unknown')", order="3 DESC, 1"),
        by_folder=_few(slats("p.folder", order="3 DESC, 1")),
        sent=sent,
        sent_by_month=sent_by_month(session, library.id, first, after),
        best=_pictures(
            session,
            mine,
            [(Picture.bytes_before - Picture.bytes_lightest).desc()],
            Picture.bytes_before > Picture.bytes_lightest,
        ),
        worst=_pictures(session, mine, [Picture.worst], Picture.worst.is_not(None)),
        pages=_pages(session, library.id, since, until),
        all_pictures=described.pictures,
        described=described.described + described.decorative,
    )


def _few(folders: list[Slat]) -> list[Slat]:
    """The heaviest, and the others together."""
    if len(folders) <= FOLDERS:
        return folders
    rest = folders[FOLDERS - 1 :]
    others = Slat(
        name=f"{len(rest):,} other folders",
        files=sum(one.files for one in rest),
        bytes_before=sum(one.bytes_before for one in rest),
        bytes_now=sum(one.bytes_now for one in rest),
        bytes_lightest=sum(one.bytes_lightest for one in rest),
    )
    return [*folders[: FOLDERS - 1], others]


def _pictures(
    session: Session, mine: tuple[ColumnElement[bool], ...], order: list[Any], where: ColumnElement[bool]
) -> list[ReportPicture]:
    rows = session.scalars(
        select(Picture)
        .where(Picture.id.in_(select(File.picture_id).where(*mine)), Picture.original_id.is_not(None), where)
        .order_by(*order, Picture.id)
        .limit(SHOWN)
    )
    return [
        ReportPicture(
            picture_id=row.id,
            file_id=row.original_id or 0,
            path=row.path,
            bytes_before=row.bytes_before,
            bytes_now=row.bytes_now,
            bytes_lightest=row.bytes_lightest,
            worst=row.worst,
        )
        for row in rows
    ]


def _pages(session: Session, library_id: int, since: datetime, until: datetime) -> list[PageWeight]:
    """Pages that were weighed in the period, each beside its very first weighing."""
    real = Weighing.library_id == library_id, Weighing.kind == WeighingKind.REAL, Weighing.fault.is_(None)
    ends = session.execute(
        select(Weighing.page_id, func.min(Weighing.id), func.max(Weighing.id))
        .where(*real, Weighing.at < until)
        .group_by(Weighing.page_id)
        .having(func.max(Weighing.at) >= since)
        .order_by(Weighing.page_id)
        .limit(_MOST_PAGES)
    ).all()
    found = []
    for page_id, first_id, latest_id in ends:
        if first_id == latest_id:
            continue
        address = session.get_one(SitePage, page_id).address
        first, latest = (session.get_one(Weighing, number) for number in (first_id, latest_id))
        before = {one.device: one for one in _readings(first)}
        found += [
            PageWeight(
                address=address,
                device=str(after.device),
                first_at=first.at,
                latest_at=latest.at,
                picture_bytes_first=before[after.device].of_kind("pictures"),
                picture_bytes_latest=after.of_kind("pictures"),
                lcp_first=_lcp(before[after.device]),
                lcp_latest=_lcp(after),
            )
            for after in _readings(latest)
            if after.device in before
        ]
    return found


def _readings(weighing: Weighing) -> list[Reading]:
    return [Reading.model_validate(one) for one in weighing.report.get("readings", [])]


def _lcp(reading: Reading) -> float | None:
    return reading.lcp.median if reading.lcp is not None else None
