"""What a monitoring system asks of the records: few statements, none over all files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from plumcrate.contract.runs import ItemState, RunKind
from plumcrate.records.tables import Backup, Item, Library, Run, SentBytes, Tally

from .workers import children_of_all, workers_alive


@dataclass(frozen=True, slots=True)
class Figures:
    """Each list holds labels, then values."""

    workers: int
    children: int
    #: Lane, jobs waiting, jobs in hand, seconds that the oldest has waited.
    queue: Sequence[tuple[str, int, int, float]]
    #: Library, state, files.
    files: Sequence[tuple[str, str, int]]
    #: Library, state, pictures, bytes at first, bytes now, bytes that a modern browser fetches.
    pictures: Sequence[tuple[str, str, int, int, int, int]]
    #: Library, files that runs treated, their megapixels.
    treated: Sequence[tuple[str, int, float]]
    #: Library, code, files of unfinished runs that failed.
    failures: Sequence[tuple[str, str, int]]
    #: Library, format, requests, bytes sent, bytes that the same files had at first.
    sent: Sequence[tuple[str, str, int, int, int]]
    #: Library, bytes.
    backups: Sequence[tuple[str, int]]


_QUEUE = """
SELECT queue_name, count(*) FILTER (WHERE status = 'todo'), count(*) FILTER (WHERE status = 'doing'),
    coalesce(extract(epoch FROM now() - min(scheduled.at) FILTER (WHERE status = 'todo')), 0)
FROM procrastinate_jobs j
LEFT JOIN LATERAL (
    SELECT min(e.at) AS at FROM procrastinate_events e WHERE e.job_id = j.id AND e.type = 'deferred'
) scheduled ON true
WHERE status IN ('todo', 'doing') GROUP BY queue_name
"""


def figures(session: Session) -> Figures:
    """As they are now."""
    slug = Library.slug
    return Figures(
        workers=workers_alive(session),
        children=children_of_all(session),
        queue=[(name, todo, doing, float(age)) for name, todo, doing, age in session.execute(text(_QUEUE))],
        files=_rows(session, _tallied("file", Tally.rows)),
        pictures=_rows(
            session,
            _tallied("picture", Tally.rows, Tally.bytes_before, Tally.bytes_now, Tally.bytes_lightest),
        ),
        treated=[
            (name, int(files), float(megapixels))
            for name, files, megapixels in session.execute(
                select(slug, func.sum(Run.done + Run.passed), func.sum(Run.megapixels_done))
                .join(Library, Library.id == Run.library_id)
                .where(Run.kind == RunKind.TREAT)
                .group_by(slug)
            )
        ],
        failures=_rows(
            session,
            select(slug, func.coalesce(Item.code, "unknown"), func.count())
            .join(Run, Run.id == Item.run_id)
            .join(Library, Library.id == Run.library_id)
            .where(Item.state == ItemState.FAILED, Run.finished_at.is_(None))
            .group_by(slug, Item.code),
        ),
        sent=_rows(
            session,
            select(
                slug,
                SentBytes.format,
                func.sum(SentBytes.requests),
                func.sum(SentBytes.bytes),
                func.sum(SentBytes.bytes_before),
            )
            .join(Library, Library.id == SentBytes.library_id)
            .where(SentBytes.bot.is_(False))
            .group_by(slug, SentBytes.format),
        ),
        backups=_rows(
            session,
            select(slug, func.sum(Backup.size)).join(Library, Library.id == Backup.library_id).group_by(slug),
        ),
    )


def _tallied(noun: str, *columns: Any) -> Any:
    return (
        select(Library.slug, Tally.state, *(func.sum(column) for column in columns))
        .join(Library, Library.id == Tally.library_id)
        .where(Tally.noun == noun)
        .group_by(Library.slug, Tally.state)
    )


def _rows(session: Session, query: Any) -> list[tuple[Any, ...]]:
    return [tuple(one if isinstance(one, str) else int(one) for one in row) for row in session.execute(query)]
