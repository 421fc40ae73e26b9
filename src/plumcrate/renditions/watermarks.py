"""Defining a library's marks."""

from __future__ import annotations

import hashlib

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from plumcrate.contract.touches import MarkRule, MarkSettings
from plumcrate.imaging.errors import ImagingError
from plumcrate.records.tables import Library, MarkRow, SizeRow
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import upkeep_of
from plumcrate.sandbox.children import Sandbox, SandboxError

#: So many marks a library may have.
MOST_MARKS = 10


def marks(session: Session, library: Library) -> list[MarkRule]:
    """In the order in which they are asked."""
    rows = session.scalars(select(MarkRow).where(MarkRow.library_id == library.id).order_by(MarkRow.name))
    return [_view(row, library.slug) for row in rows]


def save_mark(
    session: Session, library: Library, name: str, settings: MarkSettings, by: str, sandbox: Sandbox
) -> MarkRule:
    """Puts a mark on record; one without words needs its picture next. Raises :class:`Refusal`."""
    session.execute(select(Library.id).where(Library.id == library.id).with_for_update())
    if not upkeep_of(library).backups:
        raise Refusal(
            "cannot-touch",
            f"marks are laid over what visitors are served, and nothing would keep the unmarked "
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
        count = session.scalar(select(func.count()).where(MarkRow.library_id == library.id)) or 0
        if count >= MOST_MARKS:
            raise Refusal("too-many", f"a library has at most {MOST_MARKS} marks")
        row = MarkRow(library_id=library.id, name=name)
        session.add(row)
    row.settings, row.by = settings.model_dump(mode="json"), by
    session.flush()
    session.refresh(row)
    return _view(row, library.slug)


def set_picture(session: Session, library: Library, name: str, data: bytes, sandbox: Sandbox) -> MarkRule:
    """Gives a mark its picture. Raises :class:`Refusal` where it cannot be one."""
    row = _row(session, library, name)
    if row is None:
        raise Refusal("not-found", f"there is no mark called {name}")
    try:
        row.width, row.height = sandbox.check_mark(data)
    except ImagingError as error:
        raise Refusal("not-a-mark", str(error)) from None
    except SandboxError as error:
        raise Refusal("not-a-mark", str(error)) from None
    row.picture, row.sha256 = data, hashlib.sha256(data).hexdigest()
    session.flush()
    return _view(row, library.slug)


def remove_mark(session: Session, library: Library, name: str) -> None:
    """The next run makes its files without it. Raises :class:`Refusal` when there is none."""
    ours = MarkRow.library_id == library.id, MarkRow.name == name
    if session.execute(delete(MarkRow).where(*ours).returning(MarkRow.id)).first() is None:
        raise Refusal("not-found", f"there is no mark called {name}")


def picture_of(session: Session, library: Library, name: str) -> bytes:
    """A mark's picture as it was sent. Raises :class:`Refusal` when it has none."""
    row = _row(session, library, name)
    if row is None or row.picture is None:
        raise Refusal("not-found", f"there is no picture of a mark called {name}")
    return row.picture


def _row(session: Session, library: Library, name: str) -> MarkRow | None:
    return session.scalars(
        select(MarkRow).where(MarkRow.library_id == library.id, MarkRow.name == name)
    ).one_or_none()


def _refuse_letters(words: str, sandbox: Sandbox) -> None:
    try:
        missing = sandbox.missing_letters(words)
    except SandboxError as error:
        raise Refusal("not-a-mark", str(error)) from None
    if missing:
        raise Refusal(
            "not-a-mark", f"the font has no shape for {' '.join(missing)}: use a picture as the mark"
        )


def _view(row: MarkRow, slug: str) -> MarkRule:
    return MarkRule(
        library=slug,
        name=row.name,
        settings=MarkSettings.model_validate(row.settings),
        picture=bool(row.sha256),
        width=row.width,
        height=row.height,
        by=row.by,
        created_at=row.created_at,
    )
