"""A picture that is answered with another: a person said that both show the same. No file is touched."""

from __future__ import annotations

from sqlalchemy import or_, select, text
from sqlalchemy.orm import Session

from plumcrate.contract.near_duplicates import Redirected
from plumcrate.contract.pictures import FileState
from plumcrate.records.tables import Picture, Redirect
from plumcrate.refusal import Refusal

#: Whoever serves or caches a picture hears of it: every file of a picture has another answer now.
_TELL = text(
    "SELECT note_purge(library_id, path, picture_id), "
    "pg_notify('plumcrate', json_build_object('served', path, 'library', library_id)::text) "
    "FROM files WHERE picture_id = :picture"
)


def redirect(session: Session, picture: Picture, target: Picture, by: str) -> Redirected:
    """Answers a picture with another of its library from now on. Raises Refusal ``cannot-redirect``."""
    # One at a time in a library, so that no two make a circle.
    session.execute(
        select(Picture.id)
        .where(Picture.id.in_([picture.id, target.id]))
        .order_by(Picture.id)
        .with_for_update()
    )
    if picture.id == target.id:
        raise Refusal("cannot-redirect", "a picture cannot be answered with itself")
    if target.state == FileState.GONE:
        raise Refusal("cannot-redirect", f"{target.path} is not there any more: choose another")
    if picture.format in _DOCUMENTS or target.format in _DOCUMENTS:
        raise Refusal("cannot-redirect", "a document is not answered with another")
    onward = session.scalar(
        select(Redirect.picture_id)
        .where(or_(Redirect.picture_id == target.id, Redirect.to_id == picture.id))
        .limit(1)
    )
    if onward is not None:
        raise Refusal(
            "cannot-redirect",
            f"{target.path} is itself answered with another, or another is answered with {picture.path}: "
            "take that back first",
            number=onward,
        )
    row = session.get(Redirect, picture.id) or Redirect(picture_id=picture.id, library_id=picture.library_id)
    row.to_id, row.by = target.id, by
    session.add(row)
    session.flush()
    session.execute(_TELL, {"picture": picture.id})
    return Redirected(picture_id=picture.id, to=target.id, to_path=target.path, by=by)


def take_back(session: Session, picture: Picture) -> None:
    """Answers a picture with itself again."""
    row = session.get(Redirect, picture.id)
    if row is not None:
        session.delete(row)
        session.flush()
        session.execute(_TELL, {"picture": picture.id})


_DOCUMENTS = ("pdf",)
