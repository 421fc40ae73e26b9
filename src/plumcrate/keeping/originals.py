"""The original of what a page shows: the bytes that a picture was before anything was done to it, at its
largest."""

from __future__ import annotations

from sqlalchemy import select

from plumcrate.contract.pictures import FileState
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.queries.pages import same_shape
from plumcrate.records.tables import File
from plumcrate.storage.errors import StorageError

_AWAY = (FileState.GONE, FileState.UNREADABLE)


def original_bytes(keeper: Keeper, file: File) -> bytes | None:
    """A file's bytes as they were before us; None when they cannot be had."""
    try:
        if file.before_sha256 is not None:
            return keeper.backups.get(file.before_sha256)
        return keeper.store.read(file.path)
    except StorageError:
        return None


def largest_of(keeper: Keeper, file: File) -> File:
    """The largest file of the same picture that shows the same; of equals the original."""
    with keeper.database.begin() as session:
        family = session.scalars(
            select(File).where(File.picture_id == file.picture_id, File.state.not_in(_AWAY))
        ).all()
    alike = [other for other in family if same_shape(other, file)]
    return max([file, *alike], key=lambda other: (other.width, other.role == "original"))
