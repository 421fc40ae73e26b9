"""The service: API under /api/v1, the console for everything else."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import anyio
from fastapi import APIRouter, FastAPI, Response
from fastapi.responses import FileResponse, HTMLResponse
from fastapi.staticfiles import StaticFiles

from plumcrate import __version__
from plumcrate.api.routers import (
    allowance,
    audit,
    care,
    intake,
    jobs,
    keys,
    libraries,
    machine,
    marks,
    pages,
    people,
    pictures,
    recipes,
    reports,
    runs,
    serving,
    sessions,
    sizes,
    touches,
    webhooks,
    weighing,
)
from plumcrate.delivery.counting import SentCounter
from plumcrate.delivery.finding import Finder, Found
from plumcrate.delivery.serving import PictureServer
from plumcrate.imaging.recipe import Limits
from plumcrate.intake.remaking import Remaking
from plumcrate.keeping.sealing import Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.people.attempts import Attempts
from plumcrate.previews.placeholders import Placeholders
from plumcrate.previews.previews import Previews
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database
from plumcrate.renditions.cuts import Cutter
from plumcrate.renditions.touch_ups import Toucher
from plumcrate.sandbox.children import Sandbox
from plumcrate.sandbox.pace import Urgency
from plumcrate.sandbox.rewriting import Faults, PageRewriter
from plumcrate.settings import Settings

from . import openapi, problems
from .events import Hub
from .gate import API, Gate
from .recording import Recorder

ROUTERS = (
    sessions,
    people,
    keys,
    audit,
    machine,
    libraries,
    recipes,
    pictures,
    runs,
    jobs,
    intake,
    care,
    pages,
    serving,
    weighing,
    allowance,
    reports,
    webhooks,
    sizes,
    touches,
    marks,
)
#: Below it pictures are served to anybody, where a library says so.
MEDIA = "/media"
_STATIC = Path(__file__).parent / "static"
_LIVE_CHECK = Path(__file__).parents[1] / "pages" / "live.js"
#: No request of a person takes so long; what does, is ended by the database.
_SECONDS = 30
_PAGE_POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; object-src 'none'; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)
_DOCS = f"""<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Plum Crate: interface</title>
<meta name="viewport" content="width=device-width">
<link rel="icon" href="data:,"><link rel="stylesheet" href="/interface/interface.css"></head>
<body><div id="interface" data-document="{API}/openapi.json"></div>
<script type="module" src="/interface/interface.js"></script></body></html>
"""


def create_app(settings: Settings | None = None) -> FastAPI:
    """The ASGI application. Without ``settings`` they come from the environment."""
    settings = settings or Settings()
    database = Database(settings.database_url, pool_size=20, seconds=_SECONDS)
    monitor = Database(settings.database_url, pool_size=2, seconds=5)
    finder = Finder(database)
    hub = Hub(database, finder.forget)

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.sandbox = Sandbox(
            2,
            settings.child_memory_mb,
            settings.seconds_per_megapixel,
            limits=Limits(settings.most_pixels),
            urgency=Urgency.PERSON,
        )
        app.state.previews = Previews(
            database,
            app.state.state_folder,
            app.state.sandbox,
            most_bytes=settings.most_bytes,
            room=settings.previews_mb * 1_000_000,
            threads=2,
        )
        # Pages have children of their own: a long one holds up no preview.
        app.state.page_sandbox = Sandbox(
            2, settings.child_memory_mb, settings.seconds_per_megapixel, urgency=Urgency.PERSON
        )
        app.state.page_rewriter = PageRewriter(app.state.page_sandbox)
        app.state.page_threads = anyio.CapacityLimiter(8)
        app.state.placeholders = Placeholders(app.state.previews)
        app.state.cutter = Cutter(database, app.state.state_folder, app.state.sandbox)
        app.state.toucher = Toucher(database, app.state.state_folder, app.state.sandbox)
        # What waits for a child, for the disk or for a monitor has threads of its own.
        app.state.upload_threads = anyio.CapacityLimiter(2)
        app.state.health_threads = anyio.CapacityLimiter(2)
        hub.start()
        counter.start()
        yield
        await hub.stop()
        await anyio.to_thread.run_sync(counter.close)
        remaking.close()
        app.state.previews.close()
        app.state.page_sandbox.close()
        app.state.sandbox.close()
        database.close()
        monitor.close()

    app = FastAPI(
        title="Plum Crate",
        version=__version__,
        description="Makes a media library light, and keeps it light.",
        docs_url=None,
        openapi_url=f"{API}/openapi.json",
        redoc_url=None,
        lifespan=lifespan,
    )
    app.state.settings, app.state.database, app.state.hub = settings, database, hub
    app.state.monitor = monitor
    app.state.state_folder = StateFolder(database, settings.state_dir)
    app.state.queue = Queue(settings.database_url)
    app.state.seal = Seal(settings.state_dir)
    app.state.attempts = Attempts()
    app.state.page_faults = Faults()
    problems.install(app)
    counter = SentCounter(database)
    remaking = Remaking(database, app.state.state_folder)
    served = PictureServer(finder, lambda found: _lacking(remaking, found), counter)
    app.add_middleware(Gate, settings=settings, open_to_all={MEDIA: served}, recorder=Recorder(database))
    api = APIRouter(prefix=API)
    for module in ROUTERS:
        api.include_router(module.router)
    app.include_router(api)
    _serve_live_check(app)
    _serve_console(app)
    app.openapi = openapi.kept  # type: ignore[method-assign]
    return app


def _lacking(remaking: Remaking, found: Found) -> None:
    """A picture that was asked for, whose copies or whose record are not as they should be."""
    own, known = found.forms[0], found.known
    remaking.note(found.library.id, own.path, None if found.changed or known is None else known.file_id)


def _serve_live_check(app: FastAPI) -> None:
    @app.get("/live-check.js", include_in_schema=False)
    def live_check() -> Response:
        """The script that shows on a live page which pictures are far too large for their place."""
        headers = {"Cache-Control": "public, max-age=3600", "Cross-Origin-Resource-Policy": "cross-origin"}
        return FileResponse(_LIVE_CHECK, media_type="text/javascript", headers=headers)


def _serve_console(app: FastAPI) -> None:
    @app.get(f"{API}/docs", include_in_schema=False)
    def docs() -> Response:
        """The interface's description, drawn by scripts that come from here."""
        return HTMLResponse(_DOCS, headers={"Content-Security-Policy": _PAGE_POLICY})

    if not _STATIC.is_dir():
        return
    app.mount("/assets", StaticFiles(directory=_STATIC / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str) -> Response:
        """The console's page for every address that is not the API's; it routes by itself."""
        if path.startswith("api/"):
            return problems.respond("not-found", "no resource has this address")
        wanted = (_STATIC / path).resolve() if len(path) < 200 else _STATIC
        if path and wanted.is_relative_to(_STATIC) and wanted.is_file():
            return FileResponse(wanted)
        headers = {"Cache-Control": "no-cache", "Content-Security-Policy": _PAGE_POLICY}
        return FileResponse(_STATIC / "index.html", headers=headers)
