"""Which file is answered instead of one whose picture a person redirected."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileRole, FileState
from plumcrate.records.tables import File, Redirect

_AWAY = (FileState.GONE, FileState.REMOVED, FileState.UNREADABLE)
#: Two files can stand for one another when their proportions are so near.
_SAME_SHAPE = 0.02


def instead_of(session: Session, file: File) -> File | None:
    """The narrowest file of the other picture with the same proportions that is as wide; of an original also
    the other original. None where there is no redirect, or nothing fits."""
    target = session.scalar(select(Redirect.to_id).where(Redirect.picture_id == file.picture_id))
    if target is None:
        return None
    there = session.scalars(
        select(File).where(File.picture_id == target, File.state.not_in(_AWAY), File.unwanted.is_(False))
    ).all()
    return _fitting(file, there)


def redirected_among(session: Session, pictures: Collection[int]) -> set[int]:
    """Which of some pictures are answered with another."""
    return set(session.scalars(select(Redirect.picture_id).where(Redirect.picture_id.in_(pictures))))


def redirected_to(session: Session, file: File) -> str | None:
    """The path of :func:`instead_of`."""
    other = instead_of(session, file)
    return other.path if other is not None else None


def all_redirects(session: Session, library_id: int) -> list[tuple[str, str]]:
    """Every file of a library that is answered with another, and which."""
    files = session.scalars(
        select(File)
        .join(Redirect, Redirect.picture_id == File.picture_id)
        .where(Redirect.library_id == library_id, File.state.not_in(_AWAY))
        .order_by(File.path)
    ).all()
    found = ((file.path, redirected_to(session, file)) for file in files)
    return [(path, to) for path, to in found if to is not None]


def _fitting(file: File, others: Sequence[File]) -> File | None:
    alike = [other for other in others if _same_shape(other, file)]
    wide = [other for other in alike if other.shown[0] >= file.shown[0]]
    if wide:
        return min(wide, key=lambda other: (other.shown[0], other.size_now))
    originals = [other for other in others if other.role == FileRole.ORIGINAL]
    return originals[0] if file.role == FileRole.ORIGINAL and originals else None


def _same_shape(other: File, file: File) -> bool:
    if not (all(other.shown) and all(file.shown)):
        return False
    return abs(other.shown[0] / other.shown[1] * file.shown[1] / file.shown[0] - 1) <= _SAME_SHAPE
