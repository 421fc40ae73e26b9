"""Uploads: a file that somebody sends is looked at, put under a name that is free, and taken in."""

from __future__ import annotations

import os
from typing import BinaryIO

from sqlalchemy import select

from plumcrate.contract.automation import NewFiles
from plumcrate.imaging import ImagingError
from plumcrate.imaging.formats import FORMATS
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.changes.base import content_sha
from plumcrate.keeping.keeper import Keeper
from plumcrate.queue.locks import PATH_LOCK, path_key
from plumcrate.records.tables import File, Library
from plumcrate.refusal import Refusal
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.storage.errors import NotThere, StorageError

from .arrivals import take_in_now

#: So much of a file's beginning is looked at before it is taken in.
_HEAD_BYTES = 1 << 22
#: Formats that may do more than show something where they are opened.
_WITH_SCRIPTS = ("svg", "pdf")


def take_upload(
    keeper: Keeper, library: Library, path: str, file: BinaryIO, mode: NewFiles, sandbox: Sandbox, by: str
) -> list[int]:
    """Writes a file into the library; the runs that were started for it. One that was taken in before under
    this name, and is the same to the byte, is taken in already. Raises Refusal and StorageError."""
    file.seek(0)
    _check_content(path, file.read(_HEAD_BYTES), sandbox)
    with keeper.database.advisory_lock(PATH_LOCK, path_key(library.id, path)) as free:
        if not free:
            raise Refusal(
                "request-under-way", f"{path} is being uploaded just now; nothing was written: ask again then"
            )
        known = _known(keeper, library, path)
        if known is not None and _same(file, known.size_before, known.before_sha256 or known.sha256):
            return []
        if not _stands_there(keeper, path, file):
            keeper.upload(path, file, ChangeNote(detail={"by": by}))
    return take_in_now(keeper.database, keeper, library, path, mode).runs


def _known(keeper: Keeper, library: Library, path: str) -> File | None:
    with keeper.database.begin() as session:
        return session.scalar(select(File).where(File.library_id == library.id, File.path == path))


def _same(file: BinaryIO, size: int, sha256: bytes | None) -> bool:
    """Whether the bytes are those: whoever did not hear that they were taken in sends them again."""
    return sha256 is not None and file.seek(0, os.SEEK_END) == size and content_sha(file) == sha256


def _stands_there(keeper: Keeper, path: str, file: BinaryIO) -> bool:
    """Whether a file of these bytes has the name by now, such as one that was put there before the service
    was killed."""
    with keeper.store.visit():
        try:
            size = keeper.store.facts(path).size
        except NotThere:
            raise
        except StorageError:
            return False
        return file.seek(0, os.SEEK_END) == size and _same(file, size, keeper.store.sha256(path))


def _check_content(path: str, head: bytes, sandbox: Sandbox) -> None:
    """The content must be a picture, of the format that its name says."""
    try:
        format = FORMATS[sandbox.format_of(head)]
    except (ImagingError, SandboxError) as error:
        raise Refusal("not-a-picture", f"{path} was not taken in: {error}") from None
    ending = "." + path.rpartition(".")[2].lower()
    if ending not in format.endings:
        raise Refusal(
            "not-a-picture",
            f"{path} was not taken in: its name ends in {ending}, but it is a {format.label} file",
        )
    if format.name in _WITH_SCRIPTS:
        raise Refusal(
            "not-a-picture",
            f"{path} was not taken in: {format.label} can hold scripts; put it in place by hand",
        )
