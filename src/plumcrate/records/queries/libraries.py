"""Libraries with their totals, and their surveys."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate import contract
from plumcrate.contract import FileState
from plumcrate.records.tables import Backup, Copy, File, Library, Picture, Survey


def by_slug(session: Session, slug: str) -> Library | None:
    return session.scalar(select(Library).where(Library.slug == slug))


def survey_view(survey: Survey, slug: str) -> contract.Survey:
    fields = contract.Survey.model_fields.keys() - {"library"}
    return contract.Survey(library=slug, **{name: getattr(survey, name) for name in fields})


def latest_survey(session: Session, library_id: int) -> Survey | None:
    query = select(Survey).where(Survey.library_id == library_id).order_by(Survey.id.desc()).limit(1)
    return session.scalar(query)


def library_view(session: Session, library: Library) -> contract.Library:
    """A library with its totals. Pictures count assets; files count originals and renditions."""
    states = dict(
        session.execute(
            select(File.state, func.count()).where(File.library_id == library.id).group_by(File.state)
        ).all()
    )
    present = Picture.library_id == library.id, Picture.state != FileState.GONE
    sums = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(Picture.bytes_before), 0),
            func.coalesce(func.sum(Picture.bytes_now), 0),
            func.coalesce(func.sum(Picture.bytes_lightest), 0),
        ).where(*present)
    ).one()
    copies = session.scalar(select(func.count()).where(Copy.library_id == library.id))
    backups = session.scalar(
        select(func.coalesce(func.sum(Backup.size), 0)).where(Backup.library_id == library.id)
    )
    survey = latest_survey(session, library.id)
    settled = (FileState.LIGHTER, FileState.KEPT, FileState.LEFT_ALONE)
    return contract.Library(
        slug=library.slug,
        name=library.name,
        root=library.root,
        level=contract.Level(library.level),
        webp=library.webp,
        avif=library.avif,
        patterns=library.patterns,
        created_at=library.created_at,
        pictures=sums[0],
        files=sum(count for state, count in states.items() if state != FileState.GONE),
        files_new=states.get(FileState.NEW, 0),
        files_treated=sum(states.get(state, 0) for state in settled),
        files_unreadable=states.get(FileState.UNREADABLE, 0),
        files_failed=states.get(FileState.FAILED, 0),
        copies=copies or 0,
        bytes_before=int(sums[1]),
        bytes_now=int(sums[2]),
        bytes_lightest=int(sums[3]),
        bytes_backups=int(backups or 0),
        last_survey=survey_view(survey, library.slug) if survey else None,
    )
