"""What the routers share: a database session, the settings, looking things up by their names."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, TypeVar

from fastapi import Depends, Query, Request
from sqlalchemy.orm import Session as OrmSession

from plumcrate.api.problems import ApiError
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import by_slug
from plumcrate.records.tables import Base, Library
from plumcrate.settings import Settings
from plumcrate.work.queue import Queue


def _session(request: Request) -> Iterator[OrmSession]:
    with request.app.state.database.begin() as session:
        yield session


def _settings(request: Request) -> Settings:
    settings: Settings = request.app.state.settings
    return settings


def _database(request: Request) -> Database:
    database: Database = request.app.state.database
    return database


def _queue(request: Request) -> Queue:
    queue: Queue = request.app.state.queue
    return queue


# The transaction ends before the answer is sent, so that a client reads what it wrote.
Session = Annotated[OrmSession, Depends(_session, scope="function")]
TheSettings = Annotated[Settings, Depends(_settings)]
TheDatabase = Annotated[Database, Depends(_database)]
TheQueue = Annotated[Queue, Depends(_queue)]
Offset = Annotated[int, Query(ge=0, le=100_000_000)]
Limit = Annotated[int, Query(ge=1, le=500)]

Row = TypeVar("Row", bound=Base)


def the_library(session: OrmSession, slug: str) -> Library:
    """Raises ApiError ``not-found``."""
    library = by_slug(session, slug)
    if library is None:
        raise ApiError("not-found", f"there is no library called {slug}")
    return library


def the(session: OrmSession, table: type[Row], number: int, noun: str) -> Row:
    """A row by its id. Raises ApiError ``not-found``."""
    row = session.get(table, number)
    if row is None:
        raise ApiError("not-found", f"there is no {noun} {number}")
    return row
