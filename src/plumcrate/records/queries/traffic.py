"""What visitors were sent: noted in bulk, and summed up."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from datetime import date, timedelta
from typing import Any

from sqlalchemy import ColumnElement, Row, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.delivery import Sent, Traffic
from plumcrate.records.tables import CountedLog, Derived, File, Picture, SentBytes

_BATCH = 1_000
_KEY = ("library_id", "day", "picture_id", "format", "bot")
_MOST_PICTURES = 50


@dataclass(frozen=True, slots=True)
class TrafficCount:
    """Some requests of a day for one picture in one format. ``picture_id`` is 0 where it is not known."""

    library_id: int
    day: date
    picture_id: int
    format: str
    bot: bool
    requests: int
    bytes: int
    bytes_before: int


def add_sent(session: Session, notes: Iterable[TrafficCount]) -> None:
    """Adds to the sums."""
    # In one order whoever adds, so that two never wait for each other.
    rows = sorted(map(asdict, notes), key=lambda row: tuple(row[name] for name in _KEY))
    for at in range(0, len(rows), _BATCH):
        added = insert(SentBytes).values(rows[at : at + _BATCH])
        session.execute(
            added.on_conflict_do_update(
                index_elements=_KEY,
                set_={
                    name: getattr(SentBytes, name) + added.excluded[name]
                    for name in ("requests", "bytes", "bytes_before")
                },
            )
        )


@dataclass(frozen=True, slots=True)
class Weights:
    """What a path on record weighs in its forms: bytes by format, and what the file weighed at first."""

    picture_id: int
    own: str
    sizes: dict[str, int]
    size_before: int


def weights(session: Session, library_id: int, paths: Sequence[str]) -> dict[str, Weights]:
    """By path, of files and of what is derived from them."""
    found: dict[str, Weights] = {}
    for at in range(0, len(paths), _BATCH):
        part = paths[at : at + _BATCH]
        for file in session.scalars(select(File).where(File.library_id == library_id, File.path.in_(part))):
            copies = {row.format: row.size for row in file.copies}
            own = file.format or "other"
            found[file.path] = Weights(file.picture_id, own, copies | {own: file.size_now}, file.size_before)
        query = select(Derived).where(Derived.library_id == library_id, Derived.path.in_(part))
        for row in session.scalars(query):
            found[row.path] = Weights(
                row.file.picture_id, row.format, {row.format: row.size}, row.file.size_before
            )
    return found


def log_position(session: Session, library_id: int, log: str) -> int:
    """Up to which byte a log was counted; 0 for one that is new."""
    found = session.get(CountedLog, (library_id, log))
    return found.position if found is not None else 0


def advance_log(session: Session, library_id: int, log: str, begin: int, end: int) -> bool:
    """Notes that a stretch was counted; False when it was not its turn."""
    session.execute(
        insert(CountedLog).values(library_id=library_id, log=log, position=0).on_conflict_do_nothing()
    )
    moved = session.execute(
        update(CountedLog)
        .where(CountedLog.library_id == library_id, CountedLog.log == log, CountedLog.position == begin)
        .values(position=end, at=func.now())
        .returning(CountedLog.position)
    )
    return moved.first() is not None


def traffic(session: Session, library_id: int, days: int) -> Traffic:
    """Sums over the last days, today among them."""
    since = func.current_date() - timedelta(days=days - 1)
    mine = (SentBytes.library_id == library_id, SentBytes.day >= since)
    people = (*mine, SentBytes.bot.is_(False))
    by_picture = session.execute(
        select(func.coalesce(Picture.path, "not on record"), *_sums())
        .outerjoin(Picture, Picture.id == SentBytes.picture_id)
        .where(*people)
        .group_by(Picture.path)
        .order_by((func.sum(SentBytes.bytes_before) - func.sum(SentBytes.bytes)).desc(), Picture.path)
        .limit(_MOST_PICTURES)
    )
    return Traffic(
        days=days,
        total=_sent("", session.execute(select(*_sums()).where(*people)).one()),
        bots=_sent("", session.execute(select(*_sums()).where(*mine, SentBytes.bot.is_(True))).one()),
        by_day=_grouped(session, SentBytes.day, people),
        by_format=_grouped(session, SentBytes.format, people),
        by_picture=[_sent(name, rest) for name, *rest in by_picture],
    )


def sent_between(session: Session, library_id: int, since: date, until: date) -> Sent:
    """What visitors were sent from a day on, up to the day before another."""
    where = _of_visitors(library_id, since, until)
    return _sent("", session.execute(select(*_sums()).where(*where)).one())


def sent_by_month(session: Session, library_id: int, since: date, until: date) -> list[Sent]:
    """The same by month, such as 2026-11."""
    return _grouped(session, func.to_char(SentBytes.day, "YYYY-MM"), _of_visitors(library_id, since, until))


def _of_visitors(library_id: int, since: date, until: date) -> tuple[ColumnElement[bool], ...]:
    return (
        SentBytes.library_id == library_id,
        SentBytes.day >= since,
        SentBytes.day < until,
        SentBytes.bot.is_(False),
    )


def _grouped(session: Session, column: Any, where: Sequence[ColumnElement[bool]]) -> list[Sent]:
    query = select(column.label("of"), *_sums()).where(*where).group_by("of").order_by("of")
    return [_sent(str(name), rest) for name, *rest in session.execute(query)]


def _sums() -> list[ColumnElement[int]]:
    return [
        func.coalesce(func.sum(column), 0)
        for column in (SentBytes.requests, SentBytes.bytes, SentBytes.bytes_before)
    ]


def _sent(name: str, sums: Sequence[int] | Row[tuple[int, ...]]) -> Sent:
    requests, sent, before = (int(value) for value in sums)
    return Sent(name=name, requests=requests, bytes=sent, bytes_before=before)
