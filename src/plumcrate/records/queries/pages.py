"""What a page needs to know of a library's files, many at a time."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.contract.delivery import PageCopy, PageFile
from plumcrate.contract.pictures import FileState
from plumcrate.records.queries.descriptions import alternatives_of
from plumcrate.records.tables import Derived, File

from .redirects import instead_of, redirected_among

#: Files that stand where they are recorded.
_AWAY = (FileState.GONE, FileState.REMOVED, FileState.UNREADABLE)
#: Two files show the same when their proportions are so near.
_SAME_SHAPE = 0.01
#: A file fits a place when its proportions are so near: places are measured in whole pixels.
_PLACE_SHAPE = 0.02


def page_files(
    session: Session, library_id: int, paths: Sequence[str], media_types: dict[str, str]
) -> dict[str, tuple[int, PageFile]]:
    """Files by path, with their numbers. ``media_types``: by format; files of others are left out."""
    asked = session.scalars(
        select(File).where(File.library_id == library_id, File.path.in_(paths), File.state.not_in(_AWAY))
    ).all()
    pictures = {file.picture_id for file in asked}
    family = session.scalars(
        select(File)
        .where(File.picture_id.in_(pictures), File.state.not_in(_AWAY))
        .order_by(func.coalesce(File.shown_width, File.width))
    ).all()
    said = alternatives_of(session, library_id, pictures)
    redirected = redirected_among(session, pictures)
    found: dict[str, tuple[int, PageFile]] = {}
    for file in asked:
        if file.format not in media_types:
            continue
        sizes = [
            _page_file(other, media_types)
            for other in family
            if other.picture_id == file.picture_id and other.id != file.id and _fits(other, file)
        ]
        page_file = _page_file(file, media_types, sizes)
        other = instead_of(session, file) if file.picture_id in redirected else None
        if other is not None and other.format == file.format and same_shape(other, file):
            # Its own file stays what a browser falls back to; the copies are the other's, fetched once.
            instead = _page_file(other, media_types)
            page_file.copies, page_file.save_data = instead.copies, instead.save_data
            page_file.sizes = []
        page_file.alternatives = said.get(file.picture_id, {})
        found[file.path] = (file.id, page_file)
    return found


def cut_for(
    session: Session, picture_id: int, width: int, height: int, media_types: dict[str, str]
) -> list[PageFile]:
    """Files that were made of a picture for a size and have the proportions of a place, the narrowest
    first."""
    made = session.scalars(
        select(File)
        .where(File.picture_id == picture_id, File.size_name.is_not(None), File.state.not_in(_AWAY))
        .order_by(File.width)
    ).all()
    shape = width / max(height, 1)
    return [
        _page_file(file, media_types)
        for file in made
        if file.format in media_types and abs(file.width / max(file.height, 1) / shape - 1) <= _PLACE_SHAPE
    ]


def _page_file(file: File, media_types: dict[str, str], sizes: Sequence[PageFile] = ()) -> PageFile:
    copies = [_page_copy(row, media_types) for row in file.copies if row.stands_in]
    leaner = [_page_copy(row, media_types) for row in file.leaner]
    return PageFile(
        path=file.path,
        media_type=media_types[file.format or ""],
        bytes=file.size_now,
        width=file.shown[0],
        height=file.shown[1],
        transparent=file.transparent,
        copies=_lighter(copies, file.size_now),
        save_data=_lighter(leaner, file.size_now),
        sizes=list(sizes),
    )


def _page_copy(row: Derived, media_types: dict[str, str]) -> PageCopy:
    return PageCopy(path=row.path, media_type=media_types.get(row.format, ""), bytes=row.size)


def _lighter(copies: Sequence[PageCopy], size: int) -> list[PageCopy]:
    """Those of a known type that are lighter than the file, the lightest first."""
    return sorted(
        (copy for copy in copies if copy.media_type and copy.bytes < size), key=lambda copy: copy.bytes
    )


def _fits(other: File, file: File) -> bool:
    """Whether another file of a picture shows the same, and can take its place.

    A wider one only where it was made for one of our sizes: a dense screen would fetch more than the page
    names, for a sharpness that nobody asked for.
    """
    no_heavier = other.shown[0] <= file.shown[0] or other.size_name is not None
    return no_heavier and other.format == file.format and same_shape(other, file)


def same_shape(other: File, file: File) -> bool:
    """Whether two files have the same proportions, but for rounding."""
    if not (all(other.shown) and all(file.shown)):
        return False
    # A pixel more or less is rounding.
    slack = max(_SAME_SHAPE, 1 / min(*other.shown, *file.shown))
    return abs(other.shown[0] / other.shown[1] / (file.shown[0] / file.shown[1]) - 1) <= slack
