"""A library's allowance: which pictures of its runs may begin in this month, and what has counted.

A picture is let through by the feeder, whole, in the transaction that puts it in the queue, as long as
something of the month is left; so the last one may go a little beyond, and none stays half done. From then on
its files count, each once a month. What was let through and never treated is given back.
"""

from __future__ import annotations

import calendar
from collections.abc import Collection
from datetime import date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import delete, exists, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, aliased

from plumcrate.contract.allowance import Allowance, AllowanceMonth, AllowanceSettings, AllowanceUnit
from plumcrate.contract.automation import Automation
from plumcrate.contract.runs import ItemState, RunKind, RunState
from plumcrate.contract.webhooks import EventType
from plumcrate.records.tables import AllowanceNotice, AllowanceUse, File, Item, Library, Run
from plumcrate.webhooks.outgoing import notify_webhooks

#: Somebody is told when so many hundredths are used.
NEARLY, ALL = 80, 100
_OPEN = (RunState.RUNNING, RunState.PAUSED)


def month_of(automation: Automation, now: datetime) -> date:
    """The first day of the month that it is in the library's time zone."""
    return now.astimezone(ZoneInfo(automation.time_zone)).date().replace(day=1)


def next_month(month: date) -> date:
    return (month + timedelta(days=31)).replace(day=1)


def begin_of(month: date, automation: Automation) -> datetime:
    """When a month begins in the library's time zone."""
    return datetime(month.year, month.month, 1, tzinfo=ZoneInfo(automation.time_zone))


def used(session: Session, library_id: int, month: date) -> tuple[int, int]:
    """Files and pixels that count in a month, those in hand among them."""
    mine = AllowanceUse.library_id == library_id, AllowanceUse.month == month
    sums = select(func.count(), func.coalesce(func.sum(AllowanceUse.pixels), 0)).where(*mine)
    files, pixels = session.execute(sums).one()
    return int(files), int(pixels)


def in_unit(settings: AllowanceSettings, files: int, pixels: int) -> float:
    return float(files) if settings.unit is AllowanceUnit.FILES else pixels / 1e6


def notice_of(settings: AllowanceSettings, amount_used: float, month: date) -> str | None:
    """What is to be known of an allowance, in plain words; None while there is enough."""
    if settings.amount is None or amount_used * 100 < settings.amount * NEARLY:
        return None
    if amount_used >= settings.amount:
        following = next_month(month)
        return (
            f"The allowance of {settings.amount:,} {settings.unit} for {_named(month)} is used up; new work "
            f"waits for 1 {calendar.month_name[following.month]}."
        )
    share = amount_used / settings.amount
    return f"{share:.0%} of the allowance of {settings.amount:,} {settings.unit} for {_named(month)} is used."


def _named(month: date) -> str:
    return f"{calendar.month_name[month.month]} {month.year}"


class Meter:
    """A library's allowance during one round of the feeder, which holds its lock."""

    def __init__(self, session: Session, library: Library, automation: Automation, now: datetime) -> None:
        self._session, self._library = session, library
        self._settings = AllowanceSettings.model_validate(library.allowance)
        self._month = month_of(automation, now)
        self._left: float | None = None
        if self._settings.amount is not None:
            self._left = self._settings.amount - in_unit(
                self._settings, *used(session, library.id, self._month)
            )

    @property
    def spent(self) -> bool:
        return self._left is not None and self._left <= 0

    def words(self) -> str:
        """Why a run waits."""
        following = next_month(self._month)
        assert self._settings.amount is not None
        return (
            f"its allowance: the {self._settings.amount:,} {self._settings.unit} of {_named(self._month)} "
            f"are used up; it goes on by itself on 1 {calendar.month_name[following.month]}"
        )

    def let_through(self, run: Run, pictures: Collection[int]) -> list[int]:
        """Those of the pictures, in their order, that may begin; their files count from now on."""
        sizes: dict[int, dict[int, int]] = {picture: {} for picture in pictures}
        for picture_id, file_id, megapixels in self._session.execute(self._costing(run, pictures)):
            sizes[picture_id][file_id] = round(megapixels * 1e6)
        by_files = self._settings.unit is AllowanceUnit.FILES
        through: list[int] = []
        for picture_id, files in sizes.items():
            if files and self.spent:
                continue
            if self._left is not None:
                self._left -= len(files) if by_files else sum(files.values()) / 1e6
            self._note(files)
            through.append(picture_id)
        if through:
            self._session.execute(
                update(Item)
                .where(Item.run_id == run.id, Item.picture_id.in_(through), Item.finished_at.is_(None))
                .values(admitted=True)
            )
        return through

    def free(self, run: Run, most: int) -> list[int]:
        """Pictures that wait and all of whose files have counted in this month."""
        other = aliased(Item)
        sibling = exists(
            select(1)
            .select_from(File)
            .join(other, other.file_id == File.id)
            .where(
                File.picture_id == Item.picture_id,
                other.run_id == run.id,
                other.finished_at.is_(None),
                ~self._counts(other.file_id),
            )
        ).correlate(Item)
        query = (
            select(Item.picture_id)
            .where(
                Item.run_id == run.id,
                Item.state == ItemState.WAITING,
                ~Item.admitted,
                self._counts(Item.file_id),
                ~sibling,
            )
            .order_by(Item.id)
            .limit(most)
        )
        return list(dict.fromkeys(self._session.scalars(query)))

    def give_notice(self) -> None:
        """Tells, once, that most or all of the allowance is used."""
        amount = self._settings.amount
        if amount is None or self._left is None:
            return
        for share, event in ((NEARLY, EventType.ALLOWANCE_NEARLY_USED), (ALL, EventType.ALLOWANCE_USED)):
            if (amount - self._left) * 100 < amount * share:
                continue
            told = self._session.execute(
                insert(AllowanceNotice)
                .values(
                    library_id=self._library.id,
                    month=self._month,
                    threshold=f"{share} {amount} {self._settings.unit}",
                )
                .on_conflict_do_nothing()
                .returning(AllowanceNotice.threshold)
            )
            if told.first() is not None:
                notify_webhooks(
                    self._session,
                    self._library,
                    event,
                    {
                        "month": f"{self._month:%Y-%m}",
                        "unit": str(self._settings.unit),
                        "amount": amount,
                        "used": round(amount - self._left, 3),
                    },
                )

    def _counts(self, file_id: Any) -> Any:
        return exists(
            select(1).where(
                AllowanceUse.library_id == self._library.id,
                AllowanceUse.month == self._month,
                AllowanceUse.file_id == file_id,
            )
        )

    def _costing(self, run: Run, pictures: Collection[int]) -> Any:
        """The waiting files of the pictures that were not let through before and have not counted yet."""
        return (
            select(Item.picture_id, Item.file_id, Item.megapixels)
            .where(
                Item.run_id == run.id,
                Item.picture_id.in_(pictures),
                Item.finished_at.is_(None),
                ~Item.admitted,
                ~self._counts(Item.file_id),
            )
            .order_by(Item.id)
        )

    def _note(self, files: dict[int, int]) -> None:
        if files:
            rows = [
                {
                    "library_id": self._library.id,
                    "month": self._month,
                    "file_id": file,
                    "pixels": pixels,
                    "counted": False,
                }
                for file, pixels in files.items()
            ]
            self._session.execute(insert(AllowanceUse).values(rows).on_conflict_do_nothing())


def give_back(session: Session) -> None:
    """What was let through counts no more when its run has ended without treating it."""
    in_hand = (
        select(1)
        .select_from(Item)
        .join(Run, Run.id == Item.run_id)
        .where(
            Item.file_id == AllowanceUse.file_id,
            Item.finished_at.is_(None),
            Item.admitted,
            Run.state.in_(_OPEN),
        )
    )
    session.execute(delete(AllowanceUse).where(~AllowanceUse.counted, ~exists(in_hand)))


def count(session: Session, item: Item, now: datetime) -> None:
    """Notes that an item's file was treated: what was let through counts for good. In this month where it was
    given back meanwhile, as when the run was stopped with the file in hand."""
    of_its_library = select(Run.library_id).where(Run.id == item.run_id).scalar_subquery()
    counted = session.execute(
        update(AllowanceUse)
        .where(
            AllowanceUse.library_id == of_its_library,
            AllowanceUse.file_id == item.file_id,
            ~AllowanceUse.counted,
        )
        .values(counted=True)
        .returning(AllowanceUse.month)
    )
    if counted.first() is None:
        library = session.get_one(Library, session.get_one(Run, item.run_id).library_id)
        session.execute(
            insert(AllowanceUse)
            .values(
                library_id=library.id,
                month=month_of(Automation.model_validate(library.automation), now),
                file_id=item.file_id,
                pixels=round(item.megapixels * 1e6),
                counted=True,
            )
            .on_conflict_do_nothing()
        )


def allowance_view(session: Session, library: Library, automation: Automation, now: datetime) -> Allowance:
    """A library's allowance as the wire shows it, with its last twelve months."""
    settings = AllowanceSettings.model_validate(library.allowance)
    month = month_of(automation, now)
    months = session.execute(
        select(AllowanceUse.month, func.count(), func.sum(AllowanceUse.pixels))
        .where(AllowanceUse.library_id == library.id)
        .group_by(AllowanceUse.month)
        .order_by(AllowanceUse.month.desc())
        .limit(12)
    ).all()
    amount_used = in_unit(settings, *used(session, library.id, month))
    left = None if settings.amount is None else max(0.0, settings.amount - amount_used)
    return Allowance(
        library=library.slug,
        unit=settings.unit,
        amount=settings.amount,
        used=round(amount_used, 3),
        left=None if left is None else round(left, 3),
        month=f"{month:%Y-%m}",
        resets_at=begin_of(next_month(month), automation),
        time_zone=automation.time_zone,
        files_waiting=0 if left is None or left > 0 else _files_waiting(session, library.id),
        notice=notice_of(settings, amount_used, month),
        months=[
            AllowanceMonth(month=f"{each:%Y-%m}", files=files, megapixels=round(int(pixels) / 1e6, 3))
            for each, files, pixels in months
        ],
    )


def _files_waiting(session: Session, library_id: int) -> int:
    """Files of runs that treat and that have not been let through."""
    running = select(Run.id).where(
        Run.library_id == library_id, Run.state == RunState.RUNNING, Run.kind == RunKind.TREAT
    )
    waiting = Item.run_id.in_(running), Item.state == ItemState.WAITING, ~Item.admitted
    return int(session.scalar(select(func.count()).select_from(Item).where(*waiting)) or 0)
