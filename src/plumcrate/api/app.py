"""The service: API under /api/v1, the console for everything else."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import APIRouter, FastAPI, Response
from fastapi.responses import FileResponse, HTMLResponse
from fastapi.staticfiles import StaticFiles

from plumcrate.api.routers import (
    allowance,
    audit,
    care,
    descriptions,
    folders,
    intake,
    jobs,
    keys,
    libraries,
    machine,
    mapping,
    near_duplicates,
    pages,
    people,
    pictures,
    recipes,
    reports,
    runs,
    serving,
    sessions,
    site_files,
    sizes,
    touches,
    uploads,
    watermarks,
    webhooks,
    weighing,
)
from plumcrate.settings import Settings

from . import openapi, probes, problem_types, problems
from .gate import API, Gate
from .recording import Recorder
from .service import Service

ROUTERS = (
    sessions,
    site_files,
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
    uploads,
    care,
    pages,
    serving,
    weighing,
    allowance,
    reports,
    webhooks,
    sizes,
    touches,
    watermarks,
    descriptions,
    mapping,
    near_duplicates,
    folders,
)
#: Below it pictures are served to anybody, where a library says so.
MEDIA = "/media"
#: The console's own addresses, as its router has them.
CONSOLE = re.compile(
    r"(connect|me|join|machine|service/(people|keys|audit|machine|settings)"
    r"|l/[^/.]+(/(weights|report|treat|review|serve|keep)(/[a-z0-9-]+){0,2})?)?/?"
)
_STATIC = Path(__file__).parent / "static"
_LIVE_CHECK = Path(__file__).parents[1] / "pages" / "live.js"
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
    service = Service.of(settings or Settings())

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        service.start()
        yield
        await service.close()

    app = FastAPI(
        title="Plum Crate",
        version="1",
        description="Makes a media library light, and keeps it light.",
        docs_url=None,
        openapi_url=f"{API}/openapi.json",
        redoc_url=None,
        generate_unique_id_function=openapi.operation_id,
        lifespan=lifespan,
    )
    app.state.service = service
    problems.install(app)
    app.add_middleware(
        Gate,
        settings=service.settings,
        open_to_all={MEDIA: service.pictures},
        recorder=Recorder(service.database),
        metrics=service.metrics,
    )
    api = APIRouter(prefix=API)
    for module in ROUTERS:
        api.include_router(module.router)
    app.include_router(api)
    app.include_router(probes.router)
    _serve_live_check(app)
    _serve_problems(app)
    _serve_console(app)
    app.openapi = openapi.kept  # type: ignore[method-assign]
    return app


def _serve_live_check(app: FastAPI) -> None:
    @app.get("/live-check.js", include_in_schema=False)
    def live_check() -> Response:
        """The script that shows on a live page which pictures are far too large for their place."""
        headers = {"Cache-Control": "public, max-age=3600", "Cross-Origin-Resource-Policy": "cross-origin"}
        return FileResponse(_LIVE_CHECK, media_type="text/javascript", headers=headers)


def _serve_problems(app: FastAPI) -> None:
    """What each type of problem means, for people: answers lead here."""
    look = {"Content-Security-Policy": problem_types.POLICY}

    @app.get(problem_types.PAGES, include_in_schema=False)
    def index() -> Response:
        return HTMLResponse(problem_types.index(), headers=look)

    @app.get(f"{problem_types.PAGES}/{{code}}", include_in_schema=False)
    def page(code: str) -> Response:
        if code not in problem_types.TYPES:
            return problems.respond("not-found", "there is no problem of this type")
        return HTMLResponse(problem_types.page(code), headers=look)


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
        """The console's page for every address that is one of its own; it routes by itself."""
        wanted = (_STATIC / path).resolve() if len(path) < 200 else _STATIC
        if path and wanted.is_relative_to(_STATIC) and wanted.is_file():
            return FileResponse(wanted)
        if not CONSOLE.fullmatch(path):
            return problems.respond("not-found", "no page or resource has this address")
        headers = {"Cache-Control": "no-cache", "Content-Security-Policy": _PAGE_POLICY}
        return FileResponse(_STATIC / "index.html", headers=headers)
