"""Pages of sites and their weighings."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from sqlalchemy import Select, delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, selectinload, undefer

from plumcrate.contract.jobs import JOB_ENDS, JobKind
from plumcrate.contract.weighing import Needed, WeighingKind
from plumcrate.records.tables import File, Job, NeededSize, Picture, Shot, SitePage, Weighing


def pages_of(session: Session, library_id: int) -> list[SitePage]:
    """By address."""
    query = select(SitePage).where(SitePage.library_id == library_id).order_by(SitePage.address)
    return list(session.scalars(query.limit(1_000)))


def open_weighings(session: Session, library_id: int) -> int:
    """How many jobs that weigh wait or run in a library."""
    ours = Job.library_id == library_id, Job.kind == JobKind.WEIGHING, Job.state.not_in(JOB_ENDS)
    return session.scalar(select(func.count()).where(*ours)) or 0


def counts_of(session: Session, library_id: int) -> dict[int, int]:
    """How many weighings there are of each page."""
    query = select(Weighing.page_id, func.count()).where(Weighing.library_id == library_id)
    return dict(session.execute(query.group_by(Weighing.page_id)).all())


class Ends(NamedTuple):
    """A page's first and latest weighing, for real or from its markup, and what was predicted since then."""

    first: Weighing
    latest: Weighing
    predicted: Weighing | None


def ends_of(session: Session, library_id: int) -> dict[int, Ends]:
    """Of each page that was weighed; faults count as latest."""
    ours = Weighing.library_id == library_id, Weighing.kind != WeighingKind.PREDICTED
    lasts = select(func.max(Weighing.id)).where(*ours).group_by(Weighing.page_id)
    firsts = select(func.min(Weighing.id)).where(*ours, Weighing.code.is_(None)).group_by(Weighing.page_id)
    foretold = Weighing.library_id == library_id, Weighing.kind == WeighingKind.PREDICTED
    predictions = select(func.max(Weighing.id)).where(*foretold, Weighing.code.is_(None))
    wanted = lasts.union_all(firsts, predictions.group_by(Weighing.page_id))
    rows = session.scalars(
        select(Weighing)
        .where(Weighing.id.in_(wanted))
        .order_by(Weighing.id)
        .options(selectinload(Weighing.shots))
    )
    found: dict[int, list[Weighing]] = {}
    predicted: dict[int, Weighing] = {}
    for row in rows:
        if row.kind == WeighingKind.PREDICTED:
            predicted[row.page_id] = row
        else:
            found.setdefault(row.page_id, []).append(row)
    ends: dict[int, Ends] = {}
    for page, real in found.items():
        since = predicted.get(page)
        sound = [row for row in real if row.code is None]
        newer = since if since is not None and since.id > real[-1].id else None
        ends[page] = Ends(sound[0] if sound else real[-1], real[-1], newer)
    return ends


def weighings_of(page_id: int) -> Select[Weighing]:
    return select(Weighing).where(Weighing.page_id == page_id).options(selectinload(Weighing.shots))


def latest_weighings(session: Session, page_id: int, limit: int) -> list[Weighing]:
    """The latest first."""
    return list(session.scalars(weighings_of(page_id).order_by(Weighing.id.desc()).limit(limit)))


def shot_bytes(session: Session, library_id: int, shot_id: int) -> bytes | None:
    """A shot of one of a library's weighings."""
    row = session.scalar(
        select(Shot)
        .join(Weighing, Weighing.id == Shot.weighing_id)
        .where(Shot.id == shot_id, Weighing.library_id == library_id)
        .options(undefer(Shot.data))
    )
    return None if row is None else row.data


def note_need(session: Session, library_id: int, picture_id: int, size: tuple[int, int], page: str) -> None:
    """Once for each size of a picture."""
    fresh = insert(NeededSize).values(
        library_id=library_id, picture_id=picture_id, width=size[0], height=size[1], page=page
    )
    session.execute(fresh.on_conflict_do_nothing())


def needs_of(session: Session, library_id: int) -> list[Needed]:
    """The latest first."""
    rows = session.execute(
        select(NeededSize, Picture.path)
        .join(Picture, Picture.id == NeededSize.picture_id)
        .where(NeededSize.library_id == library_id)
        .order_by(NeededSize.id.desc())
        .limit(1_000)
    )
    return [
        Needed(
            id=row.id,
            path=path,
            picture_id=row.picture_id,
            width=row.width,
            height=row.height,
            page=row.page,
            at=row.at,
        )
        for row, path in rows
    ]


def forget_need(session: Session, library_id: int, number: int) -> bool:
    """Whether there was one."""
    gone = session.execute(
        delete(NeededSize)
        .where(NeededSize.library_id == library_id, NeededSize.id == number)
        .returning(NeededSize.id)
    )
    return gone.first() is not None


def pictures_there(session: Session, library_id: int, numbers: Sequence[int]) -> list[int]:
    """Those of some pictures that are there still."""
    query = select(Picture.id).where(Picture.library_id == library_id, Picture.id.in_(numbers))
    return list(session.scalars(query.where(Picture.id.in_(select(File.picture_id)))))
