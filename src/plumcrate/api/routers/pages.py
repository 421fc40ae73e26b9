"""Pages of the site: rewritten here, or with facts from here."""

from __future__ import annotations

import asyncio
import tempfile
import threading
from collections.abc import AsyncIterator
from contextlib import ExitStack
from email.message import Message
from typing import IO, Annotated
from urllib.parse import urljoin

import anyio
import anyio.to_thread
from fastapi import Query, Request, Response
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from plumcrate.api.needs import Looking
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.delivery import Delivery, PageFault, PageFaults, PageFile, PageFiles
from plumcrate.previews.page_facts import PageFacts
from plumcrate.previews.placeholders import Placeholders
from plumcrate.records.database import Database
from plumcrate.sandbox.rewriting import AskerLeft, Faults, PageSource

from .deps import PLAIN, Session, Slug, TheDatabase, router_of, the_library

router = router_of("pages")

#: So many bytes of a page are sent at a time.
_PIECE = 1 << 18


@router.post("/libraries/{slug}/page-files", summary="What pages need to know of files")
def page_files(
    slug: Slug, body: PageFiles, actor: Looking, database: TheDatabase, request: Request
) -> list[PageFile]:
    """By their paths; those that are not known are left out of the answer."""
    library_id, _ = _library(database, slug)
    for fault in body.faults:
        _faults(request).note(library_id, fault)
    facts = PageFacts(database, library_id, _placeholders(request), body.placeholder)
    return list(facts.of(body.paths).values())


@router.post(
    "/libraries/{slug}/page",
    summary="Rewrite a page",
    response_class=Response,
    responses={200: {"content": {"text/html": {}}, "description": "The page, saying the right markup"}},
    openapi_extra={
        # Anything at all may stand in a page.
        "requestBody": {"required": True, "content": {"text/html": {"schema": {}}}}
    },
)
async def page(
    slug: Slug,
    actor: Looking,
    database: TheDatabase,
    request: Request,
    address: Annotated[
        str, Query(max_length=2000, pattern=PLAIN, description="Where the page is on the site.")
    ] = "/",
) -> Response:
    """The request's body is the page. Everything but the library's pictures stays as it is, byte for byte; a
    page that cannot be rewritten comes back as it is."""
    library_id, settings = await run_in_threadpool(_library, database, slug)
    if settings.address is None:
        raise ApiError("no-address", "set first where the site serves the library's folder (address)")
    kind = request.headers.get("content-type", "text/html")
    facts = PageFacts(database, library_id, _placeholders(request), settings.markup.placeholder)
    try:
        site = PageSource(urljoin(settings.address, address), _charset(kind))
    except ValueError:
        raise ApiError("invalid-request", "the page's address is invalid") from None
    rewritten, fault = await _rewritten(request, site, settings, facts)
    if fault is not None:
        _faults(request).note(library_id, PageFault(page=address, reason=fault[:300]))
    # Written by strangers and sent from our address: nothing in it may act in the console's name.
    headers = {"Content-Security-Policy": "default-src 'none'; sandbox"}
    return StreamingResponse(_pieces(rewritten), media_type=kind, headers=headers)


@router.get("/libraries/{slug}/page-faults", summary="Pages that could not be rewritten")
def page_faults(slug: Slug, actor: Looking, session: Session, request: Request) -> PageFaults:
    """Here or by the middleware in the site; each left as its author wrote it."""
    return _faults(request).of(the_library(session, slug).id)


def _faults(request: Request) -> Faults:
    return service_of(request).page_faults


def _library(database: Database, slug: str) -> tuple[int, Delivery]:
    with database.begin() as session:
        library = the_library(session, slug)
        return library.id, Delivery.model_validate(library.delivery)


def _placeholders(request: Request) -> Placeholders:
    return service_of(request).placeholders


def _charset(content_type: str) -> str | None:
    message = Message()
    message["content-type"] = content_type
    return message.get_content_charset()


async def _rewritten(
    request: Request, site: PageSource, settings: Delivery, facts: PageFacts
) -> tuple[IO[bytes], str | None]:
    """The request's body as a page, rewritten by a child, and what went wrong. Both pages are in files."""
    rewriter = service_of(request).page_rewriter
    with ExitStack() as until_done:
        page = until_done.enter_context(tempfile.TemporaryFile())
        async for piece in request.stream():
            await run_in_threadpool(page.write, piece)
        page.seek(0)
        into = until_done.enter_context(tempfile.TemporaryFile())
        gone = threading.Event()

        def rewrite() -> str | None:
            return rewriter.rewrite(page, into, site, settings, facts.of, gone.is_set)

        watching = asyncio.create_task(_watch(request, gone))
        threads = service_of(request).page_threads
        try:
            fault = await anyio.to_thread.run_sync(rewrite, limiter=threads)
        except AskerLeft:
            raise ClientDisconnect from None
        finally:
            watching.cancel()
        until_done.pop_all()
        page.close()
        return into, fault


async def _watch(request: Request, gone: threading.Event) -> None:
    """Says when whoever asked has left."""
    while not await request.is_disconnected():
        await anyio.sleep(0.25)
    gone.set()


async def _pieces(file: IO[bytes]) -> AsyncIterator[bytes]:
    try:
        while piece := await run_in_threadpool(file.read, _PIECE):
            yield piece
    finally:
        file.close()
