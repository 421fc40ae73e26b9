"""Pictures: lists that stay quick at any size, and one picture whole."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import ColumnElement, UnaryExpression, and_, func, literal, or_, select, tuple_
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Uploaded
from plumcrate.contract.common import Page
from plumcrate.contract.pictures import (
    Derived,
    FileState,
    LedgerEntry,
    PictureDetail,
    PictureFilter,
    PictureSort,
)
from plumcrate.contract.pictures import File as FileView
from plumcrate.contract.pictures import Picture as PictureView
from plumcrate.contract.runs import ItemState
from plumcrate.records.queries.tallies import total, totals
from plumcrate.records.tables import File, Item, Ledger, Library, Picture

from . import cursors
from .facets import finds_all, fits

_SAVED = Picture.bytes_before - Picture.bytes_now
_ORDER: dict[PictureSort, tuple[UnaryExpression[Any], ...]] = {
    PictureSort.PATH: (Picture.path.asc(),),
    PictureSort.SAVED: (_SAVED.desc(), Picture.id.desc()),
    PictureSort.SIZE: (Picture.bytes_now.desc(), Picture.id.desc()),
    PictureSort.WORST: (Picture.worst.asc().nulls_last(), Picture.id.asc()),
    PictureSort.FOUND: (Picture.id.asc(),),
}
#: Where a picture stands in an order.
_KEY: dict[PictureSort, Callable[[Picture], list[Any]]] = {
    PictureSort.PATH: lambda picture: [picture.path],
    PictureSort.SAVED: lambda picture: [picture.bytes_before - picture.bytes_now, picture.id],
    PictureSort.SIZE: lambda picture: [picture.bytes_now, picture.id],
    PictureSort.WORST: lambda picture: [picture.worst, picture.id],
    PictureSort.FOUND: lambda picture: [picture.id],
}


def _beyond_worst(worst: float | None, id: int) -> ColumnElement[bool]:
    """Those without a worst place come last; they are asked for by themselves."""
    if worst is None:
        return and_(Picture.worst.is_(None), Picture.id > id)
    return tuple_(Picture.worst, Picture.id) > tuple_(literal(worst), literal(id))


#: What holds of all that follow such a place.
_FOLLOWS: dict[PictureSort, Callable[..., ColumnElement[bool]]] = {
    PictureSort.PATH: lambda path: Picture.path > path,
    PictureSort.SAVED: lambda saved, id: tuple_(_SAVED, Picture.id) < tuple_(literal(saved), literal(id)),
    PictureSort.SIZE: lambda now, id: (
        tuple_(Picture.bytes_now, Picture.id) < tuple_(literal(now), literal(id))
    ),
    PictureSort.WORST: _beyond_worst,
    PictureSort.FOUND: lambda id: Picture.id > id,
}


def _score(value: Any) -> bool:
    return type(value) in (int, float) and abs(value) < 1e6


_SHAPE: dict[PictureSort, Callable[[list[Any]], bool]] = {
    PictureSort.PATH: lambda last: len(last) == 1 and cursors.is_text(last[0]),
    PictureSort.SAVED: lambda last: len(last) == 2 and cursors.is_whole(*last),
    PictureSort.SIZE: lambda last: len(last) == 2 and cursors.is_whole(*last),
    PictureSort.WORST: lambda last: (
        len(last) == 2 and cursors.is_whole(last[1]) and (last[0] is None or _score(last[0]))
    ),
    PictureSort.FOUND: lambda last: len(last) == 1 and cursors.is_whole(*last),
}


_FIELDS = tuple(PictureView.model_fields.keys() - {"library"})


def picture_view(picture: Picture, slug: str) -> PictureView:
    return PictureView(library=slug, **{name: getattr(picture, name) for name in _FIELDS})


def pictures_page(
    session: Session,
    library: Library,
    filter: PictureFilter,
    sort: PictureSort,
    *,
    limit: int,
    after: str | None = None,
) -> Page[PictureView]:
    """One page of a library's pictures: the first, or the one ``after`` the cursor of the page before.

    Raises :class:`Refusal` for a cursor that is not one of this order's.
    """
    where = [Picture.library_id == library.id, *fits(filter)]
    last: list[Any] = []
    if after is not None:
        count, last = _read_cursor(after, library.id, sort)
        where.append(_FOLLOWS[sort](*last))
    elif finds_all(filter):
        count = total(totals(session, library.id), "picture").rows
    else:
        count = session.scalar(select(func.count()).select_from(Picture).where(*where)) or 0
    query = select(Picture).where(*where).order_by(*_ORDER[sort]).limit(limit + 1)
    rows = list(session.scalars(query))
    if sort is PictureSort.WORST and last and last[0] is not None and len(rows) <= limit:
        # An index knows those with a worst place after a place, and those without one, but not both at once.
        unmeasured = select(Picture).where(*where[:-1], Picture.worst.is_(None)).order_by(Picture.id)
        rows += session.scalars(unmeasured.limit(limit + 1 - len(rows)))
    views = [picture_view(row, library.slug) for row in rows[:limit]]
    more = len(rows) > limit
    return Page[PictureView](
        rows=views,
        total=count,
        cursor=_cursor(library.id, count, sort, rows[limit - 1]) if more else None,
    )


def _cursor(library_id: int, count: int, sort: PictureSort, last: Picture) -> str:
    return cursors.written(f"pictures of {library_id} by {sort}", [count, *_KEY[sort](last)])


def _read_cursor(cursor: str, library_id: int, sort: PictureSort) -> tuple[int, list[Any]]:
    match cursors.read(cursor, f"pictures of {library_id} by {sort}"):
        case [int(count), *last] if cursors.is_whole(count) and _SHAPE[sort](last):
            return count, last
    raise cursors.not_one_of_this_list()


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
