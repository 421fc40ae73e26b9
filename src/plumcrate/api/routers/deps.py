"""What the routers share: a database session, the settings, looking things up by their names."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, TypeVar

import anyio.from_thread
import anyio.lowlevel
from fastapi import Depends, Path, Query, Request
from sqlalchemy.orm import Session as OrmSession

from plumcrate.api.operations import router_of as router_of
from plumcrate.api.problems import ApiError
from plumcrate.api.service import Service, service_of
from plumcrate.api.transaction import Session as Session
from plumcrate.api.transaction import remembered_library
from plumcrate.keeping.sealing import Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import by_slug
from plumcrate.records.tables import Base, Library
from plumcrate.settings import Settings


def _service(request: Request) -> Service:
    return service_of(request)


def _settings(request: Request) -> Settings:
    return service_of(request).settings


def _database(request: Request) -> Database:
    return service_of(request).database


def _queue(request: Request) -> Queue:
    return service_of(request).queue


def _state(request: Request) -> StateFolder:
    return service_of(request).state_folder


def _seal(request: Request) -> Seal:
    return service_of(request).seal


TheService = Annotated[Service, Depends(_service)]
TheSettings = Annotated[Settings, Depends(_settings)]
TheDatabase = Annotated[Database, Depends(_database)]
TheState = Annotated[StateFolder, Depends(_state)]
TheSeal = Annotated[Seal, Depends(_seal)]
TheQueue = Annotated[Queue, Depends(_queue)]
#: Text without control characters.
PLAIN = r"^[^\x00-\x1f\x7f]*$"
#: A number that a record may have, in an address.
Id = Annotated[int, Path(ge=1, le=2**63 - 1)]
Slug = Annotated[str, Path(max_length=100, pattern=PLAIN)]
After = Annotated[
    str | None, Query(max_length=9000, pattern=PLAIN, description="The cursor of the page before.")
]
#: Bytes that change under their address are asked for with another one.
Stamp = Annotated[
    str | None, Query(alias="t", max_length=100, description="Anything: a new one makes browsers fetch anew.")
]
Limit = Annotated[int, Query(ge=1, le=500)]

Row = TypeVar("Row", bound=Base)


def left(request: Request) -> Callable[[], bool]:
    """What tells whether whoever asked has gone; to be made in an operation's own thread, and asked in
    any."""
    token = anyio.from_thread.run_sync(anyio.lowlevel.current_token)
    return lambda: anyio.from_thread.run(request.is_disconnected, token=token)


def the_library(session: OrmSession, slug: str) -> Library:
    """Raises ApiError ``not-found``."""
    library = remembered_library(session, slug) or by_slug(session, slug)
    if library is None:
        raise ApiError("not-found", f"there is no library called {slug}")
    return library


def the(session: OrmSession, table: type[Row], number: int, noun: str) -> Row:
    """A row by its id. Raises ApiError ``not-found``."""
    row = session.get(table, number)
    if row is None:
        raise ApiError("not-found", f"there is no {noun} {number}")
    return row


def version_of(tag: str | None) -> int | None:
    """The version that `If-Match` names (RFC 9110, section 13.1.1); None for any; a tag that is none of ours
    fits no version."""
    if tag is None or tag.strip() == "*":
        return None
    number = tag.strip().strip('"')
    return int(number) if number.isascii() and number.isdigit() and len(number) < 10 else -1
