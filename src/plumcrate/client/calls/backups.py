"""What the backups hold."""

from __future__ import annotations

from plumcrate.contract.care import Backups, Orphan, PutBackRequest
from plumcrate.contract.common import Page

from . import base
from .base import Call


def get(library: str) -> Call[Backups]:
    return base.get(f"{base.within(library)}/backups", Backups)


def orphans(library: str, *, after: str | None = None, limit: int = 60) -> Call[Page[Orphan]]:
    """Backups whose file was deleted, moved away or overwritten, the latest first."""
    return base.get(f"{base.within(library)}/orphans", Page[Orphan], after=after, limit=limit)


def rescue(library: str, backup_id: int, request: PutBackRequest) -> Call[Orphan]:
    """Puts such a backup into the library again."""
    return base.post(f"{base.within(library)}/orphans/{base.part(backup_id)}/restore", Orphan, request)
