"""The one transaction of a request: what it may do is asked in it, it does its work in it, and is recorded in
it.

Who asks is found out before, by the gate, in a transaction of its own: no connection to the database is held
while a stranger's body arrives.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

from fastapi import Depends, Request
from fastapi.routing import APIRoute
from sqlalchemy.orm import Session as OrmSession

from plumcrate.records.tables import Library

from .acts import act_of
from .recording import record_act
from .service import service_of

_LIBRARY = "library"


def _session(request: Request) -> Iterator[OrmSession]:
    database = service_of(request).database
    # In PostgreSQL's default isolation a transaction that only reads sees no more than its statements do.
    with database.reading() if request.method in ("GET", "HEAD") else database.session() as session:
        yield session
        recorded = record_act(session, request)
        act = act_of(request)
        if act.once is not None and act.answer is not None:
            act.once.keep(session, act.answer)
        session.commit()
    act.recorded = recorded  # only now that it is committed


# The transaction ends before the answer is sent, so that a client reads what it wrote.
Session = Annotated[OrmSession, Depends(_session, scope="function")]


def works_in_transaction(route: object) -> bool:
    """Whether an operation itself works in the request's transaction. Others must not hold a connection for
    as long as they take."""
    return isinstance(route, APIRoute) and any(
        dependency.call is _session for dependency in route.dependant.dependencies
    )


def remember_library(session: OrmSession, library: Library) -> None:
    """Keeps the library that a request is about, so that it is fetched once."""
    session.info[_LIBRARY] = library


def remembered_library(session: OrmSession, slug: str) -> Library | None:
    """The library that :func:`remember_library` kept, when it has this slug."""
    library: Library | None = session.info.get(_LIBRARY)
    return library if library is not None and library.slug == slug else None
