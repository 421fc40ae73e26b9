"""What a library's files live in, in meanings instead of paths on a disk.

A store knows files by relative paths. It is only entered when it is the one it should be: a store that
holds another identity file, or none where one is due, raises :class:`~.errors.NotThere`, so that nobody
mistakes a volume that is away for files that were deleted. No operation follows a link, at any level.

Names that begin with ``.plumcrate-`` are hidden and ours alone: files are staged under them before they
take a name, and go to them before they are deleted.
"""

from __future__ import annotations

import hashlib
import io
import secrets
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from enum import Enum
from typing import BinaryIO, Protocol, cast

from .errors import NO_FILE_CODES, StorageError
from .names import STAGED_PREFIX

#: What stands for the hash of something under a name that is not a regular file.
NO_FILE = b"no file"
#: Behind a hidden name: what came out of a swap where names cannot be exchanged at once.
HALF_SWAPPED = "-out"


@dataclass(frozen=True, slots=True)
class ListedFile:
    """One file as a listing shows it. ``size`` in bytes, ``mtime_ns`` in nanoseconds."""

    path: str
    size: int
    mtime_ns: int


@dataclass(frozen=True, slots=True)
class Skipped:
    """Something a listing passed over, and why."""

    path: str
    reason: str


@dataclass(slots=True)
class Listing:
    """What a folder holds: files, the paths of folders, and what was passed over."""

    files: list[ListedFile] = field(default_factory=list)
    folders: list[str] = field(default_factory=list)
    skipped: list[Skipped] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class FileFacts:
    """Of a regular file: bytes, time of the last change, names it has, the owner's number or None.
    ``identity``: another one for other bytes under the same name, also where size and time are the same."""

    size: int
    mtime_ns: int
    links: int = 1
    owner: int | None = None
    identity: str = ""


class Folder(Protocol):
    """One folder of a store, open. Names are those of files in it."""

    def facts(self, name: str) -> FileFacts:
        """As :meth:`Store.facts`."""

    def open(self, name: str) -> BinaryIO:
        """A file whose facts were just asked for, unbuffered. Codes as of :meth:`Store.facts`."""


class Writers(Enum):
    """Whether somebody may still write to a file that has no public name any more."""

    NONE = "none"
    SOME = "some"
    UNKNOWN = "unknown"


class Store(ABC):
    """The files of one library. ``label`` names it in messages; ``identity`` is what it must hold, or None.

    All methods raise StorageError, and :class:`~.errors.NotThere` when the store is not the right one.
    """

    label: str
    identity: str | None

    # -- identity ----------------------------------------------------------------------------

    @abstractmethod
    def visit(self) -> AbstractContextManager[None]:
        """Makes sure that the store is there and the right one, and stays with it until the end."""

    @abstractmethod
    def read_identity(self) -> str | None:
        """The identity file that it holds, whichever is due; None when it holds none."""

    @abstractmethod
    def write_identity(self, identity: str) -> None:
        """Gives an store an identity file, durably, and asks for it from now on."""

    @abstractmethod
    def remove_identity(self) -> None:
        """Takes the identity file away, and asks for none from now on."""

    @abstractmethod
    def device(self) -> str:
        """A name of the device and file system it lies on."""

    @abstractmethod
    def folder_id(self, path: str) -> str | None:
        """What tells the folder of a path from any other that may stand in its place; None: none is there."""

    # -- looking -----------------------------------------------------------------------------

    @abstractmethod
    def list(self, folder: str = "") -> Listing:
        """A folder's files and folders in the order of their names; hidden ones are not told."""

    @abstractmethod
    def facts(self, path: str) -> FileFacts:
        """Codes: ``gone`` when the name is free, ``not-a-file`` or ``symbolic-link``."""

    @abstractmethod
    def open(self, path: str) -> BinaryIO:
        """A regular file for reading. Codes as of :meth:`facts`."""

    @abstractmethod
    def look_into(self, folder: str) -> AbstractContextManager[Folder]:
        """A folder that is looked into for a moment, by names, with as few calls as there can be. Of a store
        that was the right one a second ago no more is made sure than that it is the very same folder."""

    @abstractmethod
    def taken(self, path: str) -> bool:
        """Whether the name is taken, by anything at all."""

    @abstractmethod
    def strays(self) -> Iterator[str]:
        """Every hidden file of ours, the identity file apart."""

    @abstractmethod
    def room(self) -> int:
        """Free bytes."""

    def read(self, path: str, limit: int | None = None) -> bytes:
        """The whole file, or its first ``limit`` bytes."""
        with self.open(path) as file:
            return file.read() if limit is None else file.read(limit)

    def sha256(self, path: str) -> bytes | None:
        """The hash of what stands under a name: None for nothing, :data:`NO_FILE` for no regular file."""
        try:
            with self.open(path) as file:
                return hashlib.file_digest(cast(io.BufferedReader, file), "sha256").digest()
        except StorageError as error:
            if error.code in ("gone", "name-too-long"):
                return None
            if error.code in NO_FILE_CODES:
                return NO_FILE
            raise

    def walk(self, top: str = "") -> Iterator[tuple[str, Listing]]:
        """Each folder with its listing, before the folders in it.

        A folder that cannot be listed comes with one :class:`Skipped` that holds its own path.
        """
        pending = [top]
        while pending:
            folder = pending.pop()
            try:
                listing = self.list(folder)
            except StorageError as error:
                if error.code == "not-there":
                    raise
                yield folder, Listing(skipped=[Skipped(folder or ".", str(error))])
                continue
            yield folder, listing
            pending.extend(reversed(listing.folders))

    # -- changing ----------------------------------------------------------------------------

    def spare_name(self, path: str) -> str:
        """A new hidden name in the same folder as ``path``."""
        folder = path.rpartition("/")[0]
        name = f"{STAGED_PREFIX}{secrets.token_hex(8)}"
        return f"{folder}/{name}" if folder else name

    @abstractmethod
    def stage(
        self, hidden: str, data: bytes | BinaryIO, like: str | None = None, *, keep_times: bool = False
    ) -> None:
        """Writes a new hidden file durably, of bytes or of a file's content from its beginning, with mode,
        attributes and, where allowed, owner of ``like``.

        When it fails nothing is left under the name.
        """

    @abstractmethod
    def swap(self, path: str, hidden: str) -> None:
        """Exchanges what the two names stand for; whoever reads ``path`` finds the one or the other."""

    @abstractmethod
    def can_exchange(self, hidden: str, other: str) -> bool:
        """Whether two names are exchanged at once here; exchanges these two when they are."""

    @abstractmethod
    def half_swapped(self, path: str, hidden: str) -> str | None:
        """Finishes a swap that was cut off where names cannot be exchanged at once.

        Returns a hidden name that still holds what nobody has asked for, or None.
        """

    @abstractmethod
    def create(self, hidden: str, path: str) -> bool:
        """Gives a hidden file its name unless the name is taken; says whether it did."""

    @abstractmethod
    def withdraw(self, path: str, hidden: str) -> bool:
        """Takes a file's name away and keeps it under a hidden one; false when that is taken."""

    @abstractmethod
    def writers(self, hidden: str) -> Writers:
        """Whether somebody has a hidden file still open for writing."""

    @abstractmethod
    def discard(self, hidden: str) -> None:
        """Deletes a hidden file; it is no error when it is gone already."""

    @abstractmethod
    def make_folder(self, folder: str) -> None:
        """Makes a folder and those above it."""

    @abstractmethod
    def set_mtime(self, path: str, mtime_ns: int) -> None:
        """Sets the time of the last change, and of the last reading, to the same moment."""


def require_hidden(name: str) -> str:
    """The name itself, when it is one of ours. Raises StorageError."""
    if not name.rpartition("/")[2].startswith(STAGED_PREFIX):
        raise StorageError("bad-name", f"{name} is not a hidden name of ours")
    return name
