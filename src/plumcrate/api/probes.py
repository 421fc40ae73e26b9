"""What a supervisor asks: does the process live, and can it do its work? Open to everybody, under any host
name, and saying no more than that. Neither waits for who asks for something else."""

from __future__ import annotations

import anyio.to_thread
from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse
from sqlalchemy.exc import SQLAlchemyError
from starlette.responses import Response

from plumcrate.records.database import Database
from plumcrate.records.queries.workers import workers_alive

from .problems import DATABASE_AWAY, respond
from .service import service_of

LIVES, READY = "/livez", "/readyz"

router = APIRouter(include_in_schema=False)


@router.api_route(LIVES, methods=["GET", "HEAD"])
async def lives() -> Response:
    """200 as long as the process answers, whatever is away: a restart would mend nothing else."""
    return PlainTextResponse("lives\n")


@router.api_route(READY, methods=["GET", "HEAD"])
async def ready(request: Request) -> Response:
    """200 when requests can be answered and work is done; else 503, and why."""
    service = service_of(request)
    fault = await anyio.to_thread.run_sync(
        _fault, service.monitor, service.settings.ready_needs_worker, limiter=service.health_threads
    )
    return PlainTextResponse("ready\n") if fault is None else respond("not-ready", fault)


def _fault(database: Database, needs_worker: bool) -> str | None:
    try:
        if not database.up_to_date():
            return (
                "the tables are of another version than this program: upgrade whichever of the two is older"
            )
        with database.begin() as session:
            workers = workers_alive(session) if needs_worker else 1
    except SQLAlchemyError:
        return DATABASE_AWAY
    return None if workers else "no worker lives: nothing is treated until one is started"
