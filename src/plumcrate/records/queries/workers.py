"""The workers that are alive."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.records.tables import WorkerRow

#: A worker not heard from for so long, in seconds, is dead, and its jobs are taken over.
SILENT_AFTER = 5.0


def children_of_all(session: Session) -> int:
    """The children of all workers that are alive."""
    alive = WorkerRow.heard_at > func.now() - timedelta(seconds=SILENT_AFTER)
    return int(session.scalar(select(func.coalesce(func.sum(WorkerRow.children), 0)).where(alive)) or 0)


def workers_alive(session: Session) -> int:
    """How many worker processes were heard from in the last few seconds."""
    alive = WorkerRow.heard_at > func.now() - timedelta(seconds=SILENT_AFTER)
    return session.scalar(select(func.count()).where(alive)) or 0
