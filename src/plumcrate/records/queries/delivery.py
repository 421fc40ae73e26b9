"""What is on record of a file that somebody asks for by its path."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract import Delivery, FileState
from plumcrate.records.tables import Derived, File, Library


@dataclass(frozen=True, slots=True)
class Served:
    """A library as its files are served."""

    id: int
    root: str
    mark: str | None
    settings: Delivery


@dataclass(frozen=True, slots=True)
class Copy:
    """A copy on record: its hash tells its bytes from any other's."""

    path: str
    format: str
    size: int
    sha256: bytes


@dataclass(frozen=True, slots=True)
class Known:
    """A file on record, as it was last seen, and the copies that stand for it.

    ``size`` and ``mtime_ns`` tell whether the file that stands there is the one whose copies these are.
    ``moved`` is the path of the conversion that took its place.
    """

    file_id: int
    picture_id: int
    format: str | None
    size: int
    mtime_ns: int
    sha256: bytes | None
    copies: tuple[Copy, ...]
    moved: str | None = None


def served(session: Session, slug: str) -> Served | None:
    """A connected library by its short name."""
    library = session.scalars(select(Library).where(Library.slug == slug)).one_or_none()
    if library is None:
        return None
    mark = library.mark if library.marked_at is not None else None
    return Served(library.id, library.root, mark, Delivery.model_validate(library.delivery))


def known_at(session: Session, library_id: int, path: str) -> Known | None:
    """A file that is on record under a path; a derived file of ours is one without copies."""
    file = session.scalars(
        select(File).where(File.library_id == library_id, File.path == path, File.state != FileState.GONE)
    ).one_or_none()
    if file is not None:
        conversion = next((row.path for row in file.derived if row.purpose == "conversion"), None)
        copies = tuple(
            Copy(row.path, row.format, row.size, row.sha256)
            for row in file.derived
            if row.purpose == "copy" and row.stands_in
        )
        moved = conversion if file.state == FileState.REMOVED else None
        return Known(
            file.id, file.picture_id, file.format, file.size_now, file.mtime_ns, file.sha256, copies, moved
        )
    derived = session.scalars(
        select(Derived).where(Derived.library_id == library_id, Derived.path == path)
    ).one_or_none()
    if derived is None:
        return None
    return Known(derived.file_id, 0, derived.format, derived.size, 0, derived.sha256, ())
