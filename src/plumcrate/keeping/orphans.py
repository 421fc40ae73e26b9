"""Backups whose file was deleted, moved away or overwritten: listed, looked at, put back under a name."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.care import Orphan
from plumcrate.contract.common import Page
from plumcrate.records.queries import cursors
from plumcrate.records.tables import Backup

from .prune import orphaned


def orphan(session: Session, library_id: int, backup_id: int) -> Backup | None:
    """A backup of a library by its number; None when there is none, or when it is being deleted."""
    row = session.get(Backup, backup_id)
    return None if row is None or row.library_id != library_id or row.pruned_at is not None else row


def orphans(session: Session, library_id: int, after: str | None, limit: int) -> Page[Orphan]:
    """The latest first. Raises Refusal for a cursor of another list."""
    return cursors.by_number(
        session,
        select(Backup).where(Backup.library_id == library_id, Backup.pruned_at.is_(None), orphaned()),
        Backup.id,
        lambda rows: [
            Orphan(id=row.id, path=row.path, size=row.size, created_at=row.created_at) for row in rows
        ],
        of=f"orphans of {library_id}",
        after=after,
        limit=limit,
    )
