"""Uploads that come in pieces and are gone on with after a cut: what has come waits in the state folder.

A row says what the upload is to become, a file holds what has come of it; how far it is is the file's length.
One that is not brought to its end is cleared away after a day.
"""

from __future__ import annotations

import contextlib
import os
import secrets
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import BinaryIO

from sqlalchemy import ColumnElement, delete, func, select
from sqlalchemy.orm import Session

from plumcrate.contract.automation import NewFiles
from plumcrate.keeping.state import StateFolder
from plumcrate.records.tables import Library, ResumableUpload
from plumcrate.refusal import Refusal

#: An upload is good for so long from its beginning.
GOOD_FOR = timedelta(days=1)
#: So many of a library wait to be gone on with.
_MOST = 20


def begin(
    session: Session,
    library: Library,
    path: str,
    length: int,
    mode: NewFiles,
    digest: bytes | None,
    by: str,
    replaces: str | None = None,
) -> ResumableUpload:
    """A new upload of which nothing has come. ``digest``: the SHA-256 of the whole; ``replaces``: an
    `If-Match` that lists the file in whose place it is to be put. Raises Refusal."""
    session.execute(select(Library.id).where(Library.id == library.id).with_for_update())
    open_ones = select(func.count()).where(
        ResumableUpload.library_id == library.id, ResumableUpload.ended_at.is_(None), _young()
    )
    if (session.scalar(open_ones) or 0) >= _MOST:
        raise Refusal("too-many", f"{_MOST} uploads wait to be gone on with: end one, or delete it")
    row = ResumableUpload(
        id=secrets.token_urlsafe(18),
        library_id=library.id,
        path=path,
        length=length,
        mode=mode,
        sha256=digest,
        by=by,
        replaces=replaces,
    )
    session.add(row)
    session.flush()
    session.refresh(row)
    return row


def find(session: Session, library: Library, number: str) -> ResumableUpload:
    """Raises Refusal for one that there is not, or not any more."""
    row = session.scalar(
        select(ResumableUpload).where(
            ResumableUpload.id == number, ResumableUpload.library_id == library.id, _young()
        )
    )
    if row is None:
        raise Refusal("not-found", f"there is no upload {number} any more: begin it anew")
    return row


def place(state: StateFolder, row: ResumableUpload) -> Path:
    """Where what has come of it is."""
    return state.path / "uploads" / row.id


def offset(state: StateFolder, row: ResumableUpload) -> int:
    """How many bytes have come. Raises NotThere."""
    if row.ended_at is not None:
        return row.length
    state.check()  # a folder that is not mounted holds nothing, and says nothing of what has come
    try:
        return place(state, row).stat().st_size
    except FileNotFoundError:
        return 0


@contextlib.contextmanager
def appending(state: StateFolder, row: ResumableUpload) -> Iterator[BinaryIO]:
    """What has come, to be written on; durable at the end. Raises OSError, NotThere."""
    state.check()
    place(state, row).parent.mkdir(mode=0o700, exist_ok=True)
    flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
    with os.fdopen(os.open(place(state, row), flags, 0o600), "r+b") as file:
        file.seek(0, os.SEEK_END)
        try:
            yield file
        finally:
            file.flush()
            os.fsync(file.fileno())


def end(session: Session, state: StateFolder, row: ResumableUpload, runs: list[int]) -> None:
    """It was taken in; what had come is not needed any more."""
    kept = session.get_one(ResumableUpload, row.id)
    kept.ended_at, kept.runs = func.now(), runs
    session.flush()
    place(state, row).unlink(missing_ok=True)


def drop(session: Session, state: StateFolder, row: ResumableUpload) -> None:
    """Nobody goes on with it."""
    session.execute(delete(ResumableUpload).where(ResumableUpload.id == row.id))
    place(state, row).unlink(missing_ok=True)


def clear(session: Session, state: StateFolder) -> int:
    """Clears away what was not brought to its end in time, and files that belong to no upload; how many.
    Raises NotThere."""
    state.check()
    session.execute(delete(ResumableUpload).where(~_young()))
    # What is there now had its row before.
    there = list((state.path / "uploads").glob("*"))
    known = set(session.scalars(select(ResumableUpload.id).where(ResumableUpload.ended_at.is_(None))))
    spare = [file for file in there if file.name not in known]
    for file in spare:
        file.unlink(missing_ok=True)
    return len(spare)


def _young() -> ColumnElement[bool]:
    return ResumableUpload.created_at > func.now() - GOOD_FOR
