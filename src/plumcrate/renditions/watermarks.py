"""Defining a library's watermarks."""

from __future__ import annotations

import hashlib

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from plumcrate.contract.touches import WatermarkRule, WatermarkSettings
from plumcrate.imaging.errors import ImagingError
from plumcrate.records.tables import Library, SizeRow, WatermarkRow
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import automation_of
from plumcrate.sandbox.children import Sandbox, SandboxError

#: So many watermarks a library may have.
MOST_MARKS = 10


def watermarks(session: Session, library: Library) -> list[WatermarkRule]:
    """In the order in which they are asked."""
    rows = session.scalars(
        select(WatermarkRow).where(WatermarkRow.library_id == library.id).order_by(WatermarkRow.name)
    )
    return [_view(row, library.slug) for row in rows]


def watermark(session: Session, library: Library, name: str) -> WatermarkRule | None:
    """None where there is none of this name."""
    return next((one for one in watermarks(session, library) if one.name == name), None)


def save_watermark(
    session: Session, library: Library, name: str, settings: WatermarkSettings, by: str, sandbox: Sandbox
) -> WatermarkRule:
    """Puts a watermark on record; one without words needs its picture next. Raises :class:`Refusal`."""
    session.execute(select(Library.id).where(Library.id == library.id).with_for_update())
    if not automation_of(library).backups:
        raise Refusal(
            "cannot-touch",
            f"watermarks are laid over what visitors are served, and nothing would keep the unmarked "
            f"originals: switch "
            f"backups on for {library.name} first",
        )
    if settings.words:
        _refuse_letters(settings.words, sandbox)
    known = set(session.scalars(select(SizeRow.name).where(SizeRow.library_id == library.id)))
    strange = sorted(set(settings.sizes or []) - known)
    if strange:
        raise Refusal("not-found", f"there is no size called {strange[0]}")
    row = _row(session, library, name)
    if row is None:
        count = session.scalar(select(func.count()).where(WatermarkRow.library_id == library.id)) or 0
        if count >= MOST_MARKS:
            raise Refusal("too-many", f"a library has at most {MOST_MARKS} watermarks")
        row = WatermarkRow(library_id=library.id, name=name)
        session.add(row)
    row.settings, row.by = settings.model_dump(mode="json"), by
    session.flush()
    session.refresh(row)
    return _view(row, library.slug)


def set_picture(
    session: Session, library: Library, name: str, data: bytes, sandbox: Sandbox
) -> WatermarkRule:
    """Gives a watermark its picture. Raises :class:`Refusal` where it cannot be one."""
    row = _row(session, library, name)
    if row is None:
        raise Refusal("not-found", f"there is no watermark called {name}")
    try:
        row.width, row.height = sandbox.check_watermark(data)
    except ImagingError as error:
        raise Refusal("not-a-watermark", str(error)) from None
    except SandboxError as error:
        raise Refusal("not-a-watermark", str(error)) from None
    row.picture, row.sha256 = data, hashlib.sha256(data).hexdigest()
    session.flush()
    return _view(row, library.slug)


def remove_watermark(session: Session, library: Library, name: str) -> None:
    """The next run makes its files without it. Raises :class:`Refusal` when there is none."""
    ours = WatermarkRow.library_id == library.id, WatermarkRow.name == name
    if session.execute(delete(WatermarkRow).where(*ours).returning(WatermarkRow.id)).first() is None:
        raise Refusal("not-found", f"there is no watermark called {name}")


def picture_of(session: Session, library: Library, name: str) -> bytes:
    """A watermark's picture as it was sent. Raises :class:`Refusal` when it has none."""
    row = _row(session, library, name)
    if row is None or row.picture is None:
        raise Refusal("not-found", f"there is no picture of a watermark called {name}")
    return row.picture


def _row(session: Session, library: Library, name: str) -> WatermarkRow | None:
    return session.scalars(
        select(WatermarkRow).where(WatermarkRow.library_id == library.id, WatermarkRow.name == name)
    ).one_or_none()


def _refuse_letters(words: str, sandbox: Sandbox) -> None:
    try:
        missing = sandbox.missing_letters(words)
    except SandboxError as error:
        raise Refusal("not-a-watermark", str(error)) from None
    if missing:
        raise Refusal(
            "not-a-watermark",
            f"the font has no shape for {' '.join(missing)}: use a picture as the watermark",
        )


def _view(row: WatermarkRow, slug: str) -> WatermarkRule:
    return WatermarkRule(
        library=slug,
        name=row.name,
        settings=WatermarkSettings.model_validate(row.settings),
        picture=bool(row.sha256),
        width=row.width,
        height=row.height,
        by=row.by,
        created_at=row.created_at,
    )
