"""Letting go of files of sizes that nobody asks for, and bringing them back.

Such a file keeps its row, so that its size does not make it again at the next run; whoever asks for it is
sent the picture itself, and that it was asked for brings it back.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, and_, func, select, true, update
from sqlalchemy.orm import Session

from plumcrate.contract.sizes import FilesLetGo, LettingGo
from plumcrate.records.queries.sizes import counted_since, not_asked_for
from plumcrate.records.tables import File, Library, SizeRow
from plumcrate.refusal import Refusal


def let_unused_go(session: Session, library: Library, asked: LettingGo) -> FilesLetGo:
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
        rows = rows.where(File.size == asked.size)
    return _mark(session, File.id.in_(rows), let_go=True)


def bring_back(session: Session, library: Library, size: str | None) -> FilesLetGo:
    """The next run makes again what was let go, of one size or of all. Raises :class:`Refusal`."""
    _known(session, library, size)
    of_size = true() if size is None else File.size == size
    return _mark(session, and_(File.library_id == library.id, File.let_go, of_size), let_go=False)


def _mark(session: Session, which: ColumnElement[bool], *, let_go: bool) -> FilesLetGo:
    marked = session.scalars(
        update(File)
        .where(which)
        .values(let_go=let_go, unwanted=let_go)
        .returning(File.size_now)
        .execution_options(synchronize_session=False)
    ).all()
    return FilesLetGo(files=len(marked), bytes=sum(marked))


def _known(session: Session, library: Library, size: str | None) -> None:
    if size is None:
        return
    there = select(SizeRow.id).where(SizeRow.library_id == library.id, SizeRow.name == size)
    if session.scalar(there) is None:
        raise Refusal("not-found", f"there is no size called {size}")
