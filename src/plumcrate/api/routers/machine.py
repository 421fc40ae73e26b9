"""The service's own health, and the check of the machine."""

from __future__ import annotations

import anyio.to_thread
from fastapi import Request, Response
from sqlalchemy.exc import SQLAlchemyError

from plumcrate import __version__
from plumcrate.api.metrics import MEDIA_TYPE
from plumcrate.api.needs import Administering, Serving
from plumcrate.api.service import service_of
from plumcrate.contract.care import Machine
from plumcrate.contract.people import Health, Setting
from plumcrate.diagnostics.machine import examine, examine_libraries
from plumcrate.records.database import Database
from plumcrate.records.queries.workers import workers_alive
from plumcrate.records.tables import Library
from plumcrate.settings import Settings, origin, shown

from .deps import TheSettings, TheState, router_of

router = router_of("machine")


@router.get("/health", summary="Health")
async def health(request: Request) -> Health:
    """Open to everybody, for monitors. It waits for nobody: it has a thread and a connection of its own."""
    service = service_of(request)
    return await anyio.to_thread.run_sync(_health, service.monitor, limiter=service.health_threads)


def _health(database: Database) -> Health:
    try:
        with database.begin() as session:
            workers = workers_alive(session)
    except SQLAlchemyError:
        return Health(version=__version__, database=False, workers=0)
    return Health(version=__version__, database=True, workers=workers)


@router.get(
    "/metrics",
    summary="Figures for a monitoring system",
    response_class=Response,
    responses={200: {"content": {MEDIA_TYPE: {}}, "description": "OpenMetrics text"}},
)
async def metrics(actor: Serving, request: Request) -> Response:
    """Workers, queue, files and bytes by state, failures, what visitors were sent, how long requests take.
    The setting `metrics_address` tells them at an address of its own, without a key."""
    service = service_of(request)
    text = await anyio.to_thread.run_sync(service.metrics.text, limiter=service.health_threads)
    return Response(text, headers={"Content-Type": MEDIA_TYPE})


@router.get("/machine", summary="Check the machine")
def machine(actor: Administering, request: Request, state: TheState) -> Machine:
    """Formats, disks, permissions, database, clock, workers, containment: each fine, or what to do. Who does
    not administer the whole service is told of the formats and of their own libraries."""
    database = service_of(request).database
    if not actor.service:
        return examine_libraries(state, database, actor.may_see(Library.id))
    sandbox = service_of(request).sandbox
    browser = service_of(request).settings.browser
    place = str(browser) if browser is not None else None
    return examine(state, database, sandbox.ready(), place)


@router.get("/settings", summary="The service's settings")
def settings(actor: Serving, settings: TheSettings) -> list[Setting]:
    """In force, and where each comes from. They are changed on the service's own machine."""
    return [
        Setting(
            name=name,
            value=shown(name, getattr(settings, name)),
            origin=origin(name),
            meaning=field.description or "",
        )
        for name, field in Settings.model_fields.items()
    ]
