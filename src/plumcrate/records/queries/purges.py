"""Addresses whose caches have yet to be told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import ColumnElement, and_, delete, func, or_, select, update
from sqlalchemy.orm import Session

from plumcrate.contract.delivery import Purges
from plumcrate.records.tables import Library, Purge


@dataclass(frozen=True, slots=True)
class DuePurge:
    """One address to tell of. ``asked`` is the count that was read with it."""

    id: int
    path: str
    picture_id: int | None
    asked: int
    attempts: int


def libraries_due(session: Session) -> list[Library]:
    """Libraries that have something to tell now."""
    due = select(Purge.library_id).where(Purge.due_at <= func.now())
    return list(session.scalars(select(Library).where(Library.id.in_(due)).order_by(Library.id)))


def take_due(session: Session, library_id: int, most: int) -> list[DuePurge]:
    """The addresses that are due, the longest first; another worker's are passed over."""
    rows = session.scalars(
        select(Purge)
        .where(Purge.library_id == library_id, Purge.due_at <= func.now())
        .order_by(Purge.due_at, Purge.id)
        .limit(most)
        .with_for_update(skip_locked=True)
    )
    return [DuePurge(row.id, row.path, row.picture_id, row.asked, row.attempts) for row in rows]


def told(session: Session, due: Sequence[DuePurge]) -> None:
    """Forgets what was told, unless it changed meanwhile."""
    for part in _parts(due):
        session.execute(delete(Purge).where(_as_read(part)))


def put_off(session: Session, due: Sequence[DuePurge], seconds: float, said: str) -> None:
    """To be tried again later."""
    for part in _parts(due):
        session.execute(
            update(Purge)
            .where(_as_read(part))
            .values(attempts=Purge.attempts + 1, due_at=func.now() + timedelta(seconds=seconds), said=said)
        )


def hold(session: Session, due: Sequence[DuePurge], seconds: float) -> None:
    """Keeps others from what is being told, for as long as that may take."""
    later = func.now() + timedelta(seconds=seconds)
    for part in _parts(due):
        session.execute(update(Purge).where(_as_read(part)).values(due_at=later))


def waiting(session: Session, library_id: int) -> Purges:
    mine = Purge.library_id == library_id
    count = session.scalar(select(func.count()).where(mine)) or 0
    failing = session.scalar(select(func.count()).where(mine, Purge.attempts > 0)) or 0
    said = session.scalar(
        select(Purge.said).where(mine, Purge.said.is_not(None)).order_by(Purge.due_at.desc()).limit(1)
    )
    return Purges(waiting=count, failing=failing, said=said)


def _parts(due: Sequence[DuePurge]) -> list[Sequence[DuePurge]]:
    return [due[at : at + 200] for at in range(0, len(due), 200)]


def _as_read(due: Sequence[DuePurge]) -> ColumnElement[bool]:
    return or_(*(and_(Purge.id == row.id, Purge.asked == row.asked) for row in due))
