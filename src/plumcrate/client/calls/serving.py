"""How the site serves the copies."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.delivery import (
    AskReport,
    AskRequest,
    Counts,
    LogPosition,
    Purges,
    ServerKind,
    Traffic,
)

from . import base
from .base import Call


def rules(library: str, server: ServerKind) -> Call[bytes]:
    """Configuration for the site's own server."""
    return Call("GET", f"{base.within(library)}/server-rules/{base.part(server)}", None)


def ask(library: str, request: AskRequest) -> Call[AskReport]:
    """What each browser gets of a file, or of the pictures of a page."""
    body = TypeAdapter(AskReport)
    return Call("POST", f"{base.within(library)}/asking", body, body=request, seconds=300)


def purges(library: str) -> Call[Purges]:
    """What caches have yet to be told."""
    return base.get(f"{base.within(library)}/purges", Purges)


def traffic(library: str, days: int = 30) -> Call[Traffic]:
    """What visitors were sent, over so many days."""
    return base.get(f"{base.within(library)}/traffic", Traffic, days=days)


def log_position(library: str, log: str) -> Call[LogPosition]:
    """How far an access log was counted."""
    return base.get(f"{base.within(library)}/traffic/log", LogPosition, log=log)


def count_log(library: str, counts: Counts) -> Call[LogPosition]:
    """Counts a stretch of an access log."""
    return base.post(f"{base.within(library)}/traffic/log", LogPosition, counts)
