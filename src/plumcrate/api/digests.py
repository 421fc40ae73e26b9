"""Digests of what is sent: RFC 9530 (``Content-Digest``, ``Repr-Digest``), structured fields (RFC 9651)."""

from __future__ import annotations

from http_sfv.dictionary import Dictionary

from .problems import ApiError

_SHA256 = "sha-256"


def sha256_of(header: str | None, name: str) -> bytes | None:
    """The SHA-256 that a header says; None where it says none. Raises ApiError for one that cannot be
    read."""
    if header is None:
        return None
    said = Dictionary()
    try:
        said.parse(header.encode("latin-1"))
    except ValueError as error:
        raise ApiError("invalid-request", f"{name} cannot be read: {error}") from None
    digest = said[_SHA256].value if _SHA256 in said else None
    if digest is not None and (not isinstance(digest, bytes) or len(digest) != 32):
        raise ApiError("invalid-request", f"{name} names no SHA-256: sha-256=:(32 bytes in base64):")
    return digest


def check(found: bytes, wanted: bytes | None) -> None:
    """Raises ApiError ``digest-mismatch``."""
    if wanted is not None and found != wanted:
        raise ApiError(
            "digest-mismatch",
            "what came is not what was sent, by its digest; nothing was kept: send it again",
        )
