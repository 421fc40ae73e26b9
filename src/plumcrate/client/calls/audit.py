"""Who did what."""

from __future__ import annotations

from datetime import datetime

from plumcrate.contract.common import Page
from plumcrate.contract.people import ActOutcome, AuditEntry

from . import base
from .base import Call


def page(
    library: str | None = None,
    search: str | None = None,
    outcome: ActOutcome | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    after: str | None = None,
    limit: int = 60,
) -> Call[Page[AuditEntry]]:
    """Who did what, the latest first."""
    return base.get(
        f"{base.within(library)}/audit",
        Page[AuditEntry],
        search=search,
        outcome=outcome,
        since=since,
        until=until,
        after=after,
        limit=limit,
    )


def export(library: str | None = None) -> Call[bytes]:
    """The whole of it as CSV."""
    return Call("GET", f"{base.within(library)}/audit/export", None, seconds=300)
