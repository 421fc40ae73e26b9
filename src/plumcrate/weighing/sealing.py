"""What signs in to pages, sealed: readable only with a key in the state folder, never in the records."""

from __future__ import annotations

from plumcrate.contract.weighing import Secrets
from plumcrate.keeping.sealing import CannotUnseal, Seal


def seal(with_: Seal, what: Secrets) -> bytes | None:
    """None for nothing."""
    if not what.cookies and not what.headers:
        return None
    return with_.close(what.model_dump_json().encode())


def unseal(with_: Seal, sealed: bytes | None) -> Secrets:
    """Raises :class:`CannotUnseal`, in words about the page."""
    if sealed is None:
        return Secrets()
    try:
        return Secrets.model_validate_json(with_.open(sealed))
    except (CannotUnseal, ValueError) as error:
        raise CannotUnseal(
            f"what signs in to this page cannot be read: {error}. Else give its cookies and headers again"
        ) from None
