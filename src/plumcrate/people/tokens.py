"""Secrets that open something: made here, kept as hashes only.

A key's secret has a prefix and a checksum of its own, so that who finds one, or looks for leaked ones, knows
it for what it is: ``plumkey_``, 38 signs of 62 (226 bits), and six that are the CRC-32 (ISO/IEC 8802-3) of
what stands before, in the same signs.
"""

from __future__ import annotations

import hashlib
import re
import secrets
import string
import zlib

_SIGNS = string.digits + string.ascii_uppercase + string.ascii_lowercase
_PREFIX, _LENGTH = "plumkey_", 38
_KEY = re.compile(rf"{_PREFIX}[0-9A-Za-z]{{{_LENGTH + 6}}}\Z")


def sha256(token: str) -> bytes:
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).digest()


def new_token() -> str:
    """256 random bits, fit for an address."""
    return secrets.token_urlsafe(32)


def new_key_secret() -> str:
    begin = _PREFIX + "".join(secrets.choice(_SIGNS) for _ in range(_LENGTH))
    return begin + _checksum(begin)


def looks_like_key(secret: str) -> bool:
    """Whether it may be one of ours, by its form and checksum; the records say which. Keys from before
    the checksum have none."""
    return secret.startswith("pc_") or (bool(_KEY.match(secret)) and secret[-6:] == _checksum(secret[:-6]))


def _checksum(begin: str) -> str:
    value, signs = zlib.crc32(begin.encode()), ""
    for _ in range(6):
        value, place = divmod(value, len(_SIGNS))
        signs = _SIGNS[place] + signs
    return signs
