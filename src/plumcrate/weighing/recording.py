"""Keeping what was weighed: pages, weighings, shots. Shots of old weighings go, their figures stay."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.weighing import Budget, PageFinding, Reading, WeighingKind, WeighingOrigin, WhatIf
from plumcrate.contract.weighing import Shot as ShotView
from plumcrate.records.queries.asked import note_asked
from plumcrate.records.queries.descriptions import note_uses
from plumcrate.records.tables import Library, Shot, SitePage, Weighing

#: Of a page's weighings so many keep their shots, the first for real among them, and so many are kept.
_WITH_SHOTS, _KEPT = 20, 500


@dataclass(frozen=True, slots=True)
class ShotTaken:
    """A shot as it was taken."""

    part: str
    width: int
    height: int
    scale: float
    data: bytes


@dataclass
class PageResult:
    """What came of weighing a page once."""

    kind: WeighingKind
    what_if: WhatIf | None = None
    recipe_version: int | None = None
    code: str | None = None
    fault: str | None = None
    readings: list[Reading] = field(default_factory=list)
    shots: list[list[ShotTaken]] = field(default_factory=list)  # of each reading
    findings: list[PageFinding] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def page_of(session: Session, library_id: int, address: str) -> SitePage:
    """A library's page by its address, new or known."""
    fresh = insert(SitePage).values(library_id=library_id, address=address)
    session.execute(fresh.on_conflict_do_nothing())
    return session.scalars(
        select(SitePage).where(SitePage.library_id == library_id, SitePage.address == address)
    ).one()


def record(
    session: Session,
    library: Library,
    page_id: int,
    result: PageResult,
    *,
    origin: WeighingOrigin,
    by: str,
    run_id: int | None,
    budget: Budget | None,
) -> int:
    """Puts a result on record; its number."""
    row = Weighing(
        library_id=library.id,
        page_id=page_id,
        kind=result.kind,
        origin=origin,
        by=by,
        run_id=run_id,
        what_if=result.what_if.model_dump(mode="json", exclude_none=True) if result.what_if else None,
        recipe_version=result.recipe_version,
        code=result.code,
        fault=result.fault,
        budget=budget.model_dump(mode="json", exclude_none=True) if budget else None,
    )
    session.add(row)
    session.flush()
    for reading, shots in zip(result.readings, result.shots, strict=True):
        for shot in shots:
            kept = Shot(
                weighing_id=row.id,
                device=reading.device,
                part=shot.part,
                width=shot.width,
                height=shot.height,
                scale=shot.scale,
                data=shot.data,
            )
            session.add(kept)
            session.flush()
            reading.shots.append(ShotView.model_validate(kept))
    row.report = {
        "readings": [reading.model_dump(mode="json") for reading in result.readings],
        "findings": [finding.model_dump(mode="json") for finding in result.findings],
        "notes": result.notes,
    }
    session.flush()
    if result.kind is WeighingKind.REAL:
        shown = (one.file_id for reading in result.readings for one in reading.pictures)
        note_asked(session, (number for number in shown if number is not None))
    if result.kind is not WeighingKind.PREDICTED and result.readings:
        note_uses(session, library.id, page_id, result.readings)
    _drop_old_shots(session, page_id)
    return row.id


def _drop_old_shots(session: Session, page_id: int) -> None:
    numbers: Sequence[int] = session.scalars(
        select(Weighing.id).where(Weighing.page_id == page_id).order_by(Weighing.id.desc())
    ).all()
    first = session.scalar(
        select(Weighing.id)
        .where(Weighing.page_id == page_id, Weighing.kind == WeighingKind.REAL, Weighing.code.is_(None))
        .order_by(Weighing.id)
        .limit(1)
    )
    bare = [number for number in numbers[_WITH_SHOTS:] if number != first]
    session.execute(delete(Shot).where(Shot.weighing_id.in_(bare)))
    session.execute(delete(Weighing).where(Weighing.id.in_([n for n in numbers[_KEPT:] if n != first])))
