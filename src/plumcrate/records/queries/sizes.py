"""Sizes of a library with what stands there of each, and which of it nobody asked for."""

from __future__ import annotations

from datetime import UTC, datetime, time, timedelta
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, exists, func, or_, select
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.contract.sizes import NamedSize, SizeSettings, UnusedSize, UnusedSizes
from plumcrate.records.tables import AskedFile, Derived, File, Library, SentBytes, SizeRow, Weighing


def named_sizes(session: Session, library: Library) -> list[NamedSize]:
    """By name."""
    rows = session.scalars(select(SizeRow).where(SizeRow.library_id == library.id).order_by(SizeRow.name))
    sums = {name: rest for name, *rest in session.execute(_sums(library.id))}
    return [_view(row, library.slug, sums.get(row.name, (0, 0, 0, 0))) for row in rows]


def named_size(session: Session, library: Library, name: str) -> NamedSize | None:
    """None where there is none of this name."""
    return next((one for one in named_sizes(session, library) if one.name == name), None)


def _sums(library_id: int) -> Select[Any]:
    there = File.state != FileState.GONE
    lightest = (
        select(func.min(Derived.size))
        .where(Derived.file_id == File.id, Derived.stands_in)
        .correlate(File)
        .scalar_subquery()
    )
    waits = or_(and_(there, File.unwanted), and_(~there, ~File.unwanted))
    return (
        select(
            File.size_name,
            func.count().filter(there),
            func.coalesce(func.sum(File.size_now).filter(there), 0),
            func.coalesce(func.sum(func.least(File.size_now, lightest)).filter(there), 0),
            func.count().filter(waits),
        )
        .where(File.library_id == library_id, File.size_name.is_not(None))
        .group_by(File.size_name)
    )


def _view(row: SizeRow, slug: str, sums: Any) -> NamedSize:
    files, size, lightest, waiting = (int(value) for value in sums)
    return NamedSize(
        library=slug,
        name=row.name,
        settings=SizeSettings.model_validate(row.settings),
        files=files,
        bytes=size,
        bytes_lightest=lightest,
        waiting=waiting,
        by=row.by,
        created_at=row.created_at,
    )


def counted_since(session: Session, library_id: int) -> datetime | None:
    """From when on it is known what was asked for, by visits or by weighed pages; None for not at all."""
    first = session.scalar(select(func.min(SentBytes.day)).where(SentBytes.library_id == library_id))
    weighed = session.scalar(select(func.min(Weighing.at)).where(Weighing.library_id == library_id))
    begun = [datetime.combine(first, time(), UTC)] if first is not None else []
    return min([*begun, *([weighed] if weighed is not None else [])], default=None)


def not_asked_for(library_id: int, days: int) -> ColumnElement[bool]:
    """Files of sizes that stand there and that nobody asked for within so many days."""
    asked = exists(
        select(1)
        .where(AskedFile.file_id == File.id, AskedFile.day >= func.current_date() - days)
        .correlate(File)
    )
    return and_(*_standing(library_id), ~asked)


def unused_sizes(session: Session, library_id: int, days: int) -> UnusedSizes:
    """Files of sizes by whether anybody asked for them within so many days."""
    since = counted_since(session, library_id)
    if since is None:
        return UnusedSizes(since=None, days=days, sizes=[])
    there = and_(*_standing(library_id))
    idle = not_asked_for(library_id, days)
    young = and_(idle, File.treated_at >= func.now() - timedelta(days=days))
    rows = session.execute(
        select(
            File.size_name,
            func.count().filter(idle),
            func.coalesce(func.sum(File.size_now).filter(idle), 0),
            func.count().filter(young),
            func.count().filter(there, ~idle),
            func.count().filter(File.removed_unused),
        )
        .where(File.library_id == library_id, File.size_name.is_not(None))
        .group_by(File.size_name)
        .order_by(File.size_name)
    )
    return UnusedSizes(
        since=since,
        days=days,
        sizes=[
            UnusedSize(
                name=name or "",
                files=files,
                bytes=int(size),
                young=fresh,
                asked_for=others,
                removed_unused=gone,
            )
            for name, files, size, fresh, others, gone in rows
        ],
    )


def _standing(library_id: int) -> tuple[ColumnElement[bool], ...]:
    ours = File.library_id == library_id, File.size_name.is_not(None)
    return *ours, File.state != FileState.GONE, ~File.removed_unused
