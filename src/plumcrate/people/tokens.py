"""Secrets that open something: made here, kept as hashes only.

A key's secret says what it is, so that whoever finds one, or scans for leaked ones, knows it: ``plumkey``,
then nine groups of five random characters (225 bits), then five that check them: the first 25 bits of the
SHA-256 of all that stands before. Characters are those of Crockford's base 32 in small letters, which leaves
out i, l, o and u.
"""

from __future__ import annotations

import hashlib
import secrets

_ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"
_GROUPS, _GROUP = 9, 5
_PREFIX = "plumkey"


def sha256(token: str) -> bytes:
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).digest()


def new_token() -> str:
    """256 random bits, fit for an address."""
    return secrets.token_urlsafe(32)


def new_key_secret() -> str:
    groups = ("".join(secrets.choice(_ALPHABET) for _ in range(_GROUP)) for _ in range(_GROUPS))
    begin = "-".join((_PREFIX, *groups))
    return f"{begin}-{_checksum(begin)}"


def _checksum(begin: str) -> str:
    value = int.from_bytes(hashlib.sha256(begin.encode()).digest()[:4]) >> 7
    return "".join(_ALPHABET[value >> shift & 31] for shift in (20, 15, 10, 5, 0))
