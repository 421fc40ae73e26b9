"""The backup store: original bytes by their SHA-256, written once, durable before anything changes.

A backup counts when its bytes were read and their hash fits, and when its name is durable.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import secrets
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

from plumcrate.storage.errors import StorageError, explain


def _nothing() -> None:
    return None


class BackupStore:
    """Backups below ``root``, in folders by the first two digits of the hash.

    ``check`` is called before each use, and raises NotThere when the folder is not the right one.
    """

    def __init__(self, root: Path, check: Callable[[], None] = _nothing) -> None:
        self.root = root
        self._check = check
        self._durable: set[Path] = set()  # folders whose names this process knows to be durable

    def place(self, sha256: bytes) -> Path:
        digits = sha256.hex()
        return self.root / digits[:2] / digits

    def has(self, sha256: bytes) -> bool:
        """Whether there is a file for it; see :meth:`sound`."""
        self._check()
        return self.place(sha256).is_file()

    def sound(self, sha256: bytes) -> bool:
        """Whether the bytes are there and fit their hash; they are read."""
        self._check()
        try:
            with open(self.place(sha256), "rb") as file:
                return hashlib.file_digest(file, "sha256").digest() == sha256
        except OSError:
            return False

    def put(self, data: bytes, sha256: bytes) -> None:
        """Makes the bytes durable under their hash; a damaged backup is replaced.

        Raises StorageError, for one when the disk is full.
        """
        self._check()
        place = self.place(sha256)
        staged = place.parent / f".{secrets.token_hex(8)}"
        try:
            place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._make_durable(self.root)
            self._make_durable(place.parent)
            if not self.sound(sha256):
                try:
                    with open(staged, "xb", opener=_private) as file:
                        file.write(data)
                        file.flush()
                        os.fsync(file.fileno())
                    os.replace(staged, place)
                finally:
                    staged.unlink(missing_ok=True)
            sync_folder(place.parent)
        except OSError as error:
            raise self._explained(error, place) from None

    def _explained(self, error: OSError, place: Path) -> StorageError:
        explained = explain(error, f"the backup {place.name[:12]}…")
        if explained.code == "gone":
            return StorageError("backup-missing", f"the backup store {self.root} cannot be written: {error}")
        return explained

    def _make_durable(self, folder: Path) -> None:
        if folder not in self._durable:
            sync_folder(folder.parent)
            self._durable.add(folder)

    def delete(self, sha256: bytes) -> None:
        """Deletes a backup; it is no error when it is gone already. Raises StorageError."""
        self._check()
        place = self.place(sha256)
        try:
            place.unlink(missing_ok=True)
        except OSError as error:
            raise self._explained(error, place) from None

    def all(self) -> Iterator[bytes]:
        """The hashes of all backups in the store, as their names say."""
        self._check()
        for folder in sorted(self.root.iterdir()) if self.root.is_dir() else ():
            for place in sorted(folder.iterdir()) if folder.is_dir() else ():
                with contextlib.suppress(ValueError):
                    if len(place.name) == 64:
                        yield bytes.fromhex(place.name)

    def open(self, sha256: bytes) -> BinaryIO:
        """The file of a backup, for showing it. Raises StorageError."""
        self._check()
        try:
            return open(self.place(sha256), "rb")
        except OSError as error:
            raise StorageError(
                "backup-missing", f"the backup {sha256.hex()[:12]}… cannot be read ({error.strerror})"
            ) from None

    def get(self, sha256: bytes) -> bytes:
        """The bytes, checked against their hash. Raises StorageError when missing or damaged."""
        self._check()
        try:
            data = self.place(sha256).read_bytes()
        except OSError as error:
            raise StorageError(
                "backup-missing", f"the backup {sha256.hex()[:12]}… cannot be read ({error.strerror})"
            ) from None
        if hashlib.sha256(data).digest() != sha256:
            raise StorageError(
                "backup-damaged", f"the backup {sha256.hex()[:12]}… is damaged on disk and was not used"
            )
        return data


def sync_folder(folder: Path) -> None:
    """Makes the names in a folder durable. Raises OSError."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _private(path: str, flags: int) -> int:
    return os.open(path, flags | os.O_CLOEXEC, 0o600)
