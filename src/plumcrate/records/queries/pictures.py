"""Pictures: lists that stay quick at any size, and one picture whole."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, UnaryExpression, func, or_, select
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Uploaded
from plumcrate.contract.common import Page
from plumcrate.contract.pictures import Derived, FileState, LedgerEntry, PictureDetail, PictureSort
from plumcrate.contract.pictures import File as FileView
from plumcrate.contract.pictures import Picture as PictureView
from plumcrate.contract.runs import ItemState
from plumcrate.records.queries.tallies import total, totals
from plumcrate.records.tables import File, Item, Ledger, Library, Picture

from .folders import below

_ORDER: dict[PictureSort, tuple[UnaryExpression[Any], ...]] = {
    PictureSort.PATH: (Picture.path.asc(),),
    PictureSort.SAVED: ((Picture.bytes_before - Picture.bytes_now).desc(), Picture.id.desc()),
    PictureSort.SIZE: (Picture.bytes_now.desc(), Picture.id.desc()),
    PictureSort.WORST: (Picture.worst.asc().nulls_last(), Picture.id.asc()),
}


def picture_view(picture: Picture, slug: str) -> PictureView:
    fields = PictureView.model_fields.keys() - {"library"}
    return PictureView(library=slug, **{name: getattr(picture, name) for name in fields})


def pictures_page(
    session: Session,
    library: Library,
    *,
    states: list[FileState],
    folder: str | None,
    search: str | None,
    format: str | None,
    sort: PictureSort,
    offset: int,
    limit: int,
) -> Page[PictureView]:
    """One page of a library's pictures. ``search`` matches any part of the path, in any case."""
    where: list[ColumnElement[bool]] = [Picture.library_id == library.id]
    if states:
        where.append(Picture.state.in_([str(state) for state in states]))
    else:
        where.append(Picture.state != FileState.GONE)
    if folder is not None:
        where.append(below(Picture.folder, folder))
    if search:
        where.append(Picture.path.ilike(f"%{_literal(search)}%", escape="\\"))
    if format:
        where.append(Picture.format == format)
    if states or folder or search or format:
        count = session.scalar(select(func.count()).select_from(Picture).where(*where)) or 0
    else:
        count = total(totals(session, library.id), "picture").rows
    rows = session.scalars(select(Picture).where(*where).order_by(*_ORDER[sort]).offset(offset).limit(limit))
    views = [picture_view(row, library.slug) for row in rows]
    following = offset + limit if offset + limit < count else None
    return Page[PictureView](rows=views, total=count, next=following)


def _literal(search: str) -> str:
    return search.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def folders(session: Session, library: Library) -> list[str]:
    """Every folder that holds a picture, in order."""
    query = select(Picture.folder).where(Picture.library_id == library.id, Picture.state != FileState.GONE)
    return sorted(session.scalars(query.distinct()))


def file_view(file: File) -> FileView:
    fields = FileView.model_fields.keys() - {"has_backup", "derived"}
    derived = [Derived.model_validate(row, from_attributes=True) for row in file.derived]
    return FileView(
        has_backup=file.before_sha256 is not None,
        derived=derived,
        **{name: getattr(file, name) for name in fields},
    )


def picture_detail(session: Session, picture: Picture) -> PictureDetail:
    """A picture with all its files, largest first, and its history, latest first."""
    slug = session.scalar(select(Library.slug).where(Library.id == picture.library_id)) or ""
    files = session.scalars(
        select(File)
        .where(File.picture_id == picture.id, File.state != FileState.GONE)
        .order_by(File.role, File.width.desc(), File.path)
    )
    history = session.scalars(
        select(Ledger).where(Ledger.picture_id == picture.id).order_by(Ledger.id.desc()).limit(200)
    )
    return PictureDetail(
        **picture_view(picture, slug).model_dump(),
        all_files=[file_view(file) for file in files],
        history=[LedgerEntry.model_validate(entry, from_attributes=True) for entry in history],
    )


def picture_at(session: Session, library: Library, path: str) -> Page[PictureView]:
    """The picture whose path is just that, or which has a file of that path; an empty page when there is
    none."""
    by_file = select(File.picture_id).where(File.library_id == library.id, File.path == path)
    row = session.scalar(
        select(Picture)
        .where(Picture.library_id == library.id, or_(Picture.path == path, Picture.id.in_(by_file)))
        .limit(1)
    )
    rows = [picture_view(row, library.slug)] if row is not None else []
    return Page[PictureView](rows=rows, total=len(rows))


def uploaded_view(session: Session, library_id: int, path: str, runs: list[int]) -> Uploaded | None:
    """What became of an upload so far; None when its file is not there any more."""
    file = session.scalar(select(File).where(File.library_id == library_id, File.path == path))
    if file is None:
        return None
    item = session.scalar(select(Item).where(Item.run_id.in_(runs), Item.file_id == file.id))
    state = "not-treated"
    if item is not None:
        ended = {ItemState.DONE: "done", ItemState.PASSED: "done", ItemState.FAILED: "failed"}
        state = ended.get(ItemState(item.state), "light" if item.stage else "waiting")
    return Uploaded.model_validate(
        {
            "path": path,
            "picture_id": file.picture_id,
            "file_id": file.id,
            "run_id": runs[0] if runs else None,
            "state": state,
            "reason": item.reason if item is not None else None,
            "size_before": file.size_before,
            "size_now": file.size_now,
        }
    )
