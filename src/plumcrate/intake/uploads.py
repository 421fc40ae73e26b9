"""Uploads: a file that somebody sends is looked at, put under a name that is free, and taken in."""

from __future__ import annotations

import os
from typing import BinaryIO

from sqlalchemy import select

from plumcrate.contract.automation import NewFiles
from plumcrate.contract.pictures import FileState
from plumcrate.delivery.conditions import lists
from plumcrate.imaging import ImagingError
from plumcrate.imaging.formats import FORMATS
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.changes.base import content_sha
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.recovery import at_rest
from plumcrate.queue.locks import PATH_LOCK, PICTURE_LOCK, path_key
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
    keeper: Keeper,
    library: Library,
    path: str,
    file: BinaryIO,
    mode: NewFiles,
    sandbox: Sandbox,
    by: str,
    replaces: str | None = None,
) -> list[int]:
    """Writes a file into the library; the runs that were started for it. One that was taken in before under
    this name, and is the same to the byte, is taken in already. ``replaces``: an `If-Match` that lists the
    file in whose place it is to be put (RFC 9110, section 13.1.1). Raises Refusal and StorageError."""
    check_content(path, file, sandbox)
    with keeper.database.advisory_lock(PATH_LOCK, path_key(library.id, path)) as free:
        if not free:
            raise Refusal(
                "request-under-way", f"{path} is being uploaded just now; nothing was written: ask again then"
            )
        if replaces is not None and replaces.strip() == "*":
            # Whatever is there is meant, also what somebody put there just now: it gets its record first.
            take_in_now(keeper.database, keeper, library, path, NewFiles.BY_HAND)
        known = _known(keeper, library, path)
        if known is not None and _same(file, known.size_before, known.before_sha256 or known.sha256):
            return []
        note = ChangeNote(detail={"by": by})
        if replaces is not None and not _stands_there(keeper, path, file):
            _supersede(keeper, path, known, file, replaces, note)
        elif replaces is None and not _stands_there(keeper, path, file):
            keeper.upload(path, file, note)
    return take_in_now(keeper.database, keeper, library, path, mode).runs


def _known(keeper: Keeper, library: Library, path: str) -> File | None:
    """The file that has the name, by the records."""
    with keeper.database.begin() as session:
        return session.scalar(
            select(File).where(File.library_id == library.id, File.path == path, File.state != FileState.GONE)
        )


def _supersede(
    keeper: Keeper, path: str, known: File | None, file: BinaryIO, replaces: str, note: ChangeNote
) -> None:
    if known is None:
        raise Refusal(
            "changed-meanwhile", f"no file that is on record has the name {path}; nothing was written"
        )
    if known.size_name is not None or known.state == FileState.REMOVED:
        what = "was made by Plum Crate" if known.size_name else "made way for its conversion"
        raise Refusal("name-taken", f"{path} {what}, so nothing takes its place; nothing was written")
    with keeper.database.advisory_lock(PICTURE_LOCK, known.picture_id) as free:
        if not free or not at_rest(keeper, known.id):
            raise Refusal("request-under-way", f"{path} is being treated just now: ask again then")
        with keeper.database.begin() as session:
            known = session.get_one(File, known.id)
        if not any(lists(replaces, f'"{tag}"') for tag in (known.original_version, known.version)):
            raise Refusal(
                "changed-meanwhile",
                f"another file has the name {path} by now; nothing was written: look at it first",
                tag=f'"{known.original_version}"',
            )
        keeper.supersede(known, file, note)


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


def check_content(path: str, file: BinaryIO, sandbox: Sandbox) -> None:
    """The content must be a picture, of the format that its name says. Raises Refusal."""
    file.seek(0)
    try:
        format = FORMATS[sandbox.format_of(file.read(_HEAD_BYTES))]
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
