"""The audit log: looked through, and exported."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import datetime
from typing import Annotated, Any

from fastapi import Query, Response
from fastapi.responses import StreamingResponse
from pydantic import AwareDatetime, BeforeValidator

from plumcrate.api.needs import Administering, Serving
from plumcrate.contract.common import Page
from plumcrate.contract.people import ActOutcome, AuditEntry
from plumcrate.people import audit
from plumcrate.records.database import Database
from plumcrate.records.tables import Library

from .deps import PLAIN, After, Limit, Session, Slug, TheDatabase, router_of, the_library

router = router_of("audit")

Words = Annotated[
    str | None, Query(max_length=200, pattern=PLAIN, description="All of these words, wherever they stand.")
]


def _written(value: object) -> object:
    """A time is written as one, with its zone (RFC 3339, section 5.6): a number of seconds is none."""
    if isinstance(value, str) and not _MOMENT.match(value):
        raise ValueError("a time is written as 2026-11-26T09:30:00Z")
    return value


_MOMENT = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d:\d\d", re.ASCII)
_Moment = Annotated[AwareDatetime, BeforeValidator(_written)]
Since = Annotated[_Moment | None, Query(description="From then on.")]
Until = Annotated[_Moment | None, Query(description="Up to then.")]
_CSV: dict[int | str, dict[str, Any]] = {
    200: {"content": {"text/csv": {}}, "description": "RFC 4180, the oldest first"}
}


@router.get("/audit", summary="Who did what")
def everything(
    actor: Serving,
    session: Session,
    search: Words = None,
    outcome: ActOutcome | None = None,
    since: Since = None,
    until: Until = None,
    after: After = None,
    limit: Limit = 60,
) -> Page[AuditEntry]:
    """In the whole service, the latest first. It is only ever added to."""
    return audit.entries(
        session, None, search=search, outcome=outcome, since=since, until=until, after=after, limit=limit
    )


@router.get("/audit/export", summary="Who did what, as CSV", response_class=Response, responses=_CSV)
def export(
    actor: Serving,
    database: TheDatabase,
    search: Words = None,
    outcome: ActOutcome | None = None,
    since: Since = None,
    until: Until = None,
) -> StreamingResponse:
    return _exported(database, None, search, outcome, since, until)


@router.get("/libraries/{slug}/audit", summary="Who did what in a library")
def of_library(
    slug: Slug,
    actor: Administering,
    session: Session,
    search: Words = None,
    outcome: ActOutcome | None = None,
    since: Since = None,
    until: Until = None,
    after: After = None,
    limit: Limit = 60,
) -> Page[AuditEntry]:
    """The latest first. Of another library that had the same short name before, nothing."""
    since = _since_it_is_there(the_library(session, slug), since)
    return audit.entries(
        session, slug, search=search, outcome=outcome, since=since, until=until, after=after, limit=limit
    )


@router.get(
    "/libraries/{slug}/audit/export",
    summary="Who did what in a library, as CSV",
    response_class=Response,
    responses=_CSV,
)
def export_of_library(
    slug: Slug,
    actor: Administering,
    database: TheDatabase,
    search: Words = None,
    outcome: ActOutcome | None = None,
    since: Since = None,
    until: Until = None,
) -> StreamingResponse:
    with database.begin() as session:
        since = _since_it_is_there(the_library(session, slug), since)
    return _exported(database, slug, search, outcome, since, until)


def _since_it_is_there(library: Library, since: datetime | None) -> datetime:
    """A short name may be given again: what was done under it before is not this library's."""
    return library.created_at if since is None else max(since, library.created_at)


def _exported(
    database: Database,
    library: str | None,
    search: str | None,
    outcome: ActOutcome | None,
    since: datetime | None,
    until: datetime | None,
) -> StreamingResponse:
    def lines() -> Iterator[str]:
        with database.begin() as session:
            yield from audit.as_csv(
                session, library, search=search, outcome=outcome, since=since, until=until
            )

    name = f"audit-{library}.csv" if library else "audit.csv"
    return StreamingResponse(
        lines(),
        media_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )
