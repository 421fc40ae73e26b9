"""What was saved, by format, role, folder and month."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Integer, cast, func, select, text
from sqlalchemy.orm import Session

from plumcrate.contract.common import Level
from plumcrate.contract.pictures import FileState
from plumcrate.contract.savings import LevelScores, Savings, ScoreBin, Slat
from plumcrate.imaging.recipe import TARGETS
from plumcrate.records.tables import Backup, Derived, File, Library, Picture

from .traffic import traffic

#: Slats of a library's files: their name, which files, their order.
SLATS = """
SELECT {name} AS name, count(*) AS files, sum(f.size_before) AS before, sum(f.size_now) AS now,
    sum(least(f.size_now, c.size)) AS lightest
FROM files f
LEFT JOIN (
    SELECT file_id, min(size) AS size FROM derived WHERE library_id = :library AND stands_in GROUP BY file_id
) c ON c.file_id = f.id
JOIN pictures p ON p.id = f.picture_id
WHERE f.library_id = :library AND f.state <> 'gone' AND {where}
GROUP BY 1 ORDER BY {order}
"""


def slat_of(row: Sequence[Any]) -> Slat:
    """A row of :data:`SLATS`."""
    return Slat(name=row[0], files=row[1], bytes_before=row[2], bytes_now=row[3], bytes_lightest=row[4])


def savings(session: Session, library: Library) -> Savings:
    """All sums of one library."""
    treated = "f.treated_at IS NOT NULL"

    def slats(name: str, where: str = "true", order: str = "3 DESC") -> list[Slat]:
        query = text(SLATS.format(name=name, where=where, order=order))
        return [slat_of(row) for row in session.execute(query, {"library": library.id})]

    def single(name: str, where: str = "true") -> Slat:
        rows = slats(f"'{name}'", where)
        if rows:
            return rows[0]
        return Slat(name=name, files=0, bytes_before=0, bytes_now=0, bytes_lightest=0)

    copies, bytes_copies = session.execute(
        select(func.count(), func.coalesce(func.sum(Derived.size), 0)).where(Derived.library_id == library.id)
    ).one()
    backups = session.scalar(
        select(func.coalesce(func.sum(Backup.size), 0)).where(Backup.library_id == library.id)
    )
    pictures = session.scalar(
        select(func.count()).where(Picture.library_id == library.id, Picture.state != "gone")
    )
    return Savings(
        library=library.slug,
        pictures=pictures or 0,
        total=single("all files"),
        treated=single("treated files", treated),
        copies=copies,
        bytes_copies=int(bytes_copies),
        bytes_backups=int(backups or 0),
        sent=traffic(session, library.id, 30).total,
        by_format=slats("coalesce(f.format, 'unknown')"),
        by_role=slats("f.role", order="1"),
        by_folder=slats("p.folder", order="1"),
        scores=_scores(session, library.id),
        by_month=slats("to_char(f.treated_at, 'YYYY-MM')", treated, order="1"),
    )


def _scores(session: Session, library_id: int) -> list[LevelScores]:
    whole = cast(func.floor(File.score), Integer)
    lossy = [str(level) for level in TARGETS]
    rows = session.execute(
        select(func.coalesce(File.level, ""), whole, func.count())
        .where(File.library_id == library_id, File.score.is_not(None), File.level.in_(lossy))
        .where(File.state != FileState.GONE)
        .group_by(File.level, whole)
        .order_by(whole)
    ).all()
    bins: dict[str, list[ScoreBin]] = {}
    for level, score, files in rows:
        bins.setdefault(level, []).append(ScoreBin(score=score, files=files))
    return [
        LevelScores(level=Level(level), aim=aim, bins=bins[level])
        for level, aim in TARGETS.items()
        if level in bins
    ]
