"""The service: API under /api/v1, the console for everything else."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import APIRouter, FastAPI, Response
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles

from plumcrate import __version__
from plumcrate.records.database import Database
from plumcrate.settings import Settings
from plumcrate.work.queue import Queue
from plumcrate.work.sandbox import Sandbox

from . import problems
from .auth import Attempts
from .events import Hub
from .routers import care, intake, libraries, people, pictures, recipes, runs

_STATIC = Path(__file__).parent / "static"


def create_app(settings: Settings | None = None) -> FastAPI:
    """The ASGI application. Without ``settings`` they come from the environment."""
    settings = settings or Settings()
    database = Database(settings.database_url)
    hub = Hub(database)

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.sandbox = Sandbox(2, settings.child_memory_mb, settings.seconds_per_megapixel, urgent=True)
        hub.start()
        yield
        await hub.stop()
        app.state.sandbox.close()
        database.close()

    app = FastAPI(
        title="Plum Crate",
        version=__version__,
        description="Makes a media library light, and keeps it light.",
        docs_url="/api/v1/docs",
        openapi_url="/api/v1/openapi.json",
        redoc_url=None,
        lifespan=lifespan,
    )
    app.state.settings, app.state.database, app.state.hub = settings, database, hub
    app.state.queue = Queue(settings.database_url)
    app.state.attempts = Attempts()
    problems.install(app)
    api = APIRouter(prefix="/api/v1")
    for module in (people, libraries, recipes, pictures, runs, intake, care):
        api.include_router(module.router)
    app.include_router(api)
    _serve_console(app)
    return app


def _serve_console(app: FastAPI) -> None:
    if not _STATIC.is_dir():
        return
    app.mount("/assets", StaticFiles(directory=_STATIC / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str) -> Response:
        """The console's page for every address that is not the API's; it routes by itself."""
        if path.startswith("api/"):
            return problems.respond("not-found", "no resource has this address")
        wanted = (_STATIC / path).resolve()
        if path and wanted.is_file() and wanted.is_relative_to(_STATIC):
            return FileResponse(wanted)
        headers = {
            "Cache-Control": "no-cache",
            "Content-Security-Policy": "default-src 'self'; img-src 'self' data: blob:; "
            "style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'",
            "X-Content-Type-Options": "nosniff",
            "Referrer-Policy": "same-origin",
        }
        return FileResponse(_STATIC / "index.html", headers=headers)
