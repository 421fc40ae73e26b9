"""Runs: start, follow, pause, go on, stop, try again; and the event stream."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Annotated, Literal

from fastapi import Header, Query, Request
from fastapi.responses import PlainTextResponse, StreamingResponse
from sse_starlette import EventSourceResponse

from plumcrate.api.acts import act_of
from plumcrate.api.auth import identify
from plumcrate.api.events import MOST_READERS
from plumcrate.api.needs import Looking, Mending, Treating, need, visible_library
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.common import Id as IdView
from plumcrate.contract.common import Page
from plumcrate.contract.people import Ability
from plumcrate.contract.runs import Item, ItemSort, ItemState, Run, RunKind, RunRequest, RunState
from plumcrate.people.actor import Actor
from plumcrate.records import tables
from plumcrate.records.queries.originals import checksums
from plumcrate.records.queries.runs import items_page, run_view, runs_page
from plumcrate.runs.runs import change_state, create_run, retry_failed

from .deps import PLAIN, After, Id, Limit, Session, TheDatabase, router_of, the

router = router_of("runs")

ItemIds = Annotated[list[IdView] | None, Query(max_length=500)]
LastEventId = Annotated[str | None, Header(max_length=100)]
LibraryName = Annotated[str | None, Query(max_length=100, pattern=PLAIN)]


@router.post("/runs", status_code=202, summary="Start a run")
def start(body: RunRequest, actor: Mending, session: Session, request: Request) -> Run:
    """Treats or restores many files. It goes on by itself; closing the client changes nothing.

    To put one picture back, the right to mend is enough."""
    library = visible_library(session, actor, body.library)
    act_of(request).library = library.slug
    act_of(request).detail = f"{body.kind}, {body.scope.model_dump_json(exclude_defaults=True)}"
    need(actor, library, _needed(body))
    return run_view(session, create_run(session, library, body))


def _needed(body: RunRequest) -> Ability:
    if body.kind is RunKind.HAND_BACK:
        return Ability.ADMINISTER
    one = body.kind is RunKind.RESTORE and len(body.scope.pictures or ()) == 1
    return Ability.MEND if one and not body.overwrite else Ability.TREAT


@router.get("/runs", summary="List runs, the latest first")
def runs(
    actor: Looking,
    session: Session,
    library: LibraryName = None,
    kind: Annotated[list[RunKind] | None, Query()] = None,
    state: Annotated[list[RunState] | None, Query()] = None,
    after: After = None,
    limit: Limit = 30,
) -> Page[Run]:
    """Of the libraries that may be seen, or of one of them."""
    number = visible_library(session, actor, library).id if library is not None else None
    seen = actor.may_see(tables.Run.library_id)
    return runs_page(session, number, seen, kinds=kind or [], states=state or [], after=after, limit=limit)


@router.get("/runs/{run_id}", summary="One run")
def run(run_id: Id, actor: Looking, session: Session) -> Run:
    return run_view(session, the(session, tables.Run, run_id, "run"))


@router.get("/runs/{run_id}/items", summary="What became of each file")
def items(
    run_id: Id,
    actor: Looking,
    session: Session,
    state: Annotated[list[ItemState] | None, Query()] = None,
    sort: ItemSort = ItemSort.LATEST,
    after: After = None,
    limit: Limit = 60,
) -> Page[Item]:
    row = the(session, tables.Run, run_id, "run")
    return items_page(session, row, state or [], sort=sort, after=after, limit=limit)


@router.get(
    "/runs/{run_id}/checksums",
    summary="The originals that a hand-back put back, with their checksums",
    response_class=PlainTextResponse,
)
def checksums_of_originals(
    run_id: Id, actor: Looking, session: Session, database: TheDatabase
) -> StreamingResponse:
    """Lines of SHA-256 and path. `sha256sum --check` in the library's folder compares them."""
    row = the(session, tables.Run, run_id, "run")
    if row.kind != RunKind.HAND_BACK:
        raise ApiError("not-found", f"run {run_id} is no hand-back: only a hand-back states its originals")

    def lines() -> Iterator[str]:
        with database.begin() as reading:
            yield from checksums(reading, row)

    return StreamingResponse(lines(), media_type="text/plain; charset=utf-8")


@router.post("/runs/{run_id}/retry", summary="Try failed files again")
def retry(
    run_id: Id,
    actor: Treating,
    session: Session,
    item: ItemIds = None,
) -> Run:
    """All failed files of the run, or only the items named."""
    row = the(session, tables.Run, run_id, "run")
    retry_failed(session, row, item)
    session.flush()
    session.refresh(row)
    return run_view(session, row)


@router.post("/runs/{run_id}/{action}", summary="Pause, resume or stop a run")
def change(run_id: Id, action: Literal["pause", "resume", "stop"], actor: Treating, session: Session) -> Run:
    """Files in hand are finished first. A stopped run keeps what it did and cannot go on."""
    row = the(session, tables.Run, run_id, "run")
    change_state(session, row, action)
    session.flush()
    session.refresh(row)
    return run_view(session, row)


@router.get("/events", summary="Live progress as server-sent events", response_class=EventSourceResponse)
async def events(request: Request, actor: Looking, last_event_id: LastEventId = None) -> EventSourceResponse:
    """Events ``run`` and ``job`` hold the noun as it is now, ``item`` one file's result, of the libraries
    that may be seen. With the ``Last-Event-ID`` of the last that came, what was told of since comes first, as
    it is now, of the last ten minutes; where that is not known any more, an event ``missed`` comes.

    The stream ends when the key is revoked or the session ends."""
    hub = service_of(request).hub
    if hub.readers >= MOST_READERS:
        raise ApiError("too-many", "too many clients follow already: try again in a moment")
    return EventSourceResponse(hub.stream(actor, partial(_still, request), last_event_id), ping=15)


def _still(request: Request) -> Actor | None:
    try:
        return identify(request)
    except ApiError:
        return None
