"""The backup store: original bytes by their SHA-256, written once, durable before anything changes."""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Iterator
from pathlib import Path

from plumcrate.storage.folder import StorageError, explain, sync_folder


class BackupStore:
    """Backups below ``root``, in folders by the first two digits of the hash."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def place(self, sha256: bytes) -> Path:
        digits = sha256.hex()
        return self.root / digits[:2] / digits

    def has(self, sha256: bytes) -> bool:
        return self.place(sha256).exists()

    def put(self, data: bytes, sha256: bytes) -> None:
        """Makes the bytes durable under their hash; does nothing when they are there already.

        Raises StorageError, for one when the disk is full.
        """
        place = self.place(sha256)
        if place.exists() and place.stat().st_size == len(data):
            return
        staged = place.parent / f".{secrets.token_hex(8)}"
        try:
            fresh = not place.parent.exists()
            place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            if fresh:
                sync_folder(self.root)
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
            raise explain(error, f"the backup {place.name[:12]}…") from None

    def delete(self, sha256: bytes) -> None:
        """Deletes a backup; it is no error when it is gone already. Raises StorageError."""
        place = self.place(sha256)
        try:
            place.unlink(missing_ok=True)
        except OSError as error:
            raise explain(error, f"the backup {place.name[:12]}…") from None

    def all(self) -> Iterator[bytes]:
        """The hashes of all backups in the store, as their names say."""
        for folder in sorted(self.root.iterdir()) if self.root.is_dir() else ():
            for place in sorted(folder.iterdir()) if folder.is_dir() else ():
                if len(place.name) == 64 and not place.name.startswith("."):
                    yield bytes.fromhex(place.name)

    def get(self, sha256: bytes) -> bytes:
        """The bytes, checked against their hash. Raises StorageError when missing or damaged."""
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


def _private(path: str, flags: int) -> int:
    return os.open(path, flags | os.O_CLOEXEC, 0o600)
