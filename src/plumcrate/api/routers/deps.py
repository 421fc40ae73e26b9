"""What the routers share: a database session, the settings, looking things up by their names."""

from __future__ import annotations

from collections.abc import Callable, Coroutine
from contextlib import AsyncExitStack
from typing import Annotated, Any, TypeVar

import anyio.from_thread
import anyio.lowlevel
from fastapi import APIRouter, Depends, Header, Path, Query, Request, Response
from fastapi.routing import APIRoute
from sqlalchemy.orm import Session as OrmSession

from plumcrate.api.problems import RESPONSES, ApiError
from plumcrate.api.service import Service, service_of
from plumcrate.api.transaction import Session as Session
from plumcrate.api.transaction import remembered_library
from plumcrate.keeping.sealing import Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database, conflicted
from plumcrate.records.queries.libraries import by_slug
from plumcrate.records.tables import Base, Library
from plumcrate.settings import Settings

#: Where FastAPI keeps what ends with an operation: its database session among it.
_STACKS = ("fastapi_inner_astack", "fastapi_function_astack")


class _Route(APIRoute):
    """An operation that is done once more when PostgreSQL undid it because it met another one."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handler = super().get_route_handler()

        async def handled(request: Request) -> Response:
            try:
                return await _by_itself(handler, request)
            except Exception as error:
                if not conflicted(error):
                    raise
                return await _by_itself(handler, request)

        return handled


async def _by_itself(
    handler: Callable[[Request], Coroutine[Any, Any, Response]], request: Request
) -> Response:
    """One try, whose transaction ends with it: what was undone must not be open when the next one commits."""
    former = {name: request.scope[name] for name in _STACKS}
    try:
        async with AsyncExitStack() as inner, AsyncExitStack() as function:
            request.scope.update(zip(_STACKS, (inner, function), strict=True))
            return await handler(request)
    finally:
        request.scope.update(former)


def router_of(tag: str) -> APIRouter:
    """A router whose operations say which problems they may answer with."""
    return APIRouter(tags=[tag], route_class=_Route, responses=RESPONSES)


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
Offset = Annotated[int, Query(ge=0, le=100_000_000)]
Limit = Annotated[int, Query(ge=1, le=500)]
IfMatch = Annotated[str | None, Header(max_length=200, description="The `ETag` of the version changed.")]

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
