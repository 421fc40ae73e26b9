"""What is on record of a file that somebody asks for by its path."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session, aliased

from plumcrate.contract.delivery import Delivery
from plumcrate.contract.pictures import FileState, Purpose
from plumcrate.records.tables import Derived, File, Library, Picture

from .libraries import current_recipe
from .redirects import all_redirects, redirected_to


@dataclass(frozen=True, slots=True)
class Served:
    """A library as its files are served."""

    id: int
    slug: str
    root: str
    identity: str | None
    settings: Delivery


@dataclass(frozen=True, slots=True)
class Copy:
    """A copy on record: its hash tells its bytes from any other's."""

    path: str
    format: str
    size: int
    sha256: bytes


@dataclass(frozen=True, slots=True)
class RecordedFile:
    """A file on record, as it was last seen, and the copies that stand for it.

    ``leaner``: copies for who asks for less data. ``size`` and ``mtime_ns`` tell whether the file that stands
    there is the one whose copies these are.
    ``redirect`` is the path of another picture that it is answered with, since a person said so.
    ``moved`` is the path of the conversion that took its place, or with ``removed_unused`` of the picture
    that a file was made of which is not there.
    """

    file_id: int
    picture_id: int
    format: str | None
    size: int
    mtime_ns: int
    sha256: bytes | None
    copies: tuple[Copy, ...]
    size_before: int
    leaner: tuple[Copy, ...] = ()
    moved: str | None = None
    removed_unused: bool = False
    redirect: str | None = None


@dataclass(frozen=True, slots=True)
class RulesGround:
    """Formats of the copies there are or will be, and whether some are for who asks for less data; files that
    made way, with the path of what they made way for; files that are answered with another."""

    formats: list[str]
    save_data: bool
    moved: list[tuple[str, str]]
    redirects: list[tuple[str, str]]


def rules_ground(session: Session, library: Library) -> RulesGround:
    """What the rules of a library's server are written from."""
    settings = current_recipe(session, library.id).settings
    wanted = list(settings.get("copies", ()))
    leaner = select(Derived.id).where(Derived.library_id == library.id, Derived.purpose == Purpose.SAVE_DATA)
    there = session.scalars(
        select(Derived.format)
        .where(Derived.library_id == library.id, Derived.purpose == Purpose.COPY)
        .distinct()
    )
    moved = session.execute(
        select(File.path, Derived.path)
        .join(Derived, Derived.file_id == File.id)
        .where(
            File.library_id == library.id,
            File.state == FileState.REMOVED,
            Derived.purpose == Purpose.CONVERSION,
        )
        .order_by(File.path)
    )
    return RulesGround(
        [*dict.fromkeys((*wanted, *there))],
        bool(settings.get("save_data")) or session.scalar(leaner.limit(1)) is not None,
        [(path, to) for path, to in moved],
        all_redirects(session, library.id),
    )


def served(session: Session, slug: str) -> Served | None:
    """A connected library by its short name."""
    library = session.scalars(select(Library).where(Library.slug == slug)).one_or_none()
    if library is None:
        return None
    identity = library.identity if library.identified_at is not None else None
    return Served(library.id, library.slug, library.root, identity, Delivery.model_validate(library.delivery))


def known_at(session: Session, library_id: int, path: str) -> RecordedFile | None:
    """A file that is on record under a path; a derived file of ours is one without copies. One that was let
    go has its picture's file to show instead."""
    file = session.scalars(
        select(File).where(File.library_id == library_id, File.path == path, File.state != FileState.GONE)
    ).one_or_none()
    if file is not None:
        copies = tuple(_copy(row) for row in file.copies if row.stands_in)
        conversion = file.conversion if file.state == FileState.REMOVED else None
        moved = conversion.path if conversion is not None else None
        return RecordedFile(
            file.id,
            file.picture_id,
            file.format,
            file.size_now,
            file.mtime_ns,
            file.sha256,
            copies,
            file.size_before,
            tuple(map(_copy, file.leaner)),
            moved,
            redirect=redirected_to(session, file),
        )
    derived = session.scalars(
        select(Derived).where(Derived.library_id == library_id, Derived.path == path)
    ).one_or_none()
    if derived is None:
        return _removed_unused_at(session, library_id, path)
    of = derived.file
    return RecordedFile(
        of.id, of.picture_id, derived.format, derived.size, 0, derived.sha256, (), of.size_before
    )


def _copy(row: Derived) -> Copy:
    return Copy(row.path, row.format, row.size, row.sha256)


def _removed_unused_at(session: Session, library_id: int, path: str) -> RecordedFile | None:
    original = aliased(File)
    row = session.execute(
        select(File, original.path)
        .join(Picture, Picture.id == File.picture_id)
        .join(original, original.id == Picture.original_id)
        .where(File.library_id == library_id, File.path == path, File.removed_unused)
    ).one_or_none()
    if row is None:
        return None
    file, moved = row
    return RecordedFile(
        file.id, file.picture_id, file.format, 0, 0, None, (), 0, moved=moved, removed_unused=True
    )
