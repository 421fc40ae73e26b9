"""Letting go of files of sizes that nobody asks for, and bringing them back.

Such a file keeps its row, so that its size does not make it again at the next run; whoever asks for it is
sent the picture itself, and that it was asked for brings it back.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, and_, func, select, true, update
from sqlalchemy.orm import Session

from plumcrate.contract.sizes import RemoveUnused, UnusedFiles
from plumcrate.records.queries.sizes import counted_since, not_asked_for
from plumcrate.records.tables import File, Library, SizeRow
from plumcrate.refusal import Refusal


def remove_unused(session: Session, library: Library, asked: RemoveUnused) -> UnusedFiles:
    """Marks files that stand there for at least so many days and that nobody asked for in that time: the next
    run removes them. Raises :class:`Refusal` while visits were not counted for so long."""
    _known(session, library, asked.size)
    since = counted_since(session, library.id)
    if since is None:
        raise Refusal(
            "not-counted", "nothing was counted yet: count visits, or weigh pages, then ask again later"
        )
    days = (datetime.now(UTC) - since).days
    if days < asked.days:
        raise Refusal(
            "not-counted",
            f"visits are counted since {since:%Y-%m-%d}, {days} days: that does not tell what was asked for "
            f"in {asked.days} days; wait, or ask for fewer days",
        )
    made_before = func.now() - timedelta(days=asked.days)
    rows = select(File.id).where(
        not_asked_for(library.id, asked.days), File.treated_at < made_before, ~File.unwanted
    )
    if asked.size is not None:
        rows = rows.where(File.size_name == asked.size)
    return _set(session, File.id.in_(rows), removed_unused=True)


def bring_back(session: Session, library: Library, size: str | None) -> UnusedFiles:
    """The next run makes again what was removed, of one size or of all. Raises :class:`Refusal`."""
    _known(session, library, size)
    of_size = true() if size is None else File.size_name == size
    return _set(
        session, and_(File.library_id == library.id, File.removed_unused, of_size), removed_unused=False
    )


def _set(session: Session, which: ColumnElement[bool], *, removed_unused: bool) -> UnusedFiles:
    changed = session.scalars(
        update(File)
        .where(which)
        .values(removed_unused=removed_unused, unwanted=removed_unused)
        .returning(File.size_now)
        .execution_options(synchronize_session=False)
    ).all()
    return UnusedFiles(files=len(changed), bytes=sum(changed))


def _known(session: Session, library: Library, size: str | None) -> None:
    if size is None:
        return
    there = select(SizeRow.id).where(SizeRow.library_id == library.id, SizeRow.name == size)
    if session.scalar(there) is None:
        raise Refusal("not-found", f"there is no size called {size}")
