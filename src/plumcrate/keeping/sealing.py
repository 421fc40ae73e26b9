"""What is kept sealed: readable only with a key in the state folder, never from the records alone."""

from __future__ import annotations

import contextlib
import os
import secrets
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

_NAME = "seal.key"


class CannotUnseal(Exception):
    """The key is not there, or another one than what was sealed with; the text says so."""


class Seal:
    """Seals with the key of a state folder, which is made when something is first sealed; the caller makes
    sure that the folder is the right one."""

    def __init__(self, state_dir: Path) -> None:
        self._place = state_dir / _NAME

    def close(self, what: bytes) -> bytes:
        """Raises OSError where no key is and none can be made."""
        return self._fernet().encrypt(what)

    def open(self, sealed: bytes) -> bytes:
        """Raises :class:`CannotUnseal`."""
        if not self._place.exists():
            raise CannotUnseal(f"the key {self._place} is not there: is the state folder mounted?")
        try:
            return self._fernet().decrypt(sealed)
        except (InvalidToken, ValueError):
            raise CannotUnseal(f"it was sealed with another key than {self._place}") from None

    def _fernet(self) -> Fernet:
        if not self._place.exists():
            fresh = self._place.with_name(f".{_NAME}-{secrets.token_hex(6)}")
            descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with open(descriptor, "wb") as file:
                file.write(Fernet.generate_key())
                file.flush()
                os.fsync(file.fileno())
            with contextlib.suppress(FileExistsError):
                os.link(fresh, self._place)  # whoever comes first has made it
            fresh.unlink()
        return Fernet(self._place.read_bytes())
