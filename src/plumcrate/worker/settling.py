"""Settling what dead processes left open: changes in the journal, and backups selected for pruning."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import structlog
from sqlalchemy import func, literal, or_, select, union

from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import finish_pruning
from plumcrate.keeping.recovery import recover
from plumcrate.queue.locks import PATH_LOCK, PICTURE_LOCK, path_key
from plumcrate.records.database import Database, lost_connection
from plumcrate.records.tables import Backup, File, Journal, Library
from plumcrate.storage.errors import StorageError

log = structlog.get_logger()

#: A change that has been open for so long, in seconds, was left by a process that died, or cannot be settled.
_LEFT_OPEN = 30


def settle_open_changes(
    database: Database, keeper_of: Callable[[Library], Keeper], *, at_start: bool = False
) -> bool:
    """Settles every open change whose picture is not locked; whether any library has one.

    While others work, only those that have been open for a while, or whose time has come.
    """
    pruned = select(Backup.library_id).where(Backup.pruned_at.is_not(None))
    unsettled = union(select(Journal.library_id), pruned)
    with database.reading() as session:
        libraries = list(session.scalars(select(Library).where(Library.id.in_(unsettled))))
    for library in libraries:
        try:
            _settle(database, keeper_of(library), library, at_start=at_start)
        except StorageError as error:
            log.warning("recovery is waiting", library=library.slug, reason=str(error))
        except Exception as error:
            if lost_connection(error):
                raise
            log.exception("recovery failed", library=library.slug)  # a library's fault is its own
    return bool(libraries)


def _settle(database: Database, keeper: Keeper, library: Library, *, at_start: bool) -> None:
    old = Journal.opened_at < func.now() - timedelta(seconds=_LEFT_OPEN)
    ripe = func.coalesce(Journal.due_at <= func.now(), old)
    with database.reading() as session:
        rows = session.execute(
            select(Journal.id, Journal.path, File.picture_id)
            .outerjoin(File, File.id == Journal.file_id)
            .where(Journal.library_id == library.id, or_(ripe, literal(at_start)))
            .order_by(Journal.id)
        ).all()
        selected = session.scalar(
            select(func.count()).where(Backup.library_id == library.id, Backup.pruned_at.is_not(None))
        )
    if selected:
        finish_pruning(keeper)
    for entry_id, path, picture_id in rows:
        # An upload is no picture's yet.
        upload = PATH_LOCK, path_key(library.id, path)
        with database.advisory_lock(*((PICTURE_LOCK, picture_id) if picture_id else upload)) as free:
            if free:
                outcome = recover(keeper, entry_id=entry_id)
                if outcome.finished or outcome.undone:
                    log.info("recovered", library=library.slug, path=path, finished=outcome.finished)
