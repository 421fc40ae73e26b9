"""Passwords: Argon2id (RFC 9106), and few checked at a time."""

from __future__ import annotations

import secrets
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import VerificationError

from plumcrate.contract.people import PASSWORD_LEAST
from plumcrate.refusal import Refusal

#: So many passwords are checked at a time: each takes 64 MB and both the machine's cores.
_CHECKS = threading.BoundedSemaphore(4)
_hasher = PasswordHasher()


def hash_password(password: str) -> str:
    """Raises :class:`Refusal` for one that is too short."""
    if len(password) < PASSWORD_LEAST:
        raise Refusal("weak-password", f"a password has at least {PASSWORD_LEAST} characters")
    with _checking():
        return _hasher.hash(password)


def fits(password_hash: str | None, password: str) -> bool:
    """Whether a password is the right one. One is checked even when there is no account, so that timing
    tells nothing."""
    try:
        with _checking():
            _hasher.verify(password_hash or _of_nobody(), password)
    except VerificationError:
        return False
    return password_hash is not None


@contextmanager
def _checking() -> Iterator[None]:
    if not _CHECKS.acquire(timeout=10):
        raise Refusal("busy", "too many people are signing in: try again in a moment")
    try:
        yield
    finally:
        _CHECKS.release()


@cache
def _of_nobody() -> str:
    return _hasher.hash(secrets.token_urlsafe(16))
